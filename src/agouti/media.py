"""Images, files and audio for a prompt: from a path, from bytes, or by their address."""

import base64
import os
import stat
from collections.abc import Iterable
from pathlib import Path
from typing import TypeAlias, cast

from .core.canonical.chat import Json
from .core.errors import RequestError
from .core.messages.media_types import MOST_BYTES, audio_type_of, file_type_of, media_type_of

Source: TypeAlias = "str | os.PathLike[str] | bytes | Image"
FileSource: TypeAlias = "str | os.PathLike[str] | bytes | File | Audio"


class Image:
    """An image.

    Args:
        source: a path, the bytes, or an ``http(s)://`` or ``data:`` address.
        detail: ``low``, ``high`` or ``auto``, for providers that know it.

    Attributes:
        address: the address; a ``data:`` one where the image itself is at hand.

    Raises:
        RequestError: there is no such file, it is too large, or no image that models take.

    Example:
        >>> Image(b"GIF89a...").address
        'data:image/gif;base64,R0lGODlhLi4u'
        >>> Image("https://seed-library.example/packet.png").address
        'https://seed-library.example/packet.png'
    """

    def __init__(self, source: "str | os.PathLike[str] | bytes", *, detail: str | None = None) -> None:
        self.detail = detail
        if isinstance(source, str) and _is_address(source):
            self.address = source
            return
        data, found_type = _read(source, "an image", "models see no more than about 2000 pixels across")
        self.address = _data_address(media_type_of(data, found_type), data)

    @property
    def part(self) -> dict[str, Json]:
        """The part of a message that it is."""
        image: dict[str, Json] = {"url": self.address}
        if self.detail is not None:
            image["detail"] = self.detail
        return {"type": "image_url", "image_url": image}

    def __repr__(self) -> str:
        return f"Image({_shown(self.address)})"


class File:
    """A file for a prompt: a PDF, a text, or what else a provider reads.

    Args:
        source: a path, the bytes, or an ``http(s)://`` or ``data:`` address.
        name: what it is called, for the model; the name of the path or address where not given.
        media_type: such as ``application/pdf``, where its first bytes and its name do not tell.

    Attributes:
        address: the address; a ``data:`` one where the file itself is at hand.

    Raises:
        RequestError: there is no such file, it is too large, or nothing tells what it is.

    Example:
        >>> File(b"Sown 4 March, 18 of 24 up by the 15th.", name="notes.txt").part["file"]["filename"]
        'notes.txt'
    """

    def __init__(
        self, source: "str | os.PathLike[str] | bytes", *, name: str | None = None, media_type: str | None = None
    ) -> None:
        if isinstance(source, str) and _is_address(source):
            self.address = source
            last = "" if source.startswith("data:") else source.partition("?")[0].rpartition("/")[2]
            self.name = name or last
            return
        data, found_type = _read(source, "a file", "send it in parts, or only the pages that matter")
        self.name = name or ("" if isinstance(source, (bytes, bytearray)) else Path(source).name)
        self.address = _data_address(media_type or file_type_of(data, self.name, found_type), data)

    @property
    def part(self) -> dict[str, Json]:
        """The part of a message that it is."""
        file: dict[str, Json] = {"filename": self.name} if self.name else {}
        where = "file_data" if self.address[:5].lower() == "data:" else "file_url"
        return {"type": "file", "file": {**file, where: self.address}}

    def __repr__(self) -> str:
        return f"File({self.name or _shown(self.address)})"


