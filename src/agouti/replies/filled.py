"""Structured output, as a caller gets it: a form that has been filled, the value, and how it came about."""

from typing import TYPE_CHECKING, Any, Generic, TypeVar

from msgspec import Struct

from ..core.canonical.structured import Means, Problem
from ..core.canonical.usage import Usage, total_cost, total_usage
from .reply import Reply

T = TypeVar("T")


class FilledAnswer(Struct, frozen=True, kw_only=True):
    """One answer to a form, and whether it fitted.

    Attributes:
        output_method: how the model was held to the form: ``schema``, ``tool``, ``json`` or ``prompt``.
        reply: the answer.
        problem: empty where it fitted; else ``truncated``, ``blanks``, ``refusal``, ``empty``, ``no json``,
            ``broken json``, ``several``, ``no call``, ``invalid``, or ``validator failed`` where a validator of the
            application has raised something else than ``ValueError``.
        errors: what does not fit, one line each.
        repairs_applied: what was mended so that it fitted: ``trailing comma``, ``a list of one``, ...; see the guide.
    """

    output_method: Means
    reply: Reply
    problem: Problem = ""
    errors: tuple[str, ...] = ()
    repairs_applied: tuple[str, ...] = ()

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)


class Filled(Struct, Generic[T], frozen=True):
    """A value that fits.

    Attributes:
        value: of the type that was asked for.
        reply: the answer that it came in.
        answers: all answers in order, the fitting one last.
    """

    value: T
    reply: Reply
    answers: tuple[FilledAnswer, ...]

    @property
    def output_method(self) -> Means:
        """How the model was held to the form: ``schema``, ``tool``, ``json`` or ``prompt``."""
        return self.answers[-1].output_method

    @property
    def repairs_applied(self) -> tuple[str, ...]:
        """What was mended in the answer so that it fitted, without asking again; empty where nothing was."""
        return self.answers[-1].repairs_applied

    @property
    def cost(self) -> float | None:
        """What all answers together cost; `None` where that is not known."""
        return total_cost(each.reply.cost for each in self.answers)

    @property
    def usage(self) -> Usage:
        """Token counts of all answers together, as far as they are told."""
        return total_usage(each.reply.usage for each in self.answers)

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)
