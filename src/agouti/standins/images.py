"""The demo images, and what a made-up model reads in them: it knows them by their content, and no others.

The files are drawn by ``docs/packets.py`` from the labels below.
"""

import base64
import hashlib
import io
import wave
import zlib
from functools import cache
from pathlib import Path

LABELS = {
    "runner-bean": "Crop: runner bean\nVariety: Marsh Scarlet\nSow from: 15 April\nSow until: 30 June\n"
    "Depth in cm: 5\nSeeds: 20\nYear: 2025",
    "beetroot": "Crop: beetroot\nVariety: Lane Globe\nSow from: 20 March\nSow until: 15 July\n"
    "Depth in cm: 2\nSeeds: 150\nYear: 2026",
    "kale": "Crop: kale\nVariety: Old Fen Curled\nSow from: 1 April\nSow until: 15 June\n"
    "Depth in cm: 1\nSeeds: 200\nYear: 2024",
}  # fmt: skip
_FOLDER = Path(__file__).parent / "packets"


def packet(name: str) -> Path:
    """The image of a seed packet.

    >>> packet("kale").suffix
    '.png'

    Raises:
        KeyError: there is none of that name; see ``LABELS``.
    """
    if name not in LABELS:
        raise KeyError(f"no packet {name!r}; there are {', '.join(LABELS)}")
    return _FOLDER / f"{name}.png"


def label_of(image: bytes) -> str | None:
    """What stands on the packet in an image; `None` for any image that is not one of these."""
    return _by_content().get(hashlib.sha256(image).digest())


@cache
def _by_content() -> dict[bytes, str]:
    return {hashlib.sha256(packet(name).read_bytes()).digest(): label for name, label in LABELS.items()}


_COLOURS = {
    "red": (200, 20, 20),
    "green": (30, 140, 50),
    "blue": (30, 60, 200),
    "yellow": (230, 210, 40),
    "black": (0, 0, 0),
    "white": (255, 255, 255),
    "grey": (128, 128, 128),
}


def colour_of(image: bytes) -> str | None:
    """The colour in the first corner of a PNG of eight bits; `None` of any other image."""
    if not image.startswith(b"\x89PNG\r\n\x1a\n") or image[24:26] != b"\x08\x02":
        return None
    at, data = 8, b""
    while at + 8 <= len(image):
        length = int.from_bytes(image[at : at + 4])
        if image[at + 4 : at + 8] == b"IDAT":
            data += image[at + 8 : at + 8 + length]
        at += 12 + length
    try:
        first = zlib.decompressobj().decompress(data, 4)[1:4]
    except zlib.error:
        return None
    return min(_COLOURS, key=lambda name: sum((a - b) ** 2 for a, b in zip(_COLOURS[name], first, strict=True)))


def sound() -> str:
    """A tenth of a second of silence: base64 of a WAV file."""
    made = io.BytesIO()
    with wave.open(made, "wb") as opened:
        opened.setnchannels(1)
        opened.setsampwidth(2)
        opened.setframerate(8000)
        opened.writeframes(bytes(1600))
    return base64.b64encode(made.getvalue()).decode()