class Audio:
    """Audio for a prompt.

    Args:
        source: a path, or the bytes.
        format: such as ``wav`` or ``mp3``, where its first bytes and its name do not tell.

    Raises:
        RequestError: there is no such file, it is too large, or nothing tells what it is.

    Example:
        >>> Audio(b"RIFF....WAVE").part["input_audio"]["format"]
        'wav'
    """

    def __init__(self, source: "str | os.PathLike[str] | bytes", *, format: str | None = None) -> None:  # noqa: A002
        if isinstance(source, str) and _is_address(source):
            raise RequestError("audio cannot be passed by its address", hint="Fetch it and pass the bytes.")
        data, found_type = _read(source, "audio", "send it in parts")
        suffix = "" if isinstance(source, (bytes, bytearray)) else Path(source).suffix[1:].lower()
        sniffed = audio_type_of(data)
        known = {"audio/mpeg": "mp3"}.get(sniffed, sniffed.partition("/")[2]) if sniffed is not None else suffix
        if not (format or known):
            raise RequestError(f"{found_type} does not tell what kind of audio it is", hint='Say it: format="wav".')
        self.format = format or known
        self.data = base64.b64encode(data).decode()

    @property
    def part(self) -> dict[str, Json]:
        """The part of a message that it is."""
        return {"type": "input_audio", "input_audio": {"data": self.data, "format": self.format}}

    def __repr__(self) -> str:
        return f"Audio({self.format}, {len(self.data) * 3 // 4} bytes)"


def images(sources: "Source | Iterable[Source]") -> list[Image]:
    """The images of several sources, or of one.

    Raises:
        RequestError: one is no image.
    """
    return [each if isinstance(each, Image) else Image(cast("str", each)) for each in _several(sources, Image)]


def files(sources: "FileSource | Iterable[FileSource]") -> list[File | Audio]:
    """The files of several sources, or of one; what is audio by its name is audio.

    Raises:
        RequestError: one cannot be used.
    """
    return [_file(each) for each in _several(sources, File, Audio)]


def _several(sources: object, *kinds: type) -> list[object]:
    if isinstance(sources, (str, bytes, bytearray, os.PathLike, *kinds)) or not isinstance(sources, Iterable):
        return [sources]
    return list(sources)


_AUDIO_SUFFIXES = frozenset({".wav", ".mp3", ".flac", ".ogg", ".m4a", ".opus", ".aac"})


def _file(source: object) -> File | Audio:
    if isinstance(source, (File, Audio)):
        return source
    if isinstance(source, (str, os.PathLike)) and not (isinstance(source, str) and _is_address(source)):
        if Path(source).suffix.lower() in _AUDIO_SUFFIXES:
            return Audio(source)
        return File(source)
    if isinstance(source, (bytes, bytearray)) and audio_type_of(bytes(source[:16])) is not None:
        return Audio(bytes(source))
    return File(cast("str", source))  # says itself what it cannot be made of


def _is_address(source: str) -> bool:
    return source.lower().startswith(("http://", "https://", "data:"))


def _data_address(media_type: str, data: bytes) -> str:
    return f"data:{media_type};base64,{base64.b64encode(data).decode()}"


def _shown(address: str) -> str:
    return repr(address if len(address) < 80 else f"{address[:40]}...")


_FILES = {"an image": "image file", "a file": "file", "audio": "audio file"}


def _read(source: object, kind: str, smaller: str) -> tuple[bytes, str]:
    """The bytes of a source, and what it is called in an error message."""
    if isinstance(source, (bytes, bytearray)):
        data, media_type = bytes(source), f"the {kind.rpartition(' ')[2]}"
        size = len(data)
    elif isinstance(source, (str, os.PathLike)):
        path = Path(source)
        media_type = str(path)
        try:
            found_type = path.stat()
            if not stat.S_ISREG(found_type.st_mode):
                raise RequestError(f"{path} is no ordinary file", hint=f"Name an existing {_FILES[kind]}.")
            with path.open("rb") as opened:  # no more than is sent: it may grow meanwhile
                data = opened.read(MOST_BYTES + 1) if found_type.st_size <= MOST_BYTES else b""
            size = max(found_type.st_size, len(data))
        except (OSError, ValueError) as error:  # a ValueError: there is a NUL in it
            raise RequestError(
                f"{media_type if media_type.isprintable() else repr(media_type)} cannot be read "
                f"({getattr(error, 'strerror', None) or error})",
                hint=f"Name an existing {_FILES[kind]}.",
            ) from None
    else:
        raise RequestError(f"{kind} cannot be a {type(source).__name__}", hint="Pass a path, the bytes or an address.")
    if size > MOST_BYTES:
        raise RequestError(
            f"{media_type} has {size / 1e6:.1f} MB; {MOST_BYTES / 1e6:.1f} MB is the most that is sent",
            hint=f"Make it smaller: {smaller}.",
        )
    return data, media_type
