"""Images for a prompt: from a file, from bytes, or by their address."""

import base64
import os
from collections.abc import Iterable
from pathlib import Path
from typing import TypeAlias

from .core.chat import Json
from .core.errors import RequestError
from .core.media_types import MOST_BYTES, media_type_of

Source: TypeAlias = "str | os.PathLike[str] | bytes | Image"


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
        if isinstance(source, str) and source.startswith(("http://", "https://", "data:")):
            self.address = source
            return
        if isinstance(source, (bytes, bytearray)):
            data, what = bytes(source), "the image"
        elif isinstance(source, (str, os.PathLike)):
            data, what = _read(Path(source)), str(source)
        else:
            raise RequestError(
                f"an image cannot be a {type(source).__name__}", hint="Pass a path, the bytes or an address."
            )
        self.address = f"data:{media_type_of(data, what)};base64,{base64.b64encode(data).decode()}"

    @property
    def part(self) -> dict[str, Json]:
        """The part of a message that it is."""
        image: dict[str, Json] = {"url": self.address}
        if self.detail is not None:
            image["detail"] = self.detail
        return {"type": "image_url", "image_url": image}

    def __repr__(self) -> str:
        shown = self.address if len(self.address) < 80 else f"{self.address[:40]}..."
        return f"Image({shown!r})"


def image(source: Source) -> Image:
    """The image of a source."""
    return source if isinstance(source, Image) else Image(source)


def images(sources: "Source | Iterable[Source]") -> list[Image]:
    """The images of several sources, or of one.

    Raises:
        RequestError: one is no image.
    """
    if isinstance(sources, (str, bytes, bytearray, os.PathLike, Image)) or not isinstance(sources, Iterable):
        return [image(sources)]
    return [image(each) for each in sources]


def _read(path: Path) -> bytes:
    try:
        if path.stat().st_size > MOST_BYTES:
            # Not even read: it may be anything.
            raise RequestError(
                f"{path} has {path.stat().st_size / 1e6:.1f} MB; {MOST_BYTES / 1e6:.1f} MB is the most that is sent",
                hint="Make it smaller: models see no more than about 2000 pixels across.",
            )
        return path.read_bytes()
    except OSError as error:
        raise RequestError(
            f"{path} cannot be read ({error.strerror or error})", hint="Name an existing image file."
        ) from None
