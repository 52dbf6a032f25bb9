"""Messages of a conversation: read at the door, taken apart for the dialects, written as JSON again."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, TypeAlias

import msgspec
from msgspec import Struct

from .chat import Json, Message, ToolCall, ToolFunction
from .errors import RequestError

ROLES = frozenset({"system", "developer", "user", "assistant", "tool"})
_FIELDS = frozenset({"role", "content", "name", "tool_calls", "tool_call_id"})


class TextPart(Struct, frozen=True, gc=False):
    """A text."""

    text: str


class ImagePart(Struct, frozen=True, gc=False):
    """An image: an address, or a media type with base64 data."""

    address: str = ""
    media_type: str = ""
    data: str = ""


Part: TypeAlias = TextPart | ImagePart


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
    if message.role not in ROLES:
        raise RequestError(
            f"message {number} of the prompt has role {message.role!r}", hint=f"Roles are {', '.join(sorted(ROLES))}."
        )
    return message


def _from_json(value: Mapping[str, Json], number: int) -> Message:
    content, name, call_id = value.get("content"), value.get("name"), value.get("tool_call_id")
    calls = value.get("tool_calls") or ()
    if content is not None and not isinstance(content, str):
        if not isinstance(content, Sequence) or not all(isinstance(part, Mapping) for part in content):
            raise _wrong(number, "content is neither a text nor a list of parts")
        content = [dict(part) for part in content]
    if not isinstance(name, str | None) or not isinstance(call_id, str | None):
        raise _wrong(number, "name and tool_call_id are texts")
    if not isinstance(calls, Sequence) or not all(isinstance(call, (Mapping, ToolCall)) for call in calls):
        raise _wrong(number, "tool_calls is not a list of calls")
    # A field that is null is no field; it is kept as it came, for those who compare what goes through.
    extra = {
        field: inner for field, inner in value.items() if field not in _FIELDS or (inner is None and field != "content")
    }
    calls = tuple([call if isinstance(call, ToolCall) else _call_of(call, number) for call in calls])
    return Message(value.get("role") or "", content, name, calls, call_id, extra)


def _call_of(value: Mapping[str, Json], number: int) -> ToolCall:
    function = value.get("function")
    function = function if isinstance(function, Mapping) else {}
    name, arguments, call_id = function.get("name"), function.get("arguments"), value.get("id")
    if not isinstance(arguments, str | None):
        arguments = msgspec.json.encode(arguments).decode()
    if not isinstance(name, str | None) or not isinstance(call_id, str | None):
        raise _wrong(number, "a call's id and its function's name are texts")
    extra = {field: inner for field, inner in value.items() if field not in ("id", "function", "type")}
    if value.get("type") not in (None, "function"):
        extra["type"] = value["type"]
    inner = {field: each for field, each in function.items() if field not in ("name", "arguments")}
    if inner:
        extra["function"] = inner
    return ToolCall(ToolFunction(name, arguments), call_id, extra)


def _wrong(number: int, why: str) -> RequestError:
    return RequestError(
        f"message {number} of the prompt is wrong: {why}",
        hint='A message looks like {"role": "user", "content": "..."}.',
    )


def message_json(message: Message) -> dict[str, Json]:
    """A message in the OpenAI-compatible form.

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
    return body


def call_json(call: ToolCall, number: int = 0) -> dict[str, Json]:
    """A call in the OpenAI-compatible form."""
    function: dict[str, Json] = {"name": call.function.name, "arguments": call.function.arguments or ""}
    body: dict[str, Json] = {"id": call.id or f"call_{number}", "type": "function", "function": function}
    if call.extra:
        body |= {field: value for field, value in call.extra.items() if field != "function"}
        function |= call.extra.get("function", {})
    return body


def parts_of(message: Message) -> Iterator[Part]:
    """The parts of a message's content.

    Raises:
        RequestError: a part of a kind that only the canonical form can carry.

    >>> list(parts_of(Message("user", "Hi")))
    [TextPart(text='Hi')]
    """
    content = message.content
    if isinstance(content, str):
        if content:
            yield TextPart(content)
        return
    for part in content or ():
        kind = part.get("type")
        if kind in ("text", "input_text", "output_text"):
            yield TextPart(str(part.get("text", "")))
        elif kind == "image_url":
            yield image_of(_address_of(part))
        else:
            raise RequestError(
                f"a part of type {kind!r} cannot be sent in this dialect",
                hint="Parts of type text and image_url can; for the others ask a provider of dialect chat.",
            )


def _address_of(part: Mapping[str, Json]) -> str:
    image = part.get("image_url")
    return str(image.get("url", "") if isinstance(image, Mapping) else image or "")


