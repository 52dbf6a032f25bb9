"""Batches: one prompt for every row of a file; what is paid is kept, whatever happens, and asked once."""

import os
import sys
from collections.abc import Callable, Coroutine, Mapping
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING, Any, Unpack, overload

from msgspec import Struct
from msgspec.structs import replace

from ..._former import current
from ...batches.acceptance import accept_of
from ...batches.batch import Batch, BatchPlan
from ...batches.concurrency import Pace
from ...batches.cost_estimate import planned
from ...batches.in_memory import Memory
from ...batches.input_rows import REQUEST_KEY, InputScan, scan_rows
from ...batches.progress_display import ShownProgress
from ...batches.prompts import NothingToAsk, RowPrompt, RowPrompts, Template
from ...batches.provider_batches import DeferredRun
from ...batches.result_file import Results
from ...batches.result_lines import CUT
from ...batches.row_requests import Answers, Requests, RowAsker, Values, check_call
from ...batches.run import Work
from ...batches.types import Progress, Settings
from ...calls.calls import Calls, calls_of
from ...core.canonical.vectors import VectorsRequest
from ...core.errors import AgoutiError, RequestError
from ...core.text.suggest import near_hint
from ...engine.attempts.content import content_of
from ...engine.call import request_for
from ...engine.effects import RunCallable, Steps
from ...engine.groups import Group
from ...engine.operations.chat import Chat, expressible
from ...engine.operations.vectors import Embed
from .. import run
from .checks import again_of, check, check_apart, names_of, until_of
from .options import BATCH_OPTIONS, BatchOptions
from .run_budgets import RUN_BUDGETS, run_budget, run_budgets
from .threads import prepare_in_thread

if TYPE_CHECKING:
    from ...batches.cluster import ClusterRun
    from ...client.async_client import AsyncClient
    from ...client.client import Client

# What a client takes on at once while the pace is looked for: threads cost more than tasks.
_THREADS, _TASKS = 64, 256


class _Prepared(Struct, frozen=True):
    """A run that can begin."""

    calls: Calls
    work: Work
    ask: RowAsker
    results: Results | Memory
    scan: InputScan
    batch_options: dict[str, Any]
    schema: Any
    deferred: DeferredRun | None = None
    cluster: "ClusterRun | None" = None


@overload
def batch(client: "Client", label: str, rows: Any, **options: "Unpack[BatchOptions]") -> Batch: ...
@overload
def batch(
    client: "AsyncClient", label: str, rows: Any, **options: "Unpack[BatchOptions]"
) -> Coroutine[Any, Any, Batch]: ...
def batch(
    client: "Client | AsyncClient", label: str, rows: Any, **options: "Unpack[BatchOptions]"
) -> Batch | Coroutine[Any, Any, Batch]:
    """Ask one model about every row of a file: for an answer, a value of a form, or a vector.

    Each result is on disk before the next one is waited for. The same call again goes on where it was stopped, however
    that was: no row that has its result is asked again. A row that fails has its error, and the others go on.

    Args:
        label: of the model, or ``NAME@PROVIDER``.
        rows: a file (.jsonl, .csv, .tsv, .parquet, or a line each of plain text), a pandas frame, an iterable of dicts
            or texts. Lines of an OpenAI-compatible batch (``custom_id``, ``body``) are requests themselves.
        options: see `BatchOptions`, and `agouti.calls.options.Options`.

    Returns:
        ``done``, ``failed``, ``found``, ``costs``, and the rows: see `agouti.batches.batch.Batch`.

    Raises:
        RequestError: an argument cannot be used, or rows or results are not what they must be; nothing is lost.
        AgoutiError: what holds for all rows, such as a refused key; what came before is kept.

    Example:
        >>> import agouti, agouti.standins
        >>> notes = [{"crop": "pea", "note": "18 of 24 up"}, {"crop": "kale", "note": "none up"}]
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     made = agouti.batch(client, "almanac", notes, prompt="Is {crop} well? {note}", max_tokens=5)
        >>> made.done, made.failed, [row.finish_reason for row in made]
        (2, 0, ['length', 'length'])
    """
    from ...client.client import Client

    if isinstance(client, Client):
        prepared = _prepare(client, label, rows, options)
        with run_budgets(client, label, prepared.batch_options, prepared.results.costs):
            return run(client, _steps(client, prepared))
    return _awaited(client, label, rows, options)


