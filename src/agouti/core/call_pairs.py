"""Calls and the results that answer them, paired over a whole conversation."""

from collections.abc import Iterable

from msgspec.structs import replace

from .chat import Message


def named_results(messages: Iterable[Message]) -> list[Message]:
    """The messages, each result with the name of its function, for formats that pair them by it."""
    names: dict[str | None, str | None] = {}
    named: list[Message] = []
    for message in messages:
        # An id may come again in a later round: the nearest call before is the one that is answered.
        names.update({call.id: call.function.name for call in message.tool_calls})
        if message.role == "tool" and not message.name:
            message = replace(message, name=names.get(message.tool_call_id) or "")
        named.append(message)
    return named


def unique_calls(messages: tuple[Message, ...]) -> tuple[Message, ...]:
    """The messages, with ids of their own for calls that have none, or one that an earlier call has.

    Formats without ids number the calls of each reply anew, and so do some servers; others refuse a conversation with
    the same id twice. Results follow their calls.

    >>> from agouti.core.chat import ToolCall, ToolFunction
    >>> asked = Message("assistant", tool_calls=(ToolCall(ToolFunction("f"), "call_0"),))
    >>> twice = [asked, Message("tool", "3", tool_call_id="call_0")]
    >>> [message.tool_call_id or message.tool_calls[0].id for message in unique_calls((*twice, *twice))]
    ['call_0', 'call_0', 'call_0_2', 'call_0_2']
    """
    ids = [call.id for message in messages if message.tool_calls for call in message.tool_calls]
    if None not in ids and "" not in ids and len(set(ids)) == len(ids):
        return messages
    taken = set(ids)
    used: set[str] = set()
    renamed: dict[str | None, list[str]] = {}
    result: list[Message] = []
    for message in messages:
        if message.tool_calls:
            calls = []
            fresh: dict[str | None, list[str]] = {}
            for call in message.tool_calls:
                own = call.id if call.id and call.id not in used else _free(call.id or "call", taken)
                taken.add(own)
                used.add(own)
                fresh.setdefault(call.id, []).append(own)
                calls.append(call if own == call.id else replace(call, id=own))
            renamed.update(fresh)
            message = replace(message, tool_calls=tuple(calls))
        elif message.role == "tool" and (waiting := renamed.get(message.tool_call_id)):
            # Several calls of one turn with the same id: their results come in their order.
            message = replace(message, tool_call_id=waiting.pop(0) if len(waiting) > 1 else waiting[0])
        result.append(message)
    return tuple(result)


def _free(identifier: str, taken: "set[str | None]") -> str:
    number = 2
    while f"{identifier}_{number}" in taken:
        number += 1
    return f"{identifier}_{number}"
