"""A form that has been filled: the value, and how it came about."""

from typing import Generic, TypeVar

from msgspec import Struct

from .chat import Usage
from .reply import Reply

T = TypeVar("T")


class Filling(Struct, frozen=True):
    """One answer, and whether it fitted.

    Attributes:
        means: how the model was held to the form: ``schema``, ``tool``, ``json`` or ``prompt``.
        reply: the answer.
        problem: empty where it fitted; else ``truncated``, ``blanks``, ``refusal``, ``empty``, ``no json``,
            ``broken json``, ``several``, ``no call`` or ``invalid``.
        errors: what does not fit, one line each.
    """

    means: str
    reply: Reply
    problem: str = ""
    errors: tuple[str, ...] = ()


class Filled(Struct, Generic[T], frozen=True):
    """A value that fits.

    Attributes:
        value: of the type that was asked for.
        reply: the answer that it came in.
        attempts: all answers in order, the fitting one last.
    """

    value: T
    reply: Reply
    attempts: tuple[Filling, ...]

    @property
    def means(self) -> str:
        """How the model was held to the form: ``schema``, ``tool``, ``json`` or ``prompt``."""
        return self.attempts[-1].means

    @property
    def cost(self) -> float | None:
        """What all answers together cost; `None` where that is not known."""
        costs = [each.reply.cost for each in self.attempts]
        return None if None in costs else sum(cost for cost in costs if cost is not None)

    @property
    def usage(self) -> Usage:
        """Token counts of all answers together, as far as they are told."""
        return total([each.reply.usage for each in self.attempts])


def total(usages: list[Usage]) -> Usage:
    """Counts added up; `None` where one of them is not told.

    >>> total([Usage(2, 3, 5), Usage(4, 1, 5)])
    Usage(input_tokens=6, output_tokens=4, total_tokens=10, cached_tokens=None, reasoning_tokens=None)
    """
    found: dict[str, int | None] = {}
    for name in Usage.__struct_fields__:
        counts = [getattr(usage, name) for usage in usages]
        found[name] = None if None in counts else sum(counts)
    return Usage(**found)
