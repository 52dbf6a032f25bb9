"""Messages taken apart, for dialects that are not the canonical form."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, TypeAlias

import msgspec
from msgspec import Struct

from .chat import Json, Message, ToolCall
from .errors import RequestError


class TextPart(Struct, frozen=True, gc=False):
    """A text."""

    text: str


class ImagePart(Struct, frozen=True, gc=False):
    """A picture: an address, or a media type with base64 data."""

    address: str = ""
    media_type: str = ""
    data: str = ""


Part: TypeAlias = TextPart | ImagePart


def messages_of(messages: Sequence[Message | Mapping[str, Json]]) -> list[Message]:
    """All messages in one type.

    Raises:
        RequestError: a dict is no message.
    """
    found = []
    for place, message in enumerate(messages):
        if isinstance(message, Message):
            found.append(message)
            continue
        try:
            found.append(msgspec.convert(message, Message))
        except msgspec.ValidationError as error:
            raise RequestError(
                f"message {place} of the prompt is wrong: {error}",
                hint='A message looks like {"role": "user", "content": "..."}.',
            ) from None
    return found


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
            image = part.get("image_url")
            yield image_of(str(image.get("url", "") if isinstance(image, Mapping) else image or ""))
        else:
            raise RequestError(
                f"a part of type {kind!r} cannot be sent in this dialect",
                hint="Parts of type text and image_url can; for the others ask a provider of dialect chat.",
            )


def image_of(address: str) -> ImagePart:
    """A picture from its address, or from the ``data:`` address that holds it.

    >>> image_of("data:image/png;base64,AAAA")
    ImagePart(address='', media_type='image/png', data='AAAA')
    """
    if not address.startswith("data:"):
        return ImagePart(address)
    head, _, data = address[5:].partition(",")
    media_type, _, encoding = head.partition(";")
    if encoding != "base64" or not data:
        raise RequestError("a picture in a data: address must be base64", hint="data:image/png;base64,...")
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
    found: list[tuple[str, list[dict[str, Json]]]] = []
    for message in messages:
        role = assistant if message.role == "assistant" else "user"
        pieces = pieces_of(message)
        if pieces and found and found[-1][0] == role:
            found[-1][1].extend(pieces)
        elif pieces:
            found.append((role, pieces))
    return found


def arguments_of(call: ToolCall) -> dict[str, Any]:
    """The arguments of a call as an object; an empty one where they are none.

    Raises:
        RequestError: they are not a JSON object.
    """
    text = call.function.arguments or "{}"
    try:
        found = msgspec.json.decode(text)
    except msgspec.DecodeError:
        found = None
    if not isinstance(found, dict):
        raise RequestError(
            f"the arguments of the call to {call.function.name} are not a JSON object: {text[:80]!r}",
            hint="Put the calls of a reply into the conversation as they came.",
        )
    return found


def pictures_in(messages: Sequence[Message | Mapping[str, Json]]) -> Iterator[str]:
    """The addresses of all pictures, ``data:`` ones included."""
    for message in messages:
        content = message.content if isinstance(message, Message) else message.get("content")
        for part in content if isinstance(content, list) else ():
            if isinstance(part, Mapping) and part.get("type") == "image_url":
                image = part.get("image_url")
                yield str(image.get("url", "") if isinstance(image, Mapping) else image or "")


def with_pictures(
    messages: Sequence[Message | dict[str, Json]], addresses: Mapping[str, str]
) -> list[Message | dict[str, Json]]:
    """The messages with other addresses for some of their pictures."""
    found: list[Message | dict[str, Json]] = []
    for message in messages:
        content = message.content if isinstance(message, Message) else message.get("content")
        if isinstance(content, list):
            changed = [_readdressed(part, addresses) for part in content]
            if isinstance(message, Message):
                message = msgspec.structs.replace(message, content=changed)
            else:
                message = {**message, "content": changed}
        found.append(message)
    return found


def _readdressed(part: Json, addresses: Mapping[str, str]) -> Json:
    if not isinstance(part, Mapping) or part.get("type") != "image_url":
        return part
    image = part.get("image_url")
    known = image if isinstance(image, Mapping) else {"url": image}
    return {**part, "image_url": {**known, "url": addresses.get(str(known.get("url")), known.get("url"))}}


def sendable(place: int, call: ToolCall) -> ToolCall:
    """A call of a reply as it can be sent again: with an identifier, and arguments that are an object.

    Providers refuse a whole conversation for a call that one of their own models has spoilt.

    >>> from .chat import ToolFunction
    >>> sendable(0, ToolCall(ToolFunction("f", "[1]"))).function.arguments
    '{"text":"[1]"}'
    """
    text = call.function.arguments or ""
    try:
        usable = isinstance(msgspec.json.decode(text), dict)
    except msgspec.DecodeError:
        usable = False
    arguments = text if usable else msgspec.json.encode({"text": text} if text else {}).decode()
    return ToolCall(msgspec.structs.replace(call.function, arguments=arguments), call.id or f"call_{place}")
