"""What a file is, by its first bytes where they tell: names of files and headers lie."""

from ..errors import RequestError

MOST_BYTES = 20 * 1024 * 1024
_MARKS = (
    (b"\x89PNG\r\n\x1a\n", "image/png"),
    (b"\xff\xd8\xff", "image/jpeg"),
    (b"GIF87a", "image/gif"),
    (b"GIF89a", "image/gif"),
)


def media_type_of(data: bytes, subject: str = "the image") -> str:
    """The media type of an image.

    Raises:
        RequestError: it is none that models take, or too large.

    >>> media_type_of(b"GIF89a...")
    'image/gif'
    """
    if len(data) > MOST_BYTES:
        raise RequestError(
            f"{subject} has {len(data) / 1e6:.1f} MB; {MOST_BYTES / 1e6:.1f} MB is the most that is sent",
            hint="Make it smaller: models see no more than about 2000 pixels across.",
        )
    for mark, media_type in _MARKS:
        if data.startswith(mark):
            return media_type
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "image/webp"
    # What it begins with is not repeated: where paths come from strangers that would read files for them.
    evidence = "it is empty" if not data else "by its first bytes"
    raise RequestError(
        f"{subject} is no image that models take ({evidence})", hint="Save it as PNG, JPEG, GIF or WebP."
    )


_AUDIO = (
    (b"RIFF", "audio/wav"),
    (b"ID3", "audio/mpeg"),
    (b"\xff\xfb", "audio/mpeg"),
    (b"\xff\xf3", "audio/mpeg"),
    (b"fLaC", "audio/flac"),
    (b"OggS", "audio/ogg"),
)
_SUFFIXES = {
    "image/png": ".png",
    "image/jpeg": ".jpg",
    "image/gif": ".gif",
    "image/webp": ".webp",
    "audio/wav": ".wav",
    "audio/mpeg": ".mp3",
    "audio/flac": ".flac",
    "audio/ogg": ".ogg",
    "audio/pcm": ".pcm",
    "application/pdf": ".pdf",
    "text/plain": ".txt",
}


def audio_type_of(data: bytes) -> str | None:
    """The media type of audio by its first bytes; `None` where they say nothing.

    >>> audio_type_of(b"RIFF....WAVE")
    'audio/wav'
    """
    return next((media_type for mark, media_type in _AUDIO if data.startswith(mark)), None)


def suffix_of(media_type: str) -> str:
    """The usual suffix of files of a media type.

    >>> suffix_of("image/png"), suffix_of("model/step")
    ('.png', '.bin')
    """
    return _SUFFIXES.get(media_type, ".bin")


_BY_NAME = {
    ".txt": "text/plain",
    ".md": "text/markdown",
    ".csv": "text/csv",
    ".html": "text/html",
    ".htm": "text/html",
    ".json": "application/json",
    ".xml": "text/xml",
    ".doc": "application/msword",
    ".docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
    ".xls": "application/vnd.ms-excel",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}


def file_type_of(data: bytes, name: str = "", subject: str = "the file") -> str:
    """The media type of a file, by its first bytes, its name, or its being a text.

    Raises:
        RequestError: nothing tells.

    >>> file_type_of(b"%PDF-1.7"), file_type_of(b"Peas,beans", "list.csv"), file_type_of(b"Peas")
    ('application/pdf', 'text/csv', 'text/plain')
    """
    if not data:
        raise RequestError(f"{subject} is empty", hint="Name a file that holds something.")
    if b"%PDF-" in data[:1024]:
        return "application/pdf"
    suffix = "." + name.rpartition(".")[2].lower()
    if suffix in _BY_NAME:
        return _BY_NAME[suffix]
    try:
        data.decode()
    except UnicodeDecodeError:
        raise RequestError(
            f"{subject} does not tell what kind of file it is",
            hint='Say it: agouti.File(..., media_type="application/pdf"); images go into images=[...].',
        ) from None
    return "text/plain"
