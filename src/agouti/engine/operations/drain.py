"""Streams taken to their end by a service: events are counted or timed, and not passed on to a caller."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

from ..effects import Emit, Steps

if TYPE_CHECKING:
    from ...core.canonical.events import Event

T = TypeVar("T")


def drained(steps: Steps[T], see: "Callable[[list[Event]], None]") -> Steps[T]:
    """The same steps, whose events go to a function instead of the caller."""
    try:
        effect: Any = next(steps)
        while True:
            if isinstance(effect, Emit):
                see(effect.events)
                effect = steps.send(None)
                continue
            try:
                answer = yield effect
            except BaseException as error:
                effect = steps.throw(error)
            else:
                effect = steps.send(answer)
    except StopIteration as end:
        result: T = end.value
        return result
