"""Turns in a provider's own form, remembered for callers whose format, or library, has no place for them.

A model that has thought before it called a function wants its thinking back with the result. Most programs send back a
call's identifier, its name and its arguments, and nothing else: by the identifier the turn is found again. Providers
that number the calls of each reply anew have none that tells one conversation from another: such calls get one here.
"""

import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from hashlib import blake2b
from secrets import token_hex

import msgspec
from msgspec.structs import replace

from ..core.canonical.chat import Completion, Message, ProviderTurn, ToolCall, ToolFunction
from ..core.canonical.events import Event, Passed, ToolCallPiece, TurnTold
from ..engine.providers.provider import ProviderState
from ..engine.sealed import marked

# Letters and digits of an identifier, its function's name left out, that no two conversations have by accident.
_LONG = 16
_MAX_TURNS = 5000
_BYTES = 64_000_000
_SECONDS = 6 * 3600.0


def is_unique(call: ToolCall) -> bool:
    """Whether a call's identifier is one that no other conversation has.

    >>> from agouti.core.canonical.chat import ToolFunction
    >>> [is_unique(ToolCall(ToolFunction("frost"), each)) for each in ("call_0", "frost:17", "call_8f3a0c1d2e4b5f60")]
    [False, False, True]
    """
    text = (call.id or "").replace(call.function.name or "\0", "")
    return sum(letter.isalnum() for letter in text) >= _LONG


class UniqueCalls:
    """Gives the calls of one reply identifiers that no other conversation has, where they have none."""

    def __init__(self) -> None:
        self._identifiers: dict[tuple[int, int], str] = {}

    def of(self, completion: Completion) -> Completion:
        """The same reply; calls that were told already keep what they were given."""
        choices = []
        for at, choice in enumerate(completion.choices):
            calls = tuple([self._call(call, at, number) for number, call in enumerate(choice.tool_calls)])
            choices.append(choice if calls == choice.tool_calls else replace(choice, tool_calls=calls))
        return replace(completion, choices=tuple(choices))

    def _call(self, call: ToolCall, choice: int, number: int) -> ToolCall:
        identifier = self._identifiers.get((choice, number))
        if identifier is None and is_unique(call):
            return call
        return replace(call, id=identifier or self._new(choice, number))

    def _new(self, choice: int, number: int) -> str:
        identifier = self._identifiers[choice, number] = f"call_{token_hex(12)}"
        return identifier

    def in_events(self, events: Sequence[Event], provider: ProviderState | None) -> Sequence[Event]:
        """The events of a stream with such identifiers, and with the mark of the provider on its turns.

        The provider's own bytes stay as they are.
        """
        kinds = {type(event) for event in events}
        if not kinds & {ToolCallPiece, TurnTold} or Passed in kinds:
            return events
        found: list[Event] = []
        for event in events:
            if type(event) is ToolCallPiece:
                event = self._with_identifier(event)
            elif type(event) is TurnTold and provider is not None:
                event = replace(event, turn=marked(event.turn, provider))
            found.append(event)
        return found

    def _with_identifier(self, call_piece: ToolCallPiece) -> ToolCallPiece:
        key = (call_piece.choice, call_piece.index)
        if key in self._identifiers:
            return replace(call_piece, id=self._identifiers[key]) if call_piece.id else call_piece
        if call_piece.id is None and call_piece.name is None:
            return call_piece
        call = ToolCall(ToolFunction(call_piece.name), call_piece.id)
        return call_piece if is_unique(call) else replace(call_piece, id=self._new(*key))


class TurnMemory:
    """The latest turns with calls; the oldest are forgotten.

    Args:
        clock: seconds from any beginning.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._by_call: OrderedDict[bytes, tuple[float, int, ProviderTurn]] = OrderedDict()
        self._bytes = 0

    def keep(self, owner: str, completion: Completion) -> None:
        """Remember the turns of a reply that calls something.

        Args:
            owner: whose they are: nobody else gets them.
        """
        for choice in completion.choices:
            provider_turn = choice.provider_turn
            if provider_turn is None or not choice.tool_calls or not all(map(is_unique, choice.tool_calls)):
                continue  # by less than that it could be taken for another one's
            key, size = _key(owner, choice.tool_calls), len(msgspec.json.encode(provider_turn.blocks))
            self._forget(key)
            self._by_call[key] = (self._clock(), size, provider_turn)
            self._bytes += size
        oldest = self._clock() - _SECONDS
        while self._by_call:
            key = next(iter(self._by_call))
            if len(self._by_call) <= _MAX_TURNS and self._bytes <= _BYTES and self._by_call[key][0] > oldest:
                break
            self._forget(key)

    def _forget(self, key: bytes) -> None:
        known = self._by_call.pop(key, None)
        if known is not None:
            self._bytes -= known[1]

    def with_turns(self, owner: str, messages: Iterable[Message]) -> tuple[Message, ...]:
        """The messages of a caller, with the turns that they have come without."""
        found = []
        for message in messages:
            has_turn = message.provider_turn is not None or any(name.startswith("reasoning") for name in message.extra)
            if message.role == "assistant" and message.tool_calls and not has_turn:
                known = self._by_call.get(_key(owner, message.tool_calls))
                if known is not None:
                    message = replace(message, provider_turn=known[2])
            found.append(message)
        return tuple(found)


def _key(owner: str, calls: Iterable[ToolCall]) -> bytes:
    has_turn = [owner]
    for call in calls:
        arguments = call.function.arguments or "{}"
        with suppress(ValueError, RecursionError):  # what is no JSON counts as it stands
            arguments = msgspec.json.encode(msgspec.json.decode(arguments), order="sorted").decode()
        has_turn += [call.id or "", call.function.name or "", arguments]
    return blake2b("\0".join(has_turn).encode("utf-8", "surrogatepass"), digest_size=24).digest()
