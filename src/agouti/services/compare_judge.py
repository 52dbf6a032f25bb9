"""A model that scores the answers of others."""

from hashlib import sha256
from statistics import pstdev
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ..calls import Calls
from ..core.errors import AgoutiError, RequestError
from ..core.policy import HOLDS_FOR_ALL
from ..core.usage import total_cost
from ..engine.effects import Steps
from ..engine.operations.chat import Chat
from ..engine.outgoing import content_of
from .compare_checks import Verdict
from .compare_results import ComparedAnswer

if TYPE_CHECKING:
    from ..engine.operations.structured import FormCall

JUDGE = "Is the answer right, complete and to the point?"


class Judge:
    """A model that scores answers."""

    def __init__(self, calls: Calls, label: str, question: str, repeats: int) -> None:
        if not question.strip():
            raise RequestError("judge_question is empty", hint="Say what the judge is to look at.")
        self.calls, self.label, self.question, self.repeats = calls, label, question, repeats
        self.price = calls.target(label).price
        self._ended = ""

    def _words(self, row: ComparedAnswer) -> str:
        return (
            f"A question was asked:\n\n{row.question}\n\nThis is an answer to it:\n\n{row.text}\n\n"
            f"Judge the answer. {self.question} Give a reason, and a score from 0 (useless) to 10 (perfect)."
        )

    def identity(self, row: ComparedAnswer) -> Steps[str]:
        """A digest of what the judge is asked of an answer, and how often: its verdict belongs to that alone."""
        call = self._call(row)
        content = yield from content_of(call.call, Chat(call.call.question), call.request(call.call.targets[0]))
        return digest_of(content, self.repeats)

    def _call(self, row: ComparedAnswer) -> "FormCall":
        call, _form = self.calls.form(self.label, Verdict, self._words(row), {"cache": False})
        return call

    def scored(self, row: ComparedAnswer) -> Steps[ComparedAnswer]:
        """The row with the judge's score, its words and their spread."""
        scores: list[int] = []
        reasons: list[str] = []
        costs: list[float | None] = []
        for _ in range(self.repeats):
            if self._ended:
                reasons.append(self._ended)
                break
            try:
                filled = yield from self._call(row).steps()
            except AgoutiError as error:
                reasons.append(f"no verdict: {error.what}")
                costs += [answer.reply.cost for answer in error.answers]
                if isinstance(error, HOLDS_FOR_ALL):
                    self._ended = reasons[-1]
            else:
                scores.append(filled.value.score)
                reasons.append(filled.value.reason)
                costs.append(filled.cost)
        checks = {**row.checks, "judge": sum(scores) / len(scores) / 10} if scores else row.checks
        return replace(
            row,
            checks=checks,
            reason=" / ".join(dict.fromkeys(reasons)),
            judge_spread=pstdev(scores) / 10 if len(scores) > 1 else None,
            judge_cost=total_cost(costs) if costs else None,
            judge_currency=None if self.price is None else self.price.currency,
        )


def unjudged(row: ComparedAnswer) -> ComparedAnswer:
    """The row without what another judge, or another question, has made of it."""
    checks = {name: value for name, value in row.checks.items() if name != "judge"}
    return replace(row, checks=checks, reason=None, judge_spread=None, judge_cost=None, judge_currency=None)


def digest_of(*parts: object) -> str:
    """A short name for all of them together."""
    return sha256(repr(parts).encode("utf-8", "surrogatepass")).hexdigest()[:24]
