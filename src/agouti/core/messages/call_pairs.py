"""Calls and the results that answer them, paired over a whole conversation."""

import re
from collections.abc import Iterable
from itertools import groupby
from zlib import crc32

from msgspec.structs import replace

from ..canonical.chat import Message, ToolCall, ToolFunction
from .parts import text_of


def named_results(messages: Iterable[Message]) -> list[Message]:
    """The messages, each result with the name of its function and in the order of the calls.

    For formats that pair them by both.
    """
    names: dict[str | None, str | None] = {}
    named: list[Message] = []
    for message in messages:
        # An id may come again in a later round: the nearest call before is the one that is answered.
        names.update({call.id: call.function.name for call in message.tool_calls})
        if message.role == "tool" and not message.name:
            message = replace(message, name=names.get(message.tool_call_id) or "")
        named.append(message)
    return _in_order(named)


def _in_order(messages: list[Message]) -> list[Message]:
    """The messages, the results behind a turn with calls in the order of its calls."""
    ordered: list[Message] = []
    positions: dict[str | None, int] = {}
    for results, group in groupby(messages, lambda message: message.role == "tool"):
        run = list(group)
        if results:
            run.sort(key=lambda each: positions.get(each.tool_call_id, len(positions)))
        else:
            positions = {call.id: at for at, call in enumerate(run[-1].tool_calls)}
        ordered += run
    return ordered


def unique_calls(messages: tuple[Message, ...]) -> tuple[Message, ...]:
    """The messages, with ids of their own for calls that have none, or one that an earlier call has.

    Formats without ids number the calls of each reply anew, and so do some servers; others refuse a conversation with
    the same id twice. Results follow their calls.

    >>> from agouti.core.canonical.chat import ToolCall, ToolFunction
    >>> asked = Message("assistant", tool_calls=(ToolCall(ToolFunction("f"), "call_0"),))
    >>> twice = [asked, Message("tool", "3", tool_call_id="call_0")]
    >>> [message.tool_call_id or message.tool_calls[0].id for message in unique_calls((*twice, *twice))]
    ['call_0', 'call_0', 'call_0_2', 'call_0_2']
    """
    ids = [call.id for message in messages if message.tool_calls for call in message.tool_calls]
    if None not in ids and "" not in ids and len(set(ids)) == len(ids):
        return messages
    used_now = set(ids)
    used: set[str] = set()
    renamed: dict[str | None, list[str]] = {}
    result: list[Message] = []
    for message in messages:
        if message.tool_calls:
            calls = []
            fresh: dict[str | None, list[str]] = {}
            for call in message.tool_calls:
                identifier = call.id if call.id and call.id not in used else _free(call.id or "call", used_now)
                used_now.add(identifier)
                used.add(identifier)
                fresh.setdefault(call.id, []).append(identifier)
                calls.append(call if identifier == call.id else replace(call, id=identifier))
            renamed.update(fresh)
            message = replace(message, tool_calls=tuple(calls))
        elif message.role == "tool" and (waiting := renamed.get(message.tool_call_id)):
            # Several calls of one turn with the same id: their results come in their order.
            message = replace(message, tool_call_id=waiting.pop(0) if len(waiting) > 1 else waiting[0])
        result.append(message)
    return tuple(result)


def _free(identifier: str, used: "set[str | None]") -> str:
    number = 2
    while f"{identifier}_{number}" in used:
        number += 1
    return f"{identifier}_{number}"


_ALLOWED = re.compile(r"[a-zA-Z0-9_-]{1,64}")


def allowed_id(identifier: str | None) -> str:
    """The identifier of a call for formats that take letters, digits, ``_`` and ``-`` only, at most 64 of them.

    >>> allowed_id("call_7"), allowed_id("functions.frost:0")
    ('call_7', 'functions_frost_0_9d7a05b0')
    """
    text = identifier or ""
    if _ALLOWED.fullmatch(text):
        return text
    return f"{re.sub('[^a-zA-Z0-9_-]', '_', text)[:50]}_{crc32(text.encode('utf-8', 'replace')):08x}"


def functions_called(messages: Iterable[Message]) -> list[str]:
    """The names of the functions that a conversation has called, each once."""
    names = (call.function.name for message in messages for call in message.tool_calls)
    return list(dict.fromkeys(name for name in names if name))


def with_tool_calls(messages: tuple[Message, ...]) -> tuple[Message, ...]:
    """The messages, with calls of the older form (``function_call``, role ``function``) as tool calls and results.

    >>> old = Message("assistant", extra={"function_call": {"name": "f", "arguments": "{}"}})
    >>> call, result = with_tool_calls((old, Message("function", "3", name="f")))
    >>> call.tool_calls[0].id == result.tool_call_id, result.role
    (True, 'tool')
    """
    if not any(message.role == "function" or "function_call" in message.extra for message in messages):
        return messages
    result: list[Message] = []
    identifier = ""
    for number, message in enumerate(messages):
        called = message.extra.get("function_call")
        if isinstance(called, dict):
            identifier = f"call_{number}"
            function = ToolFunction(called.get("name"), called.get("arguments"))
            extra = {name: value for name, value in message.extra.items() if name != "function_call"}
            calls = (*message.tool_calls, ToolCall(function, identifier))
            message = replace(message, tool_calls=calls, extra=extra)
        elif message.role == "function":
            message = replace(message, role="tool", tool_call_id=identifier)
        result.append(message)
    return tuple(result)


def without_calls(messages: tuple[Message, ...]) -> tuple[Message, ...]:
    """The messages for formats that know neither who of several speaks, nor refusals: both are said in words.

    >>> [message.content for message in without_calls((Message("user", "Peas?", name="ann"),))]
    ['ann: Peas?']
    """
    if not any(message.name or message.extra.get("refusal") for message in messages if message.role != "tool"):
        return messages
    return tuple([_plainly(message) if message.role in ("user", "assistant") else message for message in messages])


def _plainly(message: Message) -> Message:
    content = message.content
    refusal = message.extra.get("refusal")
    if isinstance(refusal, str) and refusal and not content:
        content = refusal
    if message.name and message.role == "user":
        speaker = f"{message.name}: "
        content = (
            speaker + content if isinstance(content, str) else [{"type": "text", "text": speaker}, *(content or [])]
        )
    return replace(message, content=content)


def in_words(messages: Iterable[Message]) -> list[Message]:
    """The messages with calls and their results as words, for formats that have no tools.

    >>> asked = Message("assistant", tool_calls=(ToolCall(ToolFunction("frost", '{"place":"fen"}'), "a"),))
    >>> [(message.role, message.content) for message in in_words([asked, Message("tool", "17", tool_call_id="a")])]
    [('assistant', '[called frost({"place":"fen"})]'), ('user', '[frost gave: 17]')]
    """
    worded: list[Message] = []
    for message in named_results(messages):
        if message.role == "tool":
            message = Message("user", f"[{message.name or 'the tool'} gave: {text_of(message)}]")
        elif message.tool_calls:
            calls = [f"[called {call.function.name}({call.function.arguments or ''})]" for call in message.tool_calls]
            message = Message(message.role, "\n".join(filter(None, (text_of(message), *calls))))
        worded.append(message)
    return worded
