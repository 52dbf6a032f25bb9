"""Made-up embeddings with true lexical similarity: texts that share words, or parts of words, are near each other."""

import base64
import math
import re
import struct
import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from .auth import Refusal
from .providers import StandIn
from .writer import tokens

_LONGEST = 512
# Words that stand in every text say nothing about it.
_COMMON = frozenset(
    [
        "the",
        "and",
        "for",
        "that",
        "with",
        "this",
        "from",
        "are",
        "was",
        "who",
        "when",
        "where",
        "something",
        "they",
        "has",
    ]
)
# What growers mean by one thing has one place.
_SAME = {"growing": "grow", "sow": "plant", "sowing": "plant", "planting": "plant", "bed": "plot", "sunny": "sun"}


@dataclass(frozen=True)
class Vector:
    """One vector of length 1."""

    numbers: list[float]

    def as_base64(self) -> str:
        """The bytes of little-endian 32-bit floats, as base64."""
        return base64.b64encode(struct.pack(f"<{len(self.numbers)}f", *self.numbers)).decode()


@dataclass(frozen=True)
class Made:
    """The vectors of one request, and its tokens."""

    vectors: list[Vector]
    tokens: int


def vector(text: str, dimensions: int) -> Vector:
    """The vector of a text: its words and their parts, each thrown to two of the places by a checksum."""
    places = [0.0] * dimensions
    for feature, weight in _features(text):
        thrown = zlib.crc32(feature.encode())
        places[thrown % dimensions] += weight
        places[(thrown >> 8) % dimensions] += weight if thrown & 1 else -weight
    length = math.sqrt(sum(each * each for each in places)) or 1.0
    return Vector([each / length for each in places])


def _features(text: str) -> Iterable[tuple[str, float]]:
    for word in re.findall(r"[a-z]+", text.lower()):
        if len(word) < 3 or word in _COMMON:
            continue
        word = _SAME.get(word, word)
        yield word, 1.0
        padded = f"<{word}>"
        for start in range(len(padded) - 2):
            yield padded[start : start + 3], 0.25


def embeddings(provider: StandIn, name: str, texts: Sequence[object], dimensions: int | None, most: int) -> Made:
    """The vectors of one request.

    Raises:
        Refused: no such model, too many texts, or an empty or too long one.
    """
    from .model import Refused

    model = provider.model(name)
    if model is None:
        raise Refused(Refusal(404, f"The model '{name}' does not exist.", "model_not_found"))
    if not model.vectors:
        raise Refused(Refusal(400, f"{name} does not make embeddings.", "unsupported_operation"))
    if not texts or len(texts) > most:
        raise Refused(Refusal(400, f"A request takes 1 to {most} inputs, not {len(texts)}."))
    if dimensions is not None and not 1 <= dimensions <= model.vectors:
        raise Refused(Refusal(400, f"dimensions must be from 1 to {model.vectors}."))
    count = 0
    for place, text in enumerate(texts):
        if not isinstance(text, str) or not text:
            raise Refused(Refusal(400, f"input {place} must be a text that is not empty."))
        length = len(tokens(text))
        if length > _LONGEST:
            message = f"input {place} is too long: {length} tokens, the maximum context length is {_LONGEST} tokens."
            raise Refused(Refusal(400, message, "context_length_exceeded"))
        count += length
    size = dimensions or model.vectors
    return Made([vector(str(text), size) for text in texts], count)
