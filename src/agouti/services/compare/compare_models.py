"""Comparisons: several models, the same prompts, side by side, again and again; what they say, take and cost."""

import os
from collections import Counter
from collections.abc import Callable, Coroutine, Iterable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any, Unpack, cast, overload

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..._former import current
from ...calls.calls import Calls, calls_of
from ...calls.options import Options
from ...core.canonical.chat import Completion, Json, Request
from ...core.canonical.parameters import NAMES
from ...core.errors import AgoutiError, RequestError
from ...core.messages.parts import text_of
from ...core.text.suggest import near_hint
from ...engine.attempts.content import content_of
from ...engine.attempts.error_policy import HOLDS_FOR_ALL
from ...engine.call import Call, request_for
from ...engine.effects import RunCallable, Steps, Together
from ...engine.operations.chat import Chat, expressible
from ...engine.operations.chat_streamed import stream
from ...engine.operations.drain import drained
from ...engine.operations.inputs import check_inputs
from ...engine.question import OPTIONS
from ...engine.receiving.accumulate import ReplyAccumulator
from ...replies.reply import Reply
from .. import run
from .answers import Cell, answered, judged_pairs, likeness, reply_again
from .checks import Check, checks_of, expected_of
from .journal import KEY, Journal
from .judge import JUDGE, Judge, digest_of, unjudged
from .results import Comparison, costs_of
from .rows import ComparedAnswer, JudgedPair, parameters_text

if TYPE_CHECKING:
    from ...calls.options import Prompt
    from ...client.async_client import AsyncClient
    from ...client.client import Client

Progress = Callable[[int, int, "dict[str, float]"], None]
"""Told after each answer: how many are there, of how many, and what they cost by currency."""


class CompareOptions(Options, total=False):
    """What `compare` takes besides the options of every call.

    Attributes:
        repeats: how often each is asked.
        parameters: sets of parameters, such as ``[{"temperature": 0}, {"temperature": 0.7}]``; each is asked with.
        expect: what the answer must be, one text or one a prompt; case, spaces and an end mark make no difference.
        contains: what must stand in the answer, one text or one a prompt.
        pattern: a regular expression that is found in the answer.
        form: a type of your own, or a JSON Schema, that the answer fits as JSON.
        check: a function of a `Reply` that gives True, False or a share from 0 to 1; with an `AsyncClient` it may be
            a coroutine.
        judge: label of a model that scores each answer and says why.
        judge_question: what it is to look at.
        judge_repeats: how often it is asked about each answer; the mean counts, and their spread is told.
        judge_pairs: whether it also says which of each two models' answers is the better one, asked in both orders.
        similarity: label of a model for embeddings, by which answers are compared; their words are where it is missing.
        concurrency: how many requests are under way at one provider at a time.
        checkpoint: a file that has each answer as it comes: another run goes on from there.
        progress: told after each answer.
    """

    repeats: int
    parameters: Sequence[Mapping[str, Json]]
    expect: str | Sequence[str] | None
    contains: str | Sequence[str] | None
    pattern: str | None
    form: Any
    check: Callable[[Reply], Any] | None
    judge: str | None
    judge_question: str
    judge_repeats: int
    judge_pairs: bool
    similarity: str | None
    concurrency: int
    checkpoint: str | os.PathLike[str] | None
    progress: Progress | None


_COMPARE_OPTIONS = tuple(sorted(CompareOptions.__annotations__.keys() - Options.__annotations__.keys()))


