"""What an image is, by its first bytes: names of files and headers lie."""

from .errors import RequestError

MOST_BYTES = 20 * 1024 * 1024
_MARKS = (
    (b"\x89PNG\r\n\x1a\n", "image/png"),
    (b"\xff\xd8\xff", "image/jpeg"),
    (b"GIF87a", "image/gif"),
    (b"GIF89a", "image/gif"),
)


def media_type_of(data: bytes, what: str = "the image") -> str:
    """The media type of an image.

    Raises:
        RequestError: it is none that models take, or too large.

    >>> media_type_of(b"GIF89a...")
    'image/gif'
    """
    if len(data) > MOST_BYTES:
        raise RequestError(
            f"{what} has {len(data) / 1e6:.1f} MB; {MOST_BYTES / 1e6:.1f} MB is the most that is sent",
            hint="Make it smaller: models see no more than about 2000 pixels across.",
        )
    for mark, media_type in _MARKS:
        if data.startswith(mark):
            return media_type
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "image/webp"
    seen = "it is empty" if not data else f"it begins with {data[:8]!r}"
    raise RequestError(f"{what} is no image that models take ({seen})", hint="Save it as PNG, JPEG, GIF or WebP.")