async def _awaited(client: "AsyncClient", label: str, rows: Any, options: Mapping[str, Any]) -> Batch:
    prepare = partial(_prepare, client, label, rows, options)
    if isinstance(rows, (str, os.PathLike, list, tuple)):
        prepared = await prepare_in_thread(prepare)
    else:  # an iterable of the application's own may belong to this thread
        prepared = prepare()
    with run_budgets(client, label, prepared.batch_options, prepared.results.costs):
        return await run(client, _steps(client, prepared))


def plan(client: "Client | AsyncClient", label: str, rows: Any, **options: "Unpack[BatchOptions]") -> BatchPlan:
    """What `batch` with the same arguments is likely to take: rows, tokens, cost, time. Nothing is sent.

    Tokens of prompts are estimated; those of answers are as many as the answers that are there have on average, or as
    many as the cap allows.

    Raises:
        RequestError: an argument cannot be used, or rows or results are not what they must be.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     agouti.batch_plan(client, "almanac", ["Peas?", "Beans?"], max_tokens=50).output_tokens
        100
    """
    prepared = _prepare(client, label, rows, options, trial=True)
    calls = calls_of(client)
    try:
        model = calls.target(label).model
        provider = calls.config.providers.get(model.provider)
        return planned(
            prepared.work,
            prepared.ask,
            prepared.results,
            vectors=bool(prepared.batch_options.get("embed")),
            limits=(model.limits, provider.limits if provider is not None else None),
        )
    finally:
        prepared.results.abandon()


def _prepare(
    client: "Client | AsyncClient", label: str, rows: Any, options: Mapping[str, Any], *, trial: bool = False
) -> _Prepared:
    """All that can be wrong is found before the first request.

    Raises:
        AgoutiError: something is.
    """
    options = current("batch", options)
    batch_options = {name: options[name] for name in BATCH_OPTIONS if options.get(name) is not None}
    chat_options = {name: value for name, value in options.items() if name not in BATCH_OPTIONS}
    check(batch_options, chat_options, BATCH_OPTIONS)
    if "report" in batch_options:
        check_apart(rows, batch_options["report"])
    until = until_of(batch_options.get("until"), calls_of(client).clocks.now())
    calls = calls_of(client).tagged({})  # its own: its calls are a group
    calls.waits = False
    target = calls.target(label)
    scan = scan_rows(
        rows,
        key=batch_options.get("id_column"),
        limit=batch_options.get("limit"),
        delimiter=batch_options.get("delimiter"),
        encoding=batch_options.get("encoding", ""),
    )
    requests = scan.are_requests and not {"prompt", "column", "form", "embed"} & batch_options.keys()
    if requests and REQUEST_KEY in scan.columns:
        batch_options.setdefault("id_column", REQUEST_KEY)
    ask, together, schema = _row_asker(calls, label, scan, batch_options, chat_options, requests=requests)
    for name in RUN_BUDGETS:
        if name in batch_options:
            run_budget(client, label, batch_options[name], name)
    if scan.first is not None and together is None:
        with suppress(NothingToAsk):  # of this row alone
            check_call(ask.call(ask.prompt(scan.first)))
    question: dict[str, Any] = {
        "label": label,
        "model": f"{target.model.name}@{target.model.provider}",
        # Results that are there were written under the former names.
        **{_WRITTEN.get(name, name): batch_options[name] for name in _QUESTION_OPTIONS if name in batch_options},
        **({"form": schema} if schema is not None else {}),
        "entry": {"system": target.model.system, "parameters": target.model.parameters},
        **{_WRITTEN.get(name, name): value for name, value in chat_options.items() if name not in _OF_CALLS},
    }
    from ...client.client import Client

    results = _results(batch_options, question, scan.schema, trial=trial)
    limit = _THREADS if isinstance(client, Client) else _TASKS
    limit = max(limit, batch_options.get("concurrency", 0))
    if scan.source.total is not None:  # no more of them than can be busy
        limit = max(min(limit, scan.source.total), 1)
    work = Work(
        scan.source,
        ask,
        results,
        Pace(batch_options.get("concurrency"), limit, calls.clocks.clock),
        Settings(
            key=batch_options.get("id_column"),
            limit=batch_options.get("limit"),
            sample=batch_options.get("sample"),
            retry_failed=batch_options.get("retry_failed") is True,
            stop_after=batch_options.get("max_same_failures", 25),
            patience=batch_options.get("give_up_after", 300.0),
            stop_at_share=batch_options.get("stop_at_share"),
            until=until,
        ),
        calls.clocks,
        limit=min(batch_options.get("concurrency", limit), limit),
        report=_progress_callback(batch_options.get("progress")),
        together=together,
        with_columns=not requests,
    )
    try:
        deferred = _deferred(calls, label, ask, work, results, scan, batch_options)
        cluster = (
            _cluster(client, label, ask, work, batch_options, chat_options) if "cluster" in batch_options else None
        )
    except BaseException:
        results.abandon()
        raise
    return _Prepared(calls, work, ask, results, scan, batch_options, schema, deferred, cluster)