@overload
def compare(
    client: "Client", labels: Sequence[str], prompts: "str | Sequence[Prompt]", **options: "Unpack[CompareOptions]"
) -> Comparison: ...
@overload
def compare(
    client: "AsyncClient", labels: Sequence[str], prompts: "str | Sequence[Prompt]", **options: "Unpack[CompareOptions]"
) -> Coroutine[Any, Any, Comparison]: ...
def compare(
    client: "Client | AsyncClient",
    labels: Sequence[str],
    prompts: "str | Sequence[Prompt]",
    **options: "Unpack[CompareOptions]",
) -> Comparison | Coroutine[Any, Any, Comparison]:
    """Ask several models the same prompts, side by side, and compare what they say, take and cost.

    No other model takes over for one that fails: a failure is a row with its error. What holds for all requests of a
    model, such as a refused key, ends its part at once. No answer comes from the cache: copies would be compared.

    Args:
        labels: of the models, or ``NAME@PROVIDER``; each once.
        prompts: one text, or a list of prompts as for `Client.ask`.
        options: see `CompareOptions`, and `agouti.calls.options.Options`.

    Returns:
        rows of `agouti.ComparedAnswer`, ``summary`` with a row for each model, ``save``, ``frame`` and ``figure``.

    Raises:
        RequestError: an argument cannot be used, or a model does not take it; nothing has been sent then.
        LabelUnknown: there is no such model.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     result = agouti.compare(client, ["almanac", "almanac-local"], "When do peas go in?", contains="March")
        ...     [(row.label, row.checks["contains"].value) for row in result.summary]
        [('almanac', 1.0), ('almanac-local', 1.0)]
    """
    options_now = current("compare", options)
    compare_options = {name: options_now[name] for name in _COMPARE_OPTIONS if name in options_now}
    chat_options = {name: value for name, value in options_now.items() if name not in _COMPARE_OPTIONS}
    for name in chat_options:
        if name not in OPTIONS and name not in NAMES:
            known = [*_COMPARE_OPTIONS, *OPTIONS, *NAMES]
            raise RequestError(f"compare has no option {name!r}", hint=near_hint(name, known, "option"))
    work = _Work(
        calls_of(client),
        labels=labels,
        prompts=[prompts] if isinstance(prompts, str) else list(prompts),
        repeats=compare_options.get("repeats", 1),
        parameters=[dict(each) for each in compare_options.get("parameters", ({},))],
        options=chat_options,
        concurrency=compare_options.get("concurrency", 4),
    )
    work.checks = checks_of(
        expect=compare_options.get("expect"),
        contains=compare_options.get("contains"),
        pattern=compare_options.get("pattern"),
        form=compare_options.get("form"),
        check=compare_options.get("check"),
        prompts=len(work.prompts),
    )
    judge, similarity = compare_options.get("judge"), compare_options.get("similarity")
    if judge is not None:
        _count("judge_repeats", compare_options.get("judge_repeats", 1))
        expected = expected_of(compare_options.get("expect"), len(work.prompts))
        question, times = compare_options.get("judge_question", JUDGE), compare_options.get("judge_repeats", 1)
        work.judge = Judge(work.calls, judge, question, times, expected)
        work.in_pairs = bool(compare_options.get("judge_pairs", False))
        if judge in labels:
            work.remarks.append(f"{judge} judges answers of its own: take a judge that is not one of those compared")
    elif compare_options.get("judge_pairs"):
        raise RequestError("judge_pairs goes with a judge", hint="Name one: judge=LABEL.")
    if similarity is not None:
        work.calls.target(similarity)
    return run(client, work.steps(similarity, compare_options.get("checkpoint"), compare_options.get("progress")))


class _KnownAnswer(Struct, frozen=True):
    """An answer of an earlier run.

    Attributes:
        row: as it stood in the table.
        reply: the whole answer.
        verdict: a digest of what the judge was asked of it; empty where none was.
    """

    row: ComparedAnswer
    reply: Reply
    verdict: str


