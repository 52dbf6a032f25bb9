"""Groups of calls that belong together: a fill with its repairs, a question with its tools, a run over many rows."""

import logging
from collections.abc import Awaitable, Callable
from contextvars import ContextVar
from itertools import count
from types import TracebackType
from typing import TYPE_CHECKING, Any

from .hooks import GroupDetails, GroupHook

if TYPE_CHECKING:
    from .call import Call

log = logging.getLogger("agouti.hooks")
_NUMBERS = count(1)
AROUND: ContextVar[int] = ContextVar("agouti_group", default=0)
"""Number of the group in whose function this code runs: calls that are made there are part of it."""


class Group:
    """A group under way: hooks are told when it begins and how it ends.

    Args:
        call: one of its calls: its hooks are told, and the group that it is part of is around this one.
        operation: what it does: ``fill``, ``tools``, ``execute_tool``, ``batch``.
        name: of the form or the function.

    Attributes:
        number: for the calls in it; that of the group around it where no hook wants to know.
    """

    def __init__(self, call: "Call", operation: str, name: str = "") -> None:
        # To ask a protocol for its instances takes ten times as long as to look at the classes.
        self._hooks: list[Any] = [hook for hook in call.hooks if GroupHook in type(hook).__mro__]
        self.number = call.group
        if self._hooks:
            self.number = next(_NUMBERS)
            tags = call.question.tags
            self._details = GroupDetails(self.number, operation, name, call.label, call.group, tags)

    def __enter__(self) -> "Group":
        for hook in self._hooks:
            try:
                hook.begin_group(self._details)
            except Exception:
                log.exception("a hook failed")
        return self

    def around(self, function: Callable[[], Any]) -> Callable[[], Any]:
        """The function, with the calls that it makes being part of this group."""
        return (lambda: self._around(function)) if self._hooks else function

    def _around(self, function: Callable[[], Any]) -> Any:
        token = AROUND.set(self.number)
        try:
            result = function()
        finally:
            AROUND.reset(token)
        return self._awaited(result) if hasattr(result, "__await__") else result

    async def _awaited(self, result: Awaitable[Any]) -> Any:
        token = AROUND.set(self.number)
        try:
            return await result
        finally:
            AROUND.reset(token)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, traceback: TracebackType | None
    ) -> None:
        for hook in self._hooks:
            try:
                hook.end_group(self._details, error)
            except Exception:
                log.exception("a hook failed")