def _progress_callback(progress: "Callable[[Progress], None] | bool | None") -> "Callable[[Progress], None] | None":
    """What is told how far it is."""
    if progress is True:
        return None if sys.stderr is None else ShownProgress(watched=sys.stderr.isatty())
    return progress or None


_WRITTEN = {"id_column": "key", "variables": "blanks"}
_QUESTION_OPTIONS = ("prompt", "column", "dimensions", "id_column", "embed", "image_columns", "file_columns")


def _deferred(
    calls: Calls,
    label: str,
    ask: RowAsker,
    work: Work,
    results: Results | Memory,
    scan: InputScan,
    batch_options: dict[str, Any],
) -> DeferredRun | None:
    """What hands the rows over, where that is asked for."""
    if not (batch_options.get("deferred") or batch_options.get("cancel_deferred")):
        return None
    if not isinstance(results, Results):
        raise RequestError("deferred goes with out", hint="Name a file for the results: out=... (--out)")
    if scan.source.total is None:
        raise RequestError("deferred rows are gone through more than once", hint="Pass a list or a file.")
    target = calls.target(label)
    about = replace(calls.about(target.provider.label), targets=(target,), waits=True)
    return DeferredRun(
        about,
        ask,
        work,
        results,
        calls.clocks.now,
        batch_options.get("give_up_after", 300.0),
        names_of(batch_options.get("take_over", ())),
    )


def _cluster(
    client: "Client | AsyncClient",
    label: str,
    ask: RowAsker,
    work: Work,
    batch_options: dict[str, Any],
    chat_options: dict[str, Any],
) -> "ClusterRun":
    """What sends the rows to workers."""
    import pickle

    from ...batches import cluster
    from ...batches.embedding_rows import PORTION, VectorsAsked
    from .worker import run_rows

    cluster.check_installed()
    kind = {Answers: "answers", Values: "values", Requests: "requests", VectorsAsked: "vectors"}[type(ask)]
    options = chat_options | {
        name: batch_options[name] for name in ("output_method", "max_repairs") if name in batch_options
    }
    config = client.config
    request = cluster.BatchRequest(
        config=cluster.packed(config),
        file=config.files[-1] if config.files else "",
        label=label,
        kind=kind,
        form=cluster.packed_form(batch_options["form"], ask.form) if isinstance(ask, Values) else b"",
        options=pickle.dumps(options),
        dimensions=batch_options.get("dimensions"),
        lists=str(batch_options.get("out", ".jsonl")).lower().endswith(".jsonl"),
    )
    rows = PORTION if kind == "vectors" else 8
    is_local = config.limit_store is None or config.limit_store.path is not None
    return cluster.ClusterRun(
        batch_options["cluster"],
        request,
        work,
        batch_options.get("concurrency"),
        run_rows=run_rows,
        rows=rows,
        one_machine=is_local and cluster.has_limits(config),
    )