class _Work:
    """All that is to be asked, made and seen before the first request."""

    def __init__(
        self,
        calls: Calls,
        *,
        labels: Sequence[str],
        prompts: "list[Prompt]",
        repeats: int,
        parameters: list[dict[str, Json]],
        options: dict[str, Any],
        concurrency: int,
    ) -> None:
        _count("repeats", repeats)
        _count("concurrency", concurrency)
        labels = [labels] if isinstance(labels, str) else list(labels)
        if not labels:
            raise RequestError("there is no model to compare", hint="Pass the labels of two or more.")
        twice = next((label for label in labels if labels.count(label) > 1), None)
        if twice is not None:
            raise RequestError(f"label {twice!r} is there twice", hint="Pass it once; repeats=2 asks it twice.")
        if not prompts:
            raise RequestError("there are no prompts", hint="Pass a text, or a list of prompts.")
        if not parameters:
            raise RequestError("parameters is an empty list", hint="Leave it out, or pass at least one set: [{}].")
        # What takes over for a model would be compared under its name.
        config = calls.config
        models = {label: replace(model, fallback=()) for label, model in config.models.items()}
        self.calls = calls.of(replace(config, models=models)) if calls.only is None else calls
        self.prompts = prompts
        self.concurrency = concurrency
        self.checks: dict[str, Check] = {}
        self.judge: Judge | None = None
        self.in_pairs = False
        self._questions: list[str] = []
        self._ended: set[str] = set()
        self.remarks: list[str] = []
        self.cells = list(self._planned(labels, parameters, repeats, options))

    def _planned(
        self, labels: list[str], parameters: list[dict[str, Json]], repeats: int, options: dict[str, Any]
    ) -> Iterable[Cell]:
        """The cells in the order in which they are asked: the models in turn, so that the load is spread."""
        requests: dict[tuple[str, int, int], tuple[Call, Request]] = {}
        for prompt, text in enumerate(self.prompts):
            for number, each in enumerate(parameters):
                for label in labels:
                    requests[label, prompt, number] = self._call(label, text, {**options, **each})
            self._questions.append(text_of(requests[labels[0], prompt, 0][0].question.messages[-1]))
        for repeat in range(repeats):
            for number, each in enumerate(parameters):
                for prompt in range(len(self.prompts)):
                    for label in labels[prompt % len(labels) :] + labels[: prompt % len(labels)]:
                        call, request = requests[label, prompt, number]
                        yield Cell(label, prompt, each, repeat, call, request)

    def _call(self, label: str, prompt: "Prompt", options: dict[str, Any]) -> tuple[Call, Request]:
        """A call, seen to be one that its model takes, and what it asks.

        Raises:
            AgoutiError: it is none.
        """
        if options.get("cache"):
            raise RequestError(
                "compare asks each answer anew: cache = True does not go with it",
                hint="Leave it out; keep=FILE keeps the answers of a run for the next one.",
            )
        call = self.calls.chat(label, prompt, cast(Options, {**options, "cache": False}), stream=True)
        target = call.targets[0]
        try:
            request = expressible(request_for(call.question, target), target)
            check_inputs(request, target)
        except AgoutiError as error:
            error.with_context(model=label)
            raise
        return call, request

    def steps(
        self, similarity: str | None, keep: str | os.PathLike[str] | None, progress: Progress | None
    ) -> Steps[Comparison]:
        """Ask all that is not kept already."""
        journal = Journal(keep) if keep is not None else None
        try:
            names = {} if journal is None else (yield from self._identities())
            known = self._known_answers(journal, names)
            rows: dict[str, ComparedAnswer] = {}
            costs: dict[str, float] = {}
            lanes: dict[str, list[Cell]] = {}
            for cell in self.cells:
                lanes.setdefault(cell.call.targets[0].provider.label, []).append(cell)

            def one(cell: Cell) -> Steps[None]:
                row = rows[cell.key] = yield from self._row(cell, known.get(cell.key), journal, names.get(cell.key, ""))
                for currency, spent in costs_of([row]).items():
                    costs[currency] = costs.get(currency, 0.0) + spent
                if progress is not None:
                    progress(len(rows), len(self.cells), dict(costs))

            def lane(cells: list[Cell]) -> Steps[None]:
                yield Together((one(cell) for cell in cells), self.concurrency)

            yield Together([lane(cells) for cells in lanes.values()], max(len(lanes), 1))
            result = [rows[cell.key] for cell in self.cells]
            likeness_by_row = None
            if similarity is not None:
                try:
                    likeness_by_row = yield from likeness(self.calls, similarity, result, self.concurrency)
                except AgoutiError as error:  # the answers are there, and paid for
                    self.remarks.append(
                        f"{similarity}: no vectors, so answers are compared by their words: {error.message}"
                    )
            pairs: list[JudgedPair] = []
            if self.in_pairs and self.judge is not None:
                pairs = yield from judged_pairs(self.judge, self.cells, rows, journal, self.concurrency)
        finally:
            if journal is not None:
                journal.close()
        order = {label: at for at, label in enumerate(dict.fromkeys(cell.label for cell in self.cells))}
        result.sort(key=lambda row: (order[row.label], parameters_text(row.parameters), row.prompt, row.repeat))
        # Laying texts beside each other takes its time: not in the event loop.
        comparison: Comparison = yield RunCallable(
            partial(Comparison, result, likeness_by_row, remarks=tuple(self.remarks), pairs=pairs), None
        )
        return comparison

    def _identities(self) -> Steps[dict[str, str]]:
        """What each cell is called in the file that keeps answers: by all that is sent for it, and where to.

        Raises:
            AgoutiError: what an entry needs for its requests cannot be had.
        """
        contents: dict[int, str] = {}
        times: Counter[str] = Counter()
        names: dict[str, str] = {}
        for cell in self.cells:
            content = contents.get(id(cell.request))
            if content is None:
                sent = yield from content_of(cell.call, Chat(cell.call.question), cell.request)
                content = contents[id(cell.request)] = digest_of(cell.label, sent)
            times[content] += 1  # the same prompt may stand there twice, and is asked twice then
            names[cell.key] = f"{content}-{times[content]}"
        return names

    def _row(self, cell: Cell, known: _KnownAnswer | None, journal: Journal | None, name: str) -> Steps[ComparedAnswer]:
        """The answer of a cell with its checks; what is paid for is kept as soon as it is there."""
        judge, verdict = self.judge, ""
        if known is None:
            row, reply = yield from self._ask_cell(cell)
            if reply is None:
                return row
            self._keep(journal, name, row, reply)
        else:
            # It may stand at another place among the prompts now.
            row = replace(
                known.row, prompt=cell.prompt, question=self._questions[cell.prompt], repeat=cell.repeat, error=None
            )
            reply = known.reply
        if judge is not None and journal is not None:
            verdict = yield from judge.identity(row, cell.request)
        if known is not None and (judge is None or known.verdict != verdict):
            row = unjudged(row)
        row = yield from self._checked(row, reply)
        if judge is None or row.error is not None or "judge" in row.checks:
            return row
        row = yield from judge.scored(row, cell.request)
        if "judge" in row.checks:
            self._keep(journal, name, row, reply, verdict)
        return row

    def _keep(self, journal: Journal | None, name: str, row: ComparedAnswer, reply: Reply, verdict: str = "") -> None:
        """Keep an answer; a disk that is full stops no comparison, and costs no answer but at a kill."""
        if journal is not None:
            completion = msgspec.to_builtins(reply.completion)
            try:
                journal.add({KEY: name, **msgspec.to_builtins(row), "completion": completion, "verdict": verdict})
            except RequestError as error:
                if not any(remark.startswith(str(journal.path)) for remark in self.remarks):
                    self.remarks.append(f"{journal.path}: not all answers could be kept there: {error.message}")

    def _known_answers(self, journal: Journal | None, names: dict[str, str]) -> dict[str, _KnownAnswer]:
        """The answers that an earlier run has left, as far as they belong to this one; the last one of each counts."""
        cells = {names[cell.key]: cell for cell in self.cells} if journal is not None else {}
        known: dict[str, _KnownAnswer] = {}
        for record in journal.rows if journal is not None else ():
            cell = cells.get(record[KEY])
            if cell is None:
                continue
            try:
                row = msgspec.convert(record, ComparedAnswer)
                answer = msgspec.convert(record.get("completion"), Completion)
            except msgspec.ValidationError:
                continue
            known[cell.key] = _KnownAnswer(row, reply_again(row, answer, cell), str(record.get("verdict") or ""))
        return known

    def _ask_cell(self, cell: Cell) -> Steps[tuple[ComparedAnswer, Reply | None]]:
        target = cell.call.targets[0]
        row = ComparedAnswer(
            label=cell.label,
            provider=target.provider.label,
            name=target.model.name,
            prompt=cell.prompt,
            question=self._questions[cell.prompt],
            repeat=cell.repeat,
            parameters=cell.parameters,
        )
        if cell.label in self._ended:
            return replace(row, error="not asked: what failed before holds for all requests to this model"), None
        clock = self.calls.clocks.clock
        call = replace(cell.call, started=clock(), until=self._until(cell.call))
        try:
            reply = yield from drained(stream(call, ReplyAccumulator()), _ignore)
        except AgoutiError as error:
            if isinstance(error, HOLDS_FOR_ALL):
                self._ended.add(cell.label)
            row = replace(row, error=f"{type(error).__name__}: {error.message}")
            partial = error.partial
            if isinstance(partial, Reply):  # of a stream that was cut: it has been paid for
                usage, price = partial.usage, target.price
                row = replace(
                    row,
                    text=partial.text,
                    input_tokens=usage.input_tokens,
                    output_tokens=usage.output_tokens,
                    cost=partial.cost,
                    currency=None if price is None else price.currency,
                )
            return row, None
        price = target.price
        return answered(row, reply, None if price is None else price.currency), reply

    def _checked(self, row: ComparedAnswer, reply: Reply) -> Steps[ComparedAnswer]:
        """The row with its checks; of one that was kept, the judge's score stays."""
        judged = self.judge is not None and "judge" in row.checks
        checks = {"judge": row.checks["judge"]} if judged else {}
        broken: dict[str, str] = {}
        for name, check in self.checks.items():
            try:
                checks[name] = yield from check(reply, row.prompt)
            except Exception as error:  # of the application's own function: the answer is there all the same
                broken[name] = f"{type(error).__name__}: {error}"[:300]
        return replace(row, checks=checks, check_errors=broken)

    def _until(self, call: Call) -> float | None:
        """The deadline of a call that was made before its turn came."""
        return None if call.until is None else self.calls.clocks.clock() + call.until - call.started


def _ignore(events: object) -> None:
    """Only the whole answer counts."""


def _count(name: str, value: object) -> None:
    if not isinstance(value, int) or isinstance(value, bool) or value < 1:
        raise RequestError(f"{name} = {value!r} is out of range", hint="It takes a whole number from 1.")
