"""Turns in a provider's own form, remembered for callers whose format, or library, has no place for them.

A model that has thought before it called a function wants its thinking back with the result. Most programs send back a
call's identifier, its name and its arguments, and nothing else: by these the turn is found again.
"""

import time
from collections import OrderedDict
from collections.abc import Callable, Iterable
from contextlib import suppress
from hashlib import blake2b

import msgspec
from msgspec.structs import replace

from ..core.chat import Completion, Message, ProviderTurn, ToolCall

_MOST = 5000
_BYTES = 64_000_000
_SECONDS = 6 * 3600.0


class TurnMemory:
    """The latest turns with calls; the oldest are forgotten.

    Args:
        clock: seconds from any beginning.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._turns: OrderedDict[bytes, tuple[float, int, ProviderTurn]] = OrderedDict()
        self._bytes = 0

    def keep(self, owner: str, completion: Completion) -> None:
        """Remember the turns of a reply that calls something.

        Args:
            owner: whose they are: nobody else gets them.
        """
        for choice in completion.choices:
            turn = choice.provider_turn
            if turn is None or not choice.tool_calls:
                continue
            key, size = _key(owner, choice.tool_calls), len(msgspec.json.encode(turn.blocks))
            self._forget(key)
            self._turns[key] = (self._clock(), size, turn)
            self._bytes += size
        oldest = self._clock() - _SECONDS
        while self._turns:
            key = next(iter(self._turns))
            if len(self._turns) <= _MOST and self._bytes <= _BYTES and self._turns[key][0] > oldest:
                break
            self._forget(key)

    def _forget(self, key: bytes) -> None:
        known = self._turns.pop(key, None)
        if known is not None:
            self._bytes -= known[1]

    def with_turns(self, owner: str, messages: Iterable[Message]) -> tuple[Message, ...]:
        """The messages of a caller, with the turns that they have come without."""
        found = []
        for message in messages:
            if message.role == "assistant" and message.tool_calls and message.provider_turn is None:
                known = self._turns.get(_key(owner, message.tool_calls))
                if known is not None:
                    message = replace(message, provider_turn=known[2])
            found.append(message)
        return tuple(found)


def _key(owner: str, calls: Iterable[ToolCall]) -> bytes:
    told = [owner]
    for call in calls:
        arguments = call.function.arguments or "{}"
        with suppress(ValueError, RecursionError):  # what is no JSON counts as it stands
            arguments = msgspec.json.encode(msgspec.json.decode(arguments), order="sorted").decode()
        told += [call.id or "", call.function.name or "", arguments]
    return blake2b("\0".join(told).encode("utf-8", "surrogatepass"), digest_size=24).digest()
