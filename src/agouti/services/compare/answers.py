"""What is asked of whom in a comparison, and what becomes of its answer: a row, laid beside others."""

from collections.abc import Sequence
from contextlib import suppress
from itertools import combinations

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ...calls.calls import Calls
from ...core.canonical.chat import Completion, Json, Request
from ...core.errors import RequestError
from ...engine.call import Call
from ...engine.effects import Steps, Together
from ...replies.reply import Reply
from ...tables.statistics import speed
from .journal import KEY, Journal
from .judge import Judge, digest_of
from .rows import ComparedAnswer, JudgedPair, parameters_text


class Cell(Struct, frozen=True):
    """One question to one model."""

    label: str
    prompt: int
    parameters: dict[str, Json]
    repeat: int
    call: Call
    request: Request

    @property
    def key(self) -> str:
        """Its place in this run."""
        return msgspec.json.encode((self.label, self.parameters, self.prompt, self.repeat)).decode()


def answered(row: ComparedAnswer, reply: Reply, currency: str | None) -> ComparedAnswer:
    """The row with what came."""
    # Our own waiting, for limits and after attempts that failed, is not the model's.
    seconds = sum(each.seconds for each in reply.attempts if each.outcome == "answered")
    waited = max(reply.elapsed - seconds, 0.0)
    tokens, first = reply.usage.output_tokens, reply.first_token
    first = None if first is None else max(first - waited, 0.0)
    writing = None if first is None else seconds - first
    return replace(
        row,
        text=reply.text,
        first_token=first,
        seconds=seconds,
        waited=waited,
        tokens_per_second=speed(tokens, seconds, writing),
        input_tokens=reply.usage.input_tokens,
        output_tokens=tokens,
        reasoning_tokens=reply.usage.reasoning_tokens,
        cached_tokens=reply.usage.cached_tokens,
        cost=reply.cost,
        currency=currency,
        finish_reason=reply.finish_reason,
    )


def reply_again(row: ComparedAnswer, answer: Completion, cell: Cell) -> Reply:
    """The reply of a row that was kept."""
    return Reply.of(
        answer,
        label=row.label,
        provider=row.provider,
        price=cell.call.targets[0].price,
        elapsed=row.seconds or 0.0,
        attempts=(),
        body=b"",
        headers={},
        first_token=row.first_token,
    )


def likeness(
    calls: Calls, label: str, rows: list[ComparedAnswer], concurrency: int
) -> Steps[dict[tuple[str, str, int], float]]:
    """How alike the answers to one prompt are by their vectors."""
    cells: dict[tuple[str, str, int], list[str]] = {}
    for row in rows:
        if row.error is None and row.text.strip():
            cells.setdefault((row.label, parameters_text(row.parameters), row.prompt), []).append(row.text)
    texts = list(dict.fromkeys(text for cell in cells.values() if len(cell) > 1 for text in cell))
    if not texts:
        return {}
    embeddings = yield from calls.embedding(label, texts, dimensions=None, concurrency=concurrency, options={})
    import numpy

    lengths = numpy.linalg.norm(embeddings.vectors, axis=1, keepdims=True)
    unit = embeddings.vectors / numpy.where(lengths == 0, 1, lengths)
    at = {text: number for number, text in enumerate(texts)}
    found: dict[tuple[str, str, int], float] = {}
    for key, cell in cells.items():
        if len(cell) > 1:
            vectors = unit[[at[text] for text in cell]]
            every = vectors @ vectors.T
            found[key] = float((every.sum() - numpy.trace(every)) / (len(cell) * (len(cell) - 1)))
    return found


def judged_pairs(
    judge: Judge,
    judged_cells: Sequence[Cell],
    rows: dict[str, ComparedAnswer],
    journal: Journal | None,
    concurrency: int,
) -> Steps[list[JudgedPair]]:
    """Each two models' answers to a prompt before the judge; what an earlier run has had judged stays."""
    verdicts = {each[KEY]: each for each in (journal.rows if journal is not None else ()) if "won" in each}
    cells: dict[tuple[int, int, str], list[Cell]] = {}
    for cell in judged_cells:
        if rows[cell.key].error is None:
            cells.setdefault((cell.prompt, cell.repeat, parameters_text(cell.parameters)), []).append(cell)

    def one(first: Cell, second: Cell) -> Steps[JudgedPair]:
        first_answer, second_answer = (rows[first.key], first.request), (rows[second.key], second.request)
        name = digest_of("pair", (yield from judge.identity_of_pair(first_answer, second_answer)))
        if name in verdicts:
            known = {key: value for key, value in verdicts[name].items() if key in JudgedPair.__struct_fields__}
            # The verdict is on texts: others may have written the same ones.
            return replace(
                msgspec.convert(known, JudgedPair),
                label=first.label, other=second.label,
                prompt=first.prompt, repeat=first.repeat, parameters=first.parameters,
            )  # fmt: skip
        pair = yield from judge.better(first_answer, second_answer)
        if journal is not None and pair.won is not None:
            with suppress(RequestError):  # a full disk costs no verdict but at a kill
                journal.add({KEY: name, **msgspec.to_builtins(pair)})
        return pair

    order = list(dict.fromkeys(cell.label for cell in judged_cells))
    both = [
        (first, second)
        for each in cells.values()
        for first, second in combinations(sorted(each, key=lambda cell: order.index(cell.label)), 2)
    ]
    judged: list[JudgedPair] = yield Together((one(*each) for each in both), concurrency)
    return judged