# Of an option that is no part of what is asked, another run may have another one.
_OF_CALLS = ("deadline", "timeouts", "retries", "headers", "tags")


def _row_asker(
    calls: Calls,
    label: str,
    scan: InputScan,
    batch_options: Mapping[str, Any],
    chat_options: dict[str, Any],
    *,
    requests: bool,
) -> tuple[RowAsker, Any, Any]:
    """What asks, what asks portions of rows where that is done, and the schema of a form."""
    if requests:
        return Requests(calls, label, chat_options), None, None
    for name in ("image_columns", "file_columns"):
        for column in batch_options.get(name, ()):
            if column not in scan.columns:
                raise RequestError(
                    f"there is no column {column!r} ({name})", hint=near_hint(column, scan.columns, "column")
                )
    if "column" in batch_options:
        template = Template.of_column(batch_options["column"], scan.columns)
    else:
        template = Template(batch_options.get("prompt"), scan.columns)
    prompts = RowPrompts(
        template, batch_options.get("image_columns", ()), batch_options.get("file_columns", ()), scan.folder
    )
    if batch_options.get("embed"):
        from ...batches.embedding_rows import VectorsAsked
        from ...engine.operations.vectors import ability_of

        ability_of(calls.target(label))
        lists = str(batch_options.get("out", ".jsonl")).lower().endswith(".jsonl")
        vectors = VectorsAsked(calls, label, prompts, batch_options.get("dimensions"), chat_options, lists=lists)
        return vectors, vectors.together, None
    if "form" in batch_options:
        from ...forms.build import form_of

        form = form_of(batch_options["form"])
        options = chat_options | {
            name: batch_options[name] for name in ("output_method", "max_repairs") if name in batch_options
        }
        return Values(calls, label, prompts, form, options, accept_of(batch_options.get("accept"))), None, form.schema
    return Answers(calls, label, prompts, chat_options, accept_of(batch_options.get("accept"))), None, None


def _results(
    batch_options: Mapping[str, Any], question: Mapping[str, Any], schema: bytes, *, trial: bool
) -> Results | Memory:
    if trial and batch_options.get("restart"):
        return Memory()  # nothing that is there counts
    if "out" not in batch_options:
        for name in (
            "retry_failed",
            "retry_cut",
            "restart",
            "ignore_changes",
            "preserve_order",
            "quote_formulas",
            "budget_in_all",
        ):
            if batch_options.get(name):
                raise RequestError(f"{name} goes with out", hint="Name a file for the results: out=...")
        return Memory(batch_options.get("on_row"))
    return Results(
        batch_options["out"],
        question,
        keyed="id_column" in batch_options,
        in_order=batch_options.get("preserve_order", False),
        restart=batch_options.get("restart", False),
        keep=batch_options.get("ignore_changes", False),
        trial=trial,
        schema=schema,
        retry_kinds=again_of(batch_options),
        quote_formulas=batch_options.get("quote_formulas", False),
    )


def _steps(client: "Client | AsyncClient", prepared: _Prepared) -> Steps[Batch]:
    """The run, its results put away however it ends."""
    calls = prepared.calls
    call = prepared.ask.call(_SAMPLE)
    with Group(call, "batch") as group:
        calls.group = group.number
        return (yield from _run_through(client, prepared))


