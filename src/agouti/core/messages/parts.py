"""Parts of a message: text, images, files and audio, read from the canonical form for the dialects."""

import re
from base64 import b64decode
from collections.abc import Iterator, Mapping, Sequence
from typing import TypeAlias

from msgspec import Struct
from msgspec.structs import replace

from ..canonical.chat import Json, Message
from ..errors import RequestError

MARK = "cache_control"
"""The field that marks a part or a tool as the end of what a provider may keep for later (prompt cache)."""


class TextPart(Struct, frozen=True, gc=False):
    """A text; ``mark`` is its prompt-cache mark."""

    text: str
    mark: Json = None


class ImagePart(Struct, frozen=True, gc=False):
    """An image: an address, or a media type with base64 data."""

    address: str = ""
    media_type: str = ""
    data: str = ""
    detail: str = ""
    mark: Json = None

    @property
    def url(self) -> str:
        """Its address, a ``data:`` one where the image itself is here."""
        return self.address or f"data:{self.media_type};base64,{self.data}"


class FilePart(Struct, frozen=True, gc=False):
    """A file: an address, an identifier that the provider gave, or a media type with base64 data."""

    name: str = ""
    address: str = ""
    media_type: str = ""
    data: str = ""
    id: str = ""
    mark: Json = None

    @property
    def url(self) -> str:
        """Its address, a ``data:`` one where the file itself is here."""
        return self.address or f"data:{self.media_type};base64,{self.data}"

    @property
    def text(self) -> str | None:
        """What a text file says, whatever its encoding; `None` where it is none, or not here."""
        if not self.data or not is_text(self.media_type):
            return None
        return decoded(b64decode(self.data))


_TEXT_TYPES = re.compile(
    r"text/.*|application/(.*\+)?(json|xml|yaml|toml)|application/(x-yaml|x-ndjson|jsonl|javascript|sql|x-sh|csv)"
)


def is_text(media_type: str) -> bool:
    """Whether files of a media type are texts.

    >>> is_text("application/json"), is_text("text/csv"), is_text("application/pdf")
    (True, True, False)
    """
    return _TEXT_TYPES.fullmatch(media_type) is not None


def decoded(data: bytes) -> str:
    """The text of a file: UTF-8, UTF-16 with its mark, or else the usual eight-bit letters.

    >>> decoded("Café".encode("latin-1")), decoded("Café".encode("utf-8-sig"))
    ('Café', 'Café')
    """
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


class AudioPart(Struct, frozen=True, gc=False):
    """Audio: its format (``wav``, ``mp3``) and base64 data."""

    format: str
    data: str
    mark: Json = None

    @property
    def media_type(self) -> str:
        """Such as ``audio/wav``."""
        return "audio/mpeg" if self.format == "mp3" else f"audio/{self.format}"


Part: TypeAlias = TextPart | ImagePart | FilePart | AudioPart

MEDIA = {"image_url": "image", "input_image": "image", "file": "file", "input_file": "file", "input_audio": "audio"}
"""What kind of media the parts of these types are."""

_ADDRESSES = (("image_url", "url"), ("file", "file_data"), ("file", "file_url"))
_TEXTS = frozenset({"text", "input_text", "output_text"})
# What an assistant has said besides its answer: it comes from a reply, and is no part of what is asked.
_PASSED_OVER = frozenset({"thinking", "reasoning", "redacted_thinking"})
_DATA = re.compile(r"data:(?P<type>[^;,]*)(?P<parameters>[^,]*),(?P<data>.*)", re.IGNORECASE | re.DOTALL)


