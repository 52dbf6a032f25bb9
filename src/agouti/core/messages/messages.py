"""Messages of a conversation: read at the door, taken apart for the dialects, written as JSON again."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from ..canonical.chat import Choice, Json, Message, ProviderTurn, ToolCall, ToolFunction
from ..errors import RequestError
from .parts import MEDIA, TextPart, address_of, parts_of, readdressed, text_of, words_of

ROLES = frozenset({"system", "developer", "user", "assistant", "tool", "function"})
_SYSTEM = frozenset({"system", "developer"})
TURN_FIELD = "provider_turn"
"""The field of an assistant message that holds the turn in the provider's own form."""

_FIELDS = frozenset({"role", "content", "name", "tool_calls", "tool_call_id", TURN_FIELD})


def messages_of(messages: Sequence[object]) -> tuple[Message, ...]:
    """Messages of either type as `Message`; fields beyond the known ones are kept in ``extra``.

    Raises:
        RequestError: one is no message; says which and why.

    >>> messages_of([{"role": "user", "content": "Peas?", "weight": 1}])[0].extra
    {'weight': 1}
    """
    return tuple([message_of(message, number) for number, message in enumerate(messages)])


def message_of(value: object, number: int = 0) -> Message:
    """One message; ``number`` counts it in error messages."""
    if isinstance(value, Message):
        message = value
    elif isinstance(value, Mapping):
        message = _from_json(value, number)
    else:
        raise RequestError(
            f"message {number} of the prompt is a {type(value).__name__}",
            hint='A message is an agouti.Message or a dict such as {"role": "user", "content": "..."}.',
        )
    if not isinstance(message.role, str) or message.role not in ROLES:
        raise RequestError(
            f"message {number} of the prompt has role {message.role!r}", hint=f"Roles are {', '.join(sorted(ROLES))}."
        )
    return message


def _from_json(value: Mapping[str, Json], number: int) -> Message:
    content, name, call_id = value.get("content"), value.get("name"), value.get("tool_call_id")
    calls = value.get("tool_calls") or ()
    if content is not None and not isinstance(content, str):
        if not isinstance(content, Sequence) or not all(isinstance(part, Mapping) for part in content):
            raise _invalid(number, "content is neither a text nor a list of parts")
        content = [dict(part) for part in content]
    if not isinstance(name, str | None) or not isinstance(call_id, str | None):
        raise _invalid(number, "name and tool_call_id are texts")
    if not isinstance(calls, Sequence) or not all(isinstance(call, (Mapping, ToolCall)) for call in calls):
        raise _invalid(number, "tool_calls is not a list of calls")
    # A field that is null is no field; it is kept as it came, for those who compare what goes through.
    extra = {
        field: inner for field, inner in value.items() if field not in _FIELDS or (inner is None and field != "content")
    }
    calls = tuple([call if isinstance(call, ToolCall) else _call_of(call, number) for call in calls])
    provider_turn = value.get(TURN_FIELD)
    return Message(
        value.get("role") or "",
        content,
        name,
        calls,
        call_id,
        extra,
        None if provider_turn is None else _turn_of(provider_turn, number),
        value.get("is_error") is True,
    )


def _turn_of(value: Json, number: int) -> ProviderTurn:
    """The turn in the provider's own form, as a client echoes it."""
    if isinstance(value, ProviderTurn):
        return value
    dialect, blocks = (value.get("dialect"), value.get("blocks")) if isinstance(value, Mapping) else (None, None)
    if not isinstance(dialect, str) or not isinstance(blocks, list):
        raise _invalid(number, f"{TURN_FIELD} is not what a reply held; put it back as it came, or leave it out")
    source = value.get("source") if isinstance(value, Mapping) else ""
    return ProviderTurn(dialect, blocks, source if isinstance(source, str) else "")


def turn_json(provider_turn: ProviderTurn) -> dict[str, Json]:
    """A turn as the field `TURN_FIELD` of a message holds it."""
    return {
        "dialect": provider_turn.dialect,
        "blocks": provider_turn.blocks,
        **({"source": provider_turn.source} if provider_turn.source else {}),
    }


