"""What a request asks to be paid for, as it stands in the body that goes out: caps, answers, media.

Dialects say where their caps stand (`Abilities.cap_fields`); a body may have further ones, put there by an entry or by
whoever asks. They are known by their names, which differ little from one provider to the next.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from math import ceil

from msgspec import Struct

from ..canonical.chat import Json
from ..errors import RequestError
from ..json.pointer import MISSING, read, steps

# Names of a cap on the tokens of an answer, in small letters and without underscores.
_CAPS = frozenset({"maxtokens", "maxcompletiontokens", "maxoutputtokens", "maxnewtokens", "numpredict"})
_ANSWERS = frozenset({"n", "bestof", "candidatecount", "numoutputs"})
# Tables in which parameters stand; a word deeper down is one of the conversation.
_TABLES = frozenset(
    {"options", "parameters", "input", "generationconfig", "inferenceconfig", "additionalmodelrequestfields"}
)
# Fields that stand for something which the provider keeps: how many tokens it has, the body does not say.
_STORED_CONTEXT = frozenset({"previousresponseid", "conversation", "cachedcontent", "container", "context"})
_IMAGES = frozenset({"image", "image_url", "input_image"})
_FILES = frozenset({"file", "input_file", "document"})
_SOUNDS = frozenset({"audio", "input_audio", "video"})
# Fields that hold a picture, a file or a sound: what begins like one anywhere else is a text, and counts as that.
_CARRIERS = frozenset(
    {"audio", "bytes", "data", "document", "file", "file_data", "image", "image_url", "images", "url", "video"}
)
_DATA = re.compile(r"data:([\w.+-]+)/[\w.+-]+(?:;[\w.+=-]+)*,[A-Za-z0-9+/_=%\r\n-]*")
_BASE64 = re.compile(r"[A-Za-z0-9+/_=\r\n-]*")
# Shorter texts are no media.
_SHORT = 64


class Caps(Struct, frozen=True):
    """What a request asks for at most.

    Attributes:
        output_tokens: of one answer; `None` where nothing says how many.
        answers: how many answers are made and paid, also those that are thrown away.
    """

    output_tokens: int | None = None
    answers: int = 1


class Media(Struct, frozen=True):
    """A picture, a file or a sound in a request.

    Attributes:
        kind: ``image``, ``file`` or ``audio``.
        size: bytes of it in the body; 0 where the provider fetches it from its address.
    """

    kind: str
    size: int


def caps_of(body: Mapping[str, Json], cap_fields: Iterable[str], answer_fields: Iterable[str]) -> Caps:
    """The caps that stand in a body.

    Args:
        cap_fields, answer_fields: where a dialect writes them, as JSON Pointers.

    Raises:
        RequestError: two of them say different things: nobody knows which one the provider goes by.

    >>> caps_of({"max_tokens": 40, "n": 2}, ["/max_tokens"], ["/n"])
    Caps(output_tokens=40, answers=2)
    """
    caps, answers = _at(body, cap_fields), _at(body, answer_fields)
    for name, value in body.items():
        role = _role_of(name)
        if not role:
            continue
        if role == "cap":
            _note(caps, name, value)
        elif role == "answers":
            _note(answers, name, value)
        elif role == "table" and isinstance(value, Mapping):
            for inner, each in value.items():
                if (role := _role_of(inner)) in ("cap", "answers"):
                    _note(caps if role == "cap" else answers, f"{name}.{inner}", each)
    output_tokens = None
    if caps:
        known = {max(value, 0) for value in caps.values()}  # nothing, or less: as many as it likes
        if len(known) > 1:
            media_type = " and ".join(f"{name} = {value}" for name, value in sorted(caps.items()))
            raise RequestError(
                f"the request has two caps that differ: {media_type}",
                hint="Leave one of them out: of max_tokens, extra, and add in the provider's entry.",
            )
        output_tokens = known.pop() or None
    return Caps(output_tokens, max([1, *answers.values()]) if answers else 1)


def has_stored_context(body: Mapping[str, Json]) -> bool:
    """Whether a body names something that the provider keeps, and that counts as if it stood there."""
    return any(value and _role_of(name) == "kept" for name, value in body.items())


def _at(body: Mapping[str, Json], pointers: Iterable[str]) -> dict[str, int]:
    found: dict[str, int] = {}
    for pointer in pointers:
        path = steps(pointer)
        value = body.get(path[0], MISSING) if len(path) == 1 else read(body, pointer)
        if value is not MISSING:
            _note(found, ".".join(path), value)
    return found


def _note(found: dict[str, int], name: str, value: Json) -> None:
    if (count := _count(value)) is not None:
        found[name] = count


def _count(value: Json) -> int | None:
    """A number as lenient servers read it: also one with a point, or in a text."""
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        return None
    try:
        return value if isinstance(value, int) else ceil(float(value))
    except (ValueError, OverflowError):
        return None


_LONGEST_NAME = 40
_ROLES: dict[object, str] = {}


def _role_of(name: object) -> str:
    """What a field is for, in whatever spelling: ``cap``, ``answers``, ``table``, ``kept``, or nothing of these."""
    role = _ROLES.get(name)
    if role is not None:
        return role
    if not isinstance(name, str) or len(name) > _LONGEST_NAME:
        return ""
    simple_name, role = name.replace("_", "").lower(), ""
    for each, names in (("cap", _CAPS), ("answers", _ANSWERS), ("table", _TABLES), ("kept", _STORED_CONTEXT)):
        if simple_name in names:
            role = each
    if len(_ROLES) < 1000:  # bodies of strangers may have any number of names
        _ROLES[name] = role
    return role


# Every word by which a picture, a file or a sound is known has one of these in it: most bodies have none.
MEDIA_WORDS = re.compile(rb"image|file|document|audio|video|nline|data:")


def media_of(body: Json) -> Iterator[Media]:
    """The pictures, files and sounds in a body, in whatever words they stand there.

    >>> list(media_of({"type": "image_url", "image_url": {"url": "https://shelf.example/a.png"}}))
    [Media(kind='image', size=0)]
    """
    waiting: list[tuple[Json, object]] = [(body, "")]
    while waiting:
        value, name = waiting.pop()
        if isinstance(value, str):
            if len(value) > _SHORT and (kind := _kind_of_text(value, name)):
                yield Media(kind, len(value))
        elif isinstance(value, list):
            waiting += [(each, name) for each in value]
        elif isinstance(value, Mapping):
            if kind := _kind_of_part(value):
                yield Media(kind, _inline(value))
            else:
                waiting += [(each, key) for key, each in value.items()]


def _kind_of_part(part: Mapping[str, Json]) -> str:
    """What a part of a message is; empty where it is none of these."""
    kind = part.get("type")
    if isinstance(kind, str):
        for name, field_names in (("image", _IMAGES), ("file", _FILES), ("audio", _SOUNDS)):
            if kind in field_names:
                return name
    for name in ("inlineData", "inline_data", "fileData", "file_data"):
        data = part.get(name)
        if isinstance(data, Mapping):
            media_type = str(data.get("mimeType") or data.get("mime_type") or "")
            return {"image": "image", "audio": "audio", "video": "audio"}.get(media_type.partition("/")[0], "file")
    for name in ("image", "document", "audio", "video"):
        data = part.get(name)
        if isinstance(data, Mapping) and ("source" in data or "bytes" in data):
            return {"document": "file", "video": "audio"}.get(name, name)
    return ""


def _inline(part: Json) -> int:
    """The bytes that a part brings along; words beside them, or instead of them, are text."""
    if isinstance(part, str):
        return len(part) if len(part) > _SHORT and (_BASE64.fullmatch(part) or _DATA.fullmatch(part)) else 0
    if isinstance(part, Mapping):
        if part.get("type") == "text":
            return 0
        return sum(_inline(value) for name, value in part.items() if name in _CARRIERS or isinstance(value, Mapping))
    return sum(map(_inline, part)) if isinstance(part, list) else 0


def _kind_of_text(text: str, name: object) -> str:
    """What a text is that is none: a data URI, or what stands under the name of a picture in base64."""
    if name not in _CARRIERS:
        return ""
    if text.startswith("data:"):
        match = _DATA.fullmatch(text)
        return "" if match is None else match[1] if match[1] in ("image", "audio") else "file"
    return "image" if name in ("images", "image") and _BASE64.fullmatch(text) else ""