def image_of(address: str) -> ImagePart:
    """An image from its address, or from the ``data:`` address that holds it.

    >>> image_of("data:image/png;base64,AAAA")
    ImagePart(address='', media_type='image/png', data='AAAA')
    """
    if not address.startswith("data:"):
        return ImagePart(address)
    head, _, data = address[5:].partition(",")
    media_type, _, encoding = head.partition(";")
    if encoding != "base64" or not data:
        raise RequestError("an image in a data: address must be base64", hint="data:image/png;base64,...")
    return ImagePart("", media_type or "image/png", data)


def text_of(message: Message) -> str:
    """All text of a message."""
    return "".join(part.text for part in parts_of(message) if isinstance(part, TextPart))


def system_and_rest(messages: Iterable[Message]) -> tuple[str, list[Message]]:
    """The system text of all system messages together, and the other messages."""
    system: list[str] = []
    rest: list[Message] = []
    for message in messages:
        if message.role in ("system", "developer"):
            system.append(text_of(message))
        else:
            rest.append(message)
    return "\n\n".join(system), rest


def by_role(
    messages: Iterable[Message], pieces_of: Callable[[Message], list[dict[str, Json]]], assistant: str = "assistant"
) -> list[tuple[str, list[dict[str, Json]]]]:
    """Role and pieces of each turn, neighbours of one role merged, for formats in which the roles must alternate.

    Args:
        pieces_of: the pieces of one message; a message without any is left out.
        assistant: what the format calls the assistant; everybody else is the user.
    """
    turns: list[tuple[str, list[dict[str, Json]]]] = []
    for message in messages:
        role = assistant if message.role == "assistant" else "user"
        pieces = pieces_of(message)
        if pieces and turns and turns[-1][0] == role:
            turns[-1][1].extend(pieces)
        elif pieces:
            turns.append((role, pieces))
    return turns


def arguments_of(call: ToolCall) -> dict[str, Any]:
    """The arguments of a call as an object; an empty one where they are none.

    Raises:
        RequestError: they are not a JSON object.
    """
    text = call.function.arguments or "{}"
    try:
        arguments = msgspec.json.decode(text)
    except msgspec.DecodeError:
        arguments = None
    if not isinstance(arguments, dict):
        raise RequestError(
            f"the arguments of the call to {call.function.name} are not a JSON object: {text[:80]!r}",
            hint="Put the calls of a reply into the conversation as they came.",
        )
    return arguments


def images_in(messages: Iterable[Message]) -> Iterator[str]:
    """The addresses of all images, ``data:`` ones included."""
    for message in messages:
        for part in message.content if isinstance(message.content, list) else ():
            if part.get("type") == "image_url":
                yield _address_of(part)


def with_addresses(messages: Iterable[Message], addresses: Mapping[str, str]) -> tuple[Message, ...]:
    """The messages with other addresses for some of their images."""
    return tuple(
        [
            msgspec.structs.replace(message, content=[_readdressed(part, addresses) for part in message.content])
            if isinstance(message.content, list)
            else message
            for message in messages
        ]
    )


def _readdressed(part: dict[str, Json], addresses: Mapping[str, str]) -> dict[str, Json]:
    if part.get("type") != "image_url" or _address_of(part) not in addresses:
        return part
    image = part.get("image_url")
    inner = dict(image) if isinstance(image, Mapping) else {}
    return {**part, "image_url": {**inner, "url": addresses[_address_of(part)]}}


def with_images(messages: Sequence[Message], images: Sequence[dict[str, Json]]) -> tuple[Message, ...]:
    """The messages with images in the user's last one, before its words.

    Raises:
        RequestError: there is no message of the user.
    """
    number = last_of_user(messages)
    if number is None:
        raise RequestError("there is no message of the user that images could go with", hint="Add one.")
    changed = msgspec.structs.replace(messages[number], content=[*images, *_content_parts(messages[number])])
    return (*messages[:number], changed, *messages[number + 1 :])


def without_images(messages: Iterable[Message]) -> list[Message]:
    """The messages with their words alone, for formats that have another place for an image."""
    return [Message(each.role, text_of(each), each.name, each.tool_calls, each.tool_call_id) for each in messages]


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


def said(text: str, calls: Sequence[ToolCall]) -> Message:
    """What an assistant said, as a message that can go back to it."""
    usable = tuple([sendable(number, call) for number, call in enumerate(calls)])
    return Message("assistant", text or (None if usable else ""), tool_calls=usable)


def sendable(number: int, call: ToolCall) -> ToolCall:
    """A call as it can go back to a provider: with an identifier, and with arguments that are an object.

    >>> sendable(0, ToolCall(ToolFunction("frost", "about ten")))
    ToolCall(function=ToolFunction(name='frost', arguments='{"text":"about ten"}'), id='call_0', extra={})
    """
    text = call.function.arguments or ""
    try:
        usable = isinstance(msgspec.json.decode(text), dict)
    except msgspec.DecodeError:
        usable = False
    arguments = text if usable else msgspec.json.encode({"text": text} if text else {}).decode()
    return ToolCall(ToolFunction(call.function.name, arguments), call.id or f"call_{number}", call.extra)