def own_blocks(
    message: Message,
    dialect: str,
    read: Callable[[list[Json]], Choice],
    encode: Callable[[Message], list[dict[str, Json]]],
) -> list[dict[str, Json]] | None:
    """The blocks of an assistant turn for the dialect that wrote it; `None` where they are another's, or out of date.

    A message that was edited after the reply says something else than its blocks: the message counts.

    Args:
        read: what the blocks mean.
        encode: makes blocks of what the message says behind them, where a later reply has gone on with the turn.
    """
    provider_turn = message.provider_turn
    if provider_turn is None or provider_turn.dialect != dialect:
        return None
    meant, calls = read(provider_turn.blocks), message.tool_calls
    text, meant_text = text_of(message), meant.text
    if not text.startswith(meant_text):
        text, meant_text = text.strip(), meant_text.strip()
    if not text.startswith(meant_text) or len(meant.tool_calls) > len(calls):
        return None
    renamed: dict[str, str] = {}
    for meant_call, own_call in zip(meant.tool_calls, calls, strict=False):
        if meant_call.function.name != own_call.function.name:
            return None
        if meant_call.function.arguments != own_call.function.arguments and arguments_of(meant_call) != arguments_of(
            own_call
        ):
            return None
        if meant_call.id and own_call.id and meant_call.id != own_call.id:
            renamed[meant_call.id] = own_call.id  # it was not unique
    blocks = _renamed(provider_turn.blocks, renamed) if renamed else provider_turn.blocks
    remainder = Message("assistant", text[len(meant_text) :], tool_calls=calls[len(meant.tool_calls) :])
    return [*blocks, *(encode(remainder) if remainder.content or remainder.tool_calls else [])]


def _renamed(value: Json, names: Mapping[str, str]) -> Json:
    """Blocks with other identifiers."""
    if isinstance(value, str):
        return names.get(value, value)
    if isinstance(value, list):
        return [_renamed(each, names) for each in value]
    if isinstance(value, dict):
        return {name: _renamed(each, names) for name, each in value.items()}
    return value


def _call_of(value: Mapping[str, Json], number: int) -> ToolCall:
    function = value.get("function")
    function = function if isinstance(function, Mapping) else {}
    name, arguments, call_id = function.get("name"), function.get("arguments"), value.get("id")
    if not isinstance(arguments, str | None):
        arguments = msgspec.json.encode(arguments).decode()
    if not isinstance(name, str | None) or not isinstance(call_id, str | None):
        raise _invalid(number, "a call's id and its function's name are texts")
    extra = {field: inner for field, inner in value.items() if field not in ("id", "function", "type")}
    if value.get("type") not in (None, "function"):
        custom = value.get("custom")
        if isinstance(custom, Mapping) and not function:
            name, arguments = custom.get("name"), custom.get("input")
        tool_call = {"function": value["function"]} if "function" in value else {}
        return ToolCall(ToolFunction(name, arguments), call_id, {**extra, **tool_call, "type": value["type"]})
    inner = {field: each for field, each in function.items() if field not in ("name", "arguments")}
    if inner:
        extra["function"] = inner
    return ToolCall(ToolFunction(name, arguments), call_id, extra)


def _invalid(number: int, reason: str) -> RequestError:
    return RequestError(
        f"message {number} of the prompt is wrong: {reason}",
        hint='A message looks like {"role": "user", "content": "..."}.',
    )


_MESSAGE_FIELDS = frozenset({"role", "content", "name", "tool_calls", "tool_call_id"})


