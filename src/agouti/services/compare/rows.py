"""Rows of a comparison: one answer of one model to one prompt, and two answers laid before a judge."""

from msgspec import Struct

from ...core.canonical.chat import Json


class ComparedAnswer(Struct, frozen=True, kw_only=True):
    """One answer of one model to one prompt.

    Attributes:
        label, provider, name: of the model.
        prompt: number of the prompt, from 0.
        question: its text.
        repeat: which repetition it is, from 0.
        parameters: what this answer was asked with.
        text: the answer.
        first_token, seconds: from when it was sent to the first piece of text, and to the whole answer.
        waited: seconds before that, for limits and after attempts that failed.
        tokens_per_second: of the output, from the first piece on.
        input_tokens, output_tokens: as the provider counts.
        cost: in ``currency``; `None` where the entry has no price.
        finish_reason: ``stop``, ``length``, ...
        reasoning_tokens, cached_tokens: of those, what was thinking, and what came from the provider's own cache.
        checks: by name, 1 passed and 0 failed, or a share between them.
        check_errors: by name, why a check says nothing: it has failed itself.
        reason, judge_spread: of the model that judges: its words, and the deviation of its scores.
        judge_error: why it has given no verdict.
        judge_cost, judge_currency: what it cost.
        error: why there is no answer; what came of it, and its cost, stand there all the same.
    """

    label: str
    provider: str
    name: str
    prompt: int
    question: str
    repeat: int
    parameters: dict[str, Json] = {}
    text: str = ""
    first_token: float | None = None
    seconds: float | None = None
    waited: float | None = None
    tokens_per_second: float | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    reasoning_tokens: int | None = None
    cached_tokens: int | None = None
    cost: float | None = None
    currency: str | None = None
    finish_reason: str | None = None
    checks: dict[str, float] = {}
    check_errors: dict[str, str] = {}
    reason: str | None = None
    judge_spread: float | None = None
    judge_error: str | None = None
    judge_cost: float | None = None
    judge_currency: str | None = None
    error: str | None = None


def parameters_text(parameters: dict[str, Json]) -> str:
    """A set of parameters in a few words.

    >>> parameters_text({"temperature": 0.7, "seed": 1})
    'temperature 0.7, seed 1'
    """
    return ", ".join(f"{name} {_short(value)}" for name, value in parameters.items())


def _short(value: Json) -> str:
    text = value if isinstance(value, str) else str(value)
    return text if len(text) <= 40 else f"{text[:37]}..."


class JudgedPair(Struct, frozen=True, kw_only=True):
    """Two answers to one prompt, laid before a judge twice, in both orders.

    Attributes:
        label, other: the models.
        prompt, repeat, parameters: which of their answers.
        won: 1 where the first one's was the better, 0 where the other's; 0.5 where the judge saw no difference, or went
            by the order.
        reason: the judge's words.
        cost, currency: what both verdicts cost.
        error: why there is no verdict.
    """

    label: str
    other: str
    prompt: int
    repeat: int
    parameters: dict[str, Json] = {}
    won: float | None = None
    reason: str | None = None
    cost: float | None = None
    currency: str | None = None
    error: str | None = None
