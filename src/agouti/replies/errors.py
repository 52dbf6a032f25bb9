"""Errors that carry replies: what had come of a stream, and answers that do not fit their form."""

from typing import TYPE_CHECKING

from ..core.canonical.structured import Problem
from ..core.errors import ReplyError

if TYPE_CHECKING:
    from typing import Unpack

    from ..core.errors import Facts
    from .filled import FilledAnswer
    from .reply import Reply


class StreamCut(ReplyError):
    """The stream ended before the reply was complete; ``partial`` is what had come."""

    may_pass = True
    partial: "Reply | None"
    default_hint = "What had come is in error.partial; ask again for the whole answer."


class NotFilled(ReplyError):
    """No answer fitted the form.

    Attributes:
        problem: of the last answer: ``truncated``, ``blanks``, ``refusal``, ``empty``, ``no json``, ``broken json``,
            ``several``, ``no call`` or ``invalid``.
        answers: every answer, and what was wrong with it.
    """

    default_hint = "A stronger model, a plainer form or more repairs may help; every answer is in error.answers."

    def __init__(
        self,
        message: str,
        /,
        *,
        problem: "Problem" = "",
        answers: "tuple[FilledAnswer, ...]" = (),
        **facts: "Unpack[Facts]",
    ) -> None:
        super().__init__(message, **facts)
        self.problem: Problem = problem
        self.answers = answers