def message_json(message: Message, dialect: str = "") -> dict[str, Json]:
    """A message in the OpenAI-compatible form.

    Args:
        dialect: the dialect that it is sent in, whose own turns go back as they came: as fields of the message.

    >>> message_json(Message("user", "Peas?"))
    {'role': 'user', 'content': 'Peas?'}
    """
    body: dict[str, Json] = {"role": message.role, "content": message.content}
    if message.name is not None:
        body["name"] = message.name
    if message.tool_calls:
        # Servers demand type and id of a call that goes back to them.
        body["tool_calls"] = [call_json(call, number) for number, call in enumerate(message.tool_calls)]
    if message.tool_call_id is not None:
        body["tool_call_id"] = message.tool_call_id
    if message.extra:
        body |= message.extra
    if (provider_turn := message.provider_turn) is not None:
        if provider_turn.dialect == dialect:
            for fields in provider_turn.blocks:
                # Who says it, and what, stands in the message itself: it may have been edited.
                body |= {name: value for name, value in fields.items() if name not in _MESSAGE_FIELDS}
        elif message.role == "assistant":
            body.pop("reasoning_content", None)  # of another dialect's turn: our own words for its thinking
    return body


def call_json(call: ToolCall, number: int = 0) -> dict[str, Json]:
    """A call in the OpenAI-compatible form."""
    if call.extra.get("type", "function") != "function":
        return {"id": call.id or f"call_{number}", **call.extra}
    function: dict[str, Json] = {"name": call.function.name, "arguments": call.function.arguments or ""}
    body: dict[str, Json] = {"id": call.id or f"call_{number}", "type": "function", "function": function}
    if call.extra:
        body |= {field: value for field, value in call.extra.items() if field != "function"}
        function |= call.extra.get("function", {})
    return body


def system_and_rest(messages: Sequence[Message]) -> tuple[str, list[Message]]:
    """The system text of all system messages together, and the other messages."""
    parts, remainder = system_parts(messages)
    if not any(part.mark is not None for part in parts):
        return "\n\n".join([part.text for part in parts]), remainder
    texts = [text_of(message) for message in messages if message.role in _SYSTEM]
    return "\n\n".join(filter(None, texts)), remainder


def system_parts(messages: Iterable[Message]) -> tuple[list[TextPart], list[Message]]:
    """The texts of all system messages, neighbours without a prompt-cache mark as one, and the other messages.

    Raises:
        RequestError: a system message holds something else than text.
    """
    texts: list[TextPart] = []
    remainder: list[Message] = []
    for message in messages:
        if message.role not in _SYSTEM:
            remainder.append(message)
            continue
        text = ""
        for part in parts_of(message):
            if not isinstance(part, TextPart):
                raise RequestError(
                    "a system message can hold only text in this dialect",
                    hint="Put images and files into a message of the user.",
                )
            text += part.text
            if part.mark is not None:
                texts.append(TextPart(text, part.mark))
                text = ""
        if text:
            texts.append(TextPart(text))
    if not remainder and texts:
        # No format takes a request in which nobody has said anything.
        return [], [Message("user", "\n\n".join([part.text for part in texts]))]
    return texts, remainder


def by_role(
    messages: Iterable[Message], pieces_of: Callable[[Message], list[dict[str, Json]]], assistant: str = "assistant"
) -> list[tuple[str, list[dict[str, Json]]]]:
    """Role and pieces of each turn, neighbours of one role merged, for formats in which the roles must alternate.

    Args:
        pieces_of: the pieces of one message; a message without any is left out.
        assistant: what the format calls the assistant; everybody else is the user.
    """
    merged: list[tuple[str, list[dict[str, Json]]]] = []
    for message in messages:
        role = assistant if message.role == "assistant" else "user"
        parts = pieces_of(message)
        if parts and merged and merged[-1][0] == role:
            merged[-1][1].extend(parts)
        elif parts:
            merged.append((role, parts))
    return merged


def arguments_of(call: ToolCall) -> dict[str, Any]:
    """The arguments of a call as an object; an empty one where they are none.

    Raises:
        RequestError: they are not a JSON object.
    """
    text = call.function.arguments or "{}"
    try:
        arguments = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError):
        arguments = None
    if not isinstance(arguments, dict):
        raise RequestError(
            f"the arguments of the call to {call.function.name} are not a JSON object: {text[:80]!r}",
            hint="Put the calls of a reply into the conversation as they came.",
        )
    return arguments