def parts_of(message: Message) -> Iterator[Part]:
    """The parts of a message's content.

    Raises:
        RequestError: a part of a kind that only the canonical form can carry.

    >>> list(parts_of(Message("user", "Hi")))
    [TextPart(text='Hi', mark=None)]
    """
    content = message.content
    if isinstance(content, str):
        if content:
            yield TextPart(content)
        return
    for part in content or ():
        kind = part.get("type")
        if kind in _TEXTS:
            yield TextPart(str(part.get("text") or ""), part.get(MARK))
        elif kind in ("image_url", "input_image"):
            yield _image(part)
        elif kind == "refusal":
            yield TextPart(str(part.get("refusal") or ""))
        elif kind in ("file", "input_file"):
            yield _file(part)
        elif kind == "input_audio":
            audio = part.get("input_audio")
            audio = audio if isinstance(audio, Mapping) else {}
            if not audio.get("data"):
                raise RequestError(
                    "a part of type input_audio holds no audio", hint='Give it {"data": base64, "format": "wav"}.'
                )
            yield AudioPart(str(audio.get("format") or "wav"), str(audio["data"]), part.get(MARK))
        elif kind not in _PASSED_OVER:
            raise RequestError(
                f"a part of type {kind!r} cannot be sent in this dialect",
                hint="Parts of type text, image_url, file and input_audio can; others only in dialect chat.",
            )


def _image(part: Mapping[str, Json]) -> ImagePart:
    image = part.get("image_url")
    detail = image.get("detail") if isinstance(image, Mapping) else part.get("detail")
    media_type, data, address = _read_address(address_of(part), "an image")
    media_type = _MEDIA_TYPES.get(media_type, media_type) or "image/png" if data else ""
    return ImagePart(address, media_type, data, detail or "", part.get(MARK))


_MEDIA_TYPES = {"image/jpg": "image/jpeg"}


def address_of(part: Mapping[str, Json]) -> str:
    """The address of an image or a file; empty where it has none."""
    for name, inner_name in _ADDRESSES:
        inner = part.get(name)
        value = inner.get(inner_name) if isinstance(inner, Mapping) else inner if name == "image_url" else None
        value = value or part.get(inner_name)
        if isinstance(value, str):
            return value
    return ""


def readdressed(part: dict[str, Json], addresses: Mapping[str, str]) -> dict[str, Json]:
    """The part with another address, where there is one for it."""
    new = addresses.get(address_of(part)) if part.get("type") in MEDIA else None
    if new is None:
        return part
    if MEDIA[part["type"]] == "image":
        image = part.get("image_url")
        inner = dict(image) if isinstance(image, Mapping) else {}
        return {**part, "image_url": {**inner, "url": new}}
    file = part.get("file")
    inner = dict(file) if isinstance(file, Mapping) else {name: part[name] for name in ("filename",) if name in part}
    inner.pop("file_url", None)
    name = address_of(part).partition("?")[0].rpartition("/")[2]
    return {"type": "file", "file": {"filename": name, **inner, "file_data": new}}


def _file(part: Mapping[str, Json]) -> FilePart:
    inner = part.get("file")
    inner = inner if isinstance(inner, Mapping) else part
    name = str(inner.get("filename") or "")
    if inner.get("file_id"):
        return FilePart(name, id=str(inner["file_id"]), mark=part.get(MARK))
    where = str(inner.get("file_data") or inner.get("file_url") or "")
    media_type, data, address = _read_address(where, "a file")
    if not (data or address):
        raise RequestError("a part of type file holds no file", hint='Give it "file_data", "file_url" or "file_id".')
    media_type = media_type or ("text/plain" if name.lower().endswith((".txt", ".md")) else "application/pdf")
    return FilePart(name, address, media_type if data else "", data, mark=part.get(MARK))


def _read_address(address: str, subject: str) -> tuple[str, str, str]:
    """Media type, base64 data and address: of a ``data:`` address the first two, of another one the last."""
    if address[:5].lower() != "data:":
        return "", "", address
    match = _DATA.fullmatch(address)
    parameters = match["parameters"].lower().split(";") if match is not None else []
    if match is None or "base64" not in parameters or not match["data"]:
        raise RequestError(f"{subject} in a data: address must be base64", hint="data:image/png;base64,...")
    return match["type"].lower(), checked_base64(match["data"], subject), ""


_NOT_BASE64 = re.compile(r"[^A-Za-z0-9+/=]")
_LINE_ENDS = re.compile(r"\s+")