def _run_through(client: "Client | AsyncClient", prepared: _Prepared) -> Steps[Batch]:
    work, results = prepared.work, prepared.results
    started_at = prepared.calls.clocks.clock()
    report, report_text = prepared.batch_options.get("report"), work.report

    def put_away() -> None:
        if (
            isinstance(report_text, ShownProgress) and prepared.batch_options["progress"] is True
        ):  # another one ends with its maker
            report_text.end()
        work.count()
        results.finish(list(work.names), saw_all=work.saw_all)

    try:
        if isinstance(results, Results):
            results.check_request(
                (yield from _request_content(client, prepared)),
                keep=prepared.batch_options.get("ignore_changes", False),
            )
            if prepared.deferred is None and (submitted_rows := sum(each[2] for each in results.submissions())):
                raise RequestError(
                    f"{submitted_rows} rows of {results.out} were handed over, and may be answered by now",
                    hint="Say --deferred (deferred=True) to fetch what came of them, or --restart to begin again.",
                )
        if prepared.deferred is not None:
            yield from prepared.deferred.steps(cancel=bool(prepared.batch_options.get("cancel_deferred")))
        elif prepared.cluster is not None:
            yield from prepared.cluster.steps()
        else:
            yield from work.steps()
    except BaseException as error:
        with suppress(RequestError):  # what has stopped it says more
            put_away()
            if report is not None:
                _batch_of(prepared, started_at, stopped=error).report(report)
        raise
    yield RunCallable(put_away)  # beside the event loop: files are written anew
    batch = _batch_of(prepared, started_at)
    if report is not None:
        yield RunCallable(partial(batch.report, report))
    return batch


def _batch_of(prepared: _Prepared, started_at: float, stopped: BaseException | None = None) -> Batch:
    """What has become of a run."""
    work, results = prepared.work, prepared.results
    ends_early = prepared.deferred is not None or work.is_over or stopped is not None
    return Batch(
        results,
        done=work.done,
        failed=work.failed_in_all,
        failed_now=work.failed,
        remaining=work.remaining if ends_early else 0,
        found=work.found,
        costs=work.costs,
        costs_in_all=dict(results.costs),
        kinds={reason: count for reason, count in work.kinds.items() if reason != CUT},
        cut=work.kinds.get(CUT, 0),
        seconds=prepared.calls.clocks.clock() - started_at,
        names=list(work.names),
        failures=tuple(work.failures),
        remarks=(*prepared.scan.remarks, *results.remarks, *(prepared.deferred.remarks if prepared.deferred else ())),
        read=prepared.ask.form.read if isinstance(prepared.ask, Values) else None,
        stopped="" if stopped is None else _stop_reason(stopped),
    )


def _stop_reason(stopped: BaseException) -> str:
    """What has stopped a run, and what to do, in a line."""
    if isinstance(stopped, AgoutiError):
        return ". ".join(filter(None, (stopped.message.rstrip("."), stopped.hint)))
    return " ".join(str(stopped).split()) or type(stopped).__name__


def _request_content(client: "Client | AsyncClient", prepared: _Prepared) -> Steps[str]:
    """A digest of what goes out with each row besides the row itself: where to, how, by which entry."""
    ask = prepared.ask
    call = ask.call(_SAMPLE)
    target = call.targets[0]
    read = f"{target.model.reasoning_tag}\0"
    if prepared.batch_options.get("embed"):
        operation: Any = Embed(["-"], dimensions=prepared.batch_options.get("dimensions"), extra={})
        request: Any = VectorsRequest(target.model.name, ["-"], prepared.batch_options.get("dimensions"))
    else:
        operation = Chat(call.question)
        request = (
            ask.form_call(_SAMPLE).request(target) if isinstance(ask, Values) else request_for(call.question, target)
        )
        request = expressible(request, target)
    return read + (yield from content_of(call, operation, request))


_SAMPLE = RowPrompt('{"messages": [{"role": "user", "content": "-"}]}')