def media_in(messages: Iterable[Message]) -> Iterator[tuple[str, str]]:
    """Kind (``image``, ``file``, ``audio``) and address of all media; ``data:`` addresses included, audio without.

    >>> list(media_in([Message("user", [{"type": "image_url", "image_url": {"url": "https://a.example/b.png"}}])]))
    [('image', 'https://a.example/b.png')]
    """
    for message in messages:
        for part in message.content if isinstance(message.content, list) else ():
            kind = MEDIA.get(str(part.get("type")))
            if kind is not None:
                yield kind, address_of(part)


def with_addresses(messages: Iterable[Message], addresses: Mapping[str, str]) -> tuple[Message, ...]:
    """The messages with other addresses for some of their images and files."""
    return tuple(
        [
            msgspec.structs.replace(message, content=[readdressed(part, addresses) for part in message.content])
            if isinstance(message.content, list)
            else message
            for message in messages
        ]
    )


def with_parts(messages: Sequence[Message], parts: Sequence[dict[str, Json]]) -> tuple[Message, ...]:
    """The messages with images and files in the user's last one, before its words.

    Raises:
        RequestError: there is no message of the user.
    """
    number = last_of_user(messages)
    if number is None:
        raise RequestError("there is no message of the user that images or files could go with", hint="Add one.")
    changed = msgspec.structs.replace(messages[number], content=[*parts, *_content_parts(messages[number])])
    return (*messages[:number], changed, *messages[number + 1 :])


def without_images(messages: Iterable[Message], dialect: str) -> list[Message]:
    """The messages with their words alone, for formats that have another place for an image."""
    return [
        Message(each.role, words_of(each, dialect), each.name, each.tool_calls, each.tool_call_id) for each in messages
    ]


def with_instruction(messages: Sequence[Message], instruction: str) -> tuple[Message, ...]:
    """The messages with an instruction behind the user's last words."""
    number = last_of_user(messages)
    if number is None:
        return (*messages, Message("user", instruction))
    content = messages[number].content
    if isinstance(content, list):
        content = [*content, {"type": "text", "text": instruction}]
    else:
        content = f"{content or ''}\n\n{instruction}"
    changed = msgspec.structs.replace(messages[number], content=content)
    return (*messages[:number], changed, *messages[number + 1 :])


def last_of_user(messages: Sequence[Message]) -> int | None:
    """The number of the user's last message; `None` where there is none."""
    numbers = range(len(messages) - 1, -1, -1)
    return next((number for number in numbers if messages[number].role == "user"), None)


def _content_parts(message: Message) -> list[dict[str, Json]]:
    content = message.content
    if isinstance(content, list):
        return content
    return [{"type": "text", "text": content}] if content else []


def reply_message(choice: Choice) -> Message:
    """What an assistant said, as a message that can go back to it."""
    calls = tuple([sendable(number, call) for number, call in enumerate(choice.tool_calls)])
    content = choice.text or (None if calls else "")
    return Message("assistant", content, tool_calls=calls, provider_turn=choice.provider_turn)


def sendable(number: int, call: ToolCall) -> ToolCall:
    """A call as it can go back to a provider: with an identifier, and with arguments that are an object.

    >>> sendable(0, ToolCall(ToolFunction("frost", "about ten")))
    ToolCall(function=ToolFunction(name='frost', arguments='{"text":"about ten"}'), id='call_0', extra={})
    """
    text = call.function.arguments or ""
    if call.extra.get("type", "function") != "function":
        return call if call.id else msgspec.structs.replace(call, id=f"call_{number}")
    try:
        usable = isinstance(msgspec.json.decode(text), dict)
    except (msgspec.DecodeError, RecursionError):
        usable = False
    arguments = text if usable else msgspec.json.encode({"text": text} if text else {}).decode()
    return ToolCall(ToolFunction(call.function.name, arguments), call.id or f"call_{number}", call.extra)