def checked_base64(data: str, subject: str) -> str:
    """Base64 as formats take it: in one line, and padded.

    Raises:
        RequestError: it is none.

    >>> checked_base64("R0lG\\nODlh", "an image")
    'R0lGODlh'
    """
    if _NOT_BASE64.search(data):
        data = _LINE_ENDS.sub("", data).replace("-", "+").replace("_", "/")
    unpadded = data.rstrip("=")
    if _NOT_BASE64.search(unpadded) or "=" in unpadded or len(unpadded) % 4 == 1 or not unpadded:
        raise RequestError(
            f"{subject} in a data: address is no base64", hint="Encode its bytes: base64.b64encode(data)."
        )
    return unpadded + "=" * (-len(unpadded) % 4)


def media_ready(
    messages: Sequence[Message], inputs: Sequence[str], dialect: str, *, fetched: bool
) -> tuple[Message, ...]:
    """The messages as a format can take their media: base64 in one line, text files in words where it has no files.

    Args:
        inputs: what the format takes.
        fetched: what stands at an address has been fetched, if it ever is.

    Raises:
        RequestError: they hold what the format does not take, or what is none.
    """
    ready_parts = []
    for message in messages:
        if isinstance(message.content, list) and any(each.get("type") in MEDIA for each in message.content):
            parts = [_ready(each, inputs, dialect, fetched) for each in message.content]
            message = replace(message, content=parts)
        ready_parts.append(message)
    return tuple(ready_parts)


def _ready(part: dict[str, Json], inputs: Sequence[str], dialect: str, fetched: bool) -> dict[str, Json]:
    kind = MEDIA.get(str(part.get("type")))
    if kind is None:
        return part
    if kind == "audio" and kind in inputs:
        audio = part.get("input_audio")
        if isinstance(audio, dict) and isinstance(data := audio.get("data"), str) and data:
            return {**part, "input_audio": {**audio, "data": checked_base64(data, "audio")}}
        return part
    if kind in inputs:
        address = address_of(part)
        if address[:5].lower() != "data:":
            return part
        data = _read_address(address, "an image" if kind == "image" else "a file")[1]
        head = address.partition(",")[0]
        ready = f"{head},{data}"
        return part if ready == address else readdressed(part, {address: ready})
    read = next(parts_of(Message("user", [part])))
    if kind == "file" and isinstance(read, FilePart):
        if read.address and not fetched:
            return part
        return {"type": "text", "text": text_file(read, dialect)}
    raise cannot_take(dialect, read)


def image_of(address: str) -> ImagePart:
    """An image from its address, or from the ``data:`` address that holds it.

    >>> image_of("data:image/png;base64,AAAA").media_type
    'image/png'
    """
    return _image({"image_url": address})


def text_of(message: Message) -> str:
    """All text of a message; texts of a tool's result are lines, or two numbers would be one."""
    content = message.content
    if isinstance(content, str):
        return content
    return ("\n" if message.role == "tool" else "").join(
        part.text for part in parts_of(message) if isinstance(part, TextPart)
    )


def words_of(message: Message, dialect: str = "") -> str:
    """The words of a message for formats that take nothing else; text files are words, images are passed over.

    Raises:
        RequestError: it holds audio, or a file that is no text.
    """
    descriptions = []
    for part in parts_of(message):
        if isinstance(part, TextPart):
            descriptions.append(part.text)
        elif not isinstance(part, ImagePart):
            descriptions.append(text_file(part, dialect))
    return "".join(descriptions)


def text_file(part: Part, dialect: str) -> str:
    """A text file as words, with its name, for formats without files.

    Raises:
        RequestError: it is none.
    """
    text = part.text if isinstance(part, FilePart) else None
    if text is None:
        raise cannot_take(dialect, part)
    name = f"{part.name}:\n" if isinstance(part, FilePart) and part.name else ""
    return f"\n{name}{text}\n"


def cannot_take(dialect: str, part: Part) -> RequestError:
    """The error for a part that a format has no place for."""
    hint = "See the table of media in the guide to dialects; a text can be passed as words."
    subject = "images" if isinstance(part, ImagePart) else "audio"
    if isinstance(part, FilePart):
        subject = f"files of type {part.media_type}"
        if part.id:
            subject = "files by their id"
        elif part.address:
            subject = "files by their address"
            hint = "Pass the file itself (a path or its bytes), or allow that it is fetched: fetch_images=True."
    dialect_name = f"dialect {dialect}" if dialect else "this dialect"
    return RequestError(f"{dialect_name} takes no {subject}", hint=hint)
