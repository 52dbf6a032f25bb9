"""Decode into a struct although some fields have unexpected types.

The typed decoders accept what a format promises. Servers that say they follow it send a float for
a count, a number for a text or an object for a text all the same; that must cost the field, not the reply.
"""

import re
from typing import Any, TypeVar

import msgspec


def first_value(body: bytes) -> Any:
    """The JSON value at the beginning of a body that has something else behind it.

    A proxy that adds a comment of its own to every page must not cost a paid answer.

    Raises:
        ValueError: there is none.

    >>> first_value(b'{"a": 1}<!-- served by -->')
    {'a': 1}
    """
    import json

    text = body.decode("utf-8", "replace").lstrip()
    value, end = json.JSONDecoder(strict=False, parse_constant=lambda _: None).raw_decode(text)
    if end == len(text) or not isinstance(value, (dict, list)):
        raise ValueError("nothing behind it")
    return _without_halves(value)


# What decoding may raise: msgspec reports bytes that are no UTF-8 inside a text, and values nested too deeply, in ways
# of its own.
UNDECODABLE = (msgspec.MsgspecError, UnicodeDecodeError, RecursionError)


def decode_json(body: bytes) -> Any:
    """A JSON value, also where it breaks the letter of JSON in ways that servers do.

    Bytes that are no UTF-8 and halves of surrogate pairs become replacement characters, numbers that are none (``NaN``)
    become `None`, and line ends may stand inside a text: each costs a character or a field, not the rest.

    Raises:
        msgspec.DecodeError: it is not JSON.

    >>> decode_json(bytes.fromhex("5b22ff225d")) == ["\\ufffd"]
    True
    >>> decode_json(b'{"logprob": -Infinity, "index": 0}')
    {'logprob': None, 'index': 0}
    """
    if body[:3] == b"\xef\xbb\xbf":  # the mark at the beginning of some files
        body = body[3:]
    try:
        return msgspec.json.decode(body)
    except UnicodeDecodeError:
        return _decode_sloppy(body)
    except RecursionError:
        raise msgspec.DecodeError("it is nested too deeply") from None
    except msgspec.DecodeError as error:
        # Only these make a difference; what is no JSON at all is not read twice.
        if _SLOPPY.search(body) is None and _is_utf8(body):
            raise
        try:
            return _decode_sloppy(body)
        except msgspec.DecodeError:
            raise error from None


_SLOPPY = re.compile(rb"NaN|Infinity|\\u[dD][89a-fA-F]|[\x00-\x1f]")


def _is_utf8(body: bytes) -> bool:
    """Whether bytes are a text; some releases of the decoder say of others only that they are no JSON."""
    try:
        body.decode()
    except UnicodeDecodeError:
        return False
    return True


def _decode_sloppy(body: bytes) -> Any:
    import json

    text = body.decode("utf-8", "replace")
    try:
        return _without_halves(json.loads(text, strict=False, parse_constant=lambda _: None))
    except (ValueError, RecursionError) as error:
        raise msgspec.DecodeError(str(error)) from None


def _without_halves(value: Any) -> Any:
    """The value with a replacement character for each half of a surrogate pair, which no encoder takes."""
    if isinstance(value, str):
        return value if value.isascii() else value.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    if isinstance(value, list):
        return [_without_halves(each) for each in value]
    if isinstance(value, dict):
        return {_without_halves(name): _without_halves(each) for name, each in value.items()}
    return value


def any_json(body: bytes) -> Any:
    """The JSON value of a body, whatever stands behind it.

    Raises:
        msgspec.DecodeError: there is none.
    """
    try:
        return decode_json(body)
    except msgspec.DecodeError as error:
        try:
            return first_value(body)
        except (ValueError, RecursionError):
            raise error from None


T = TypeVar("T", bound=msgspec.Struct)


def lenient(value: object, kind: type[T]) -> T:
    """A ``kind`` from a decoded JSON object: fields that do not fit are mended or left out.

    Raises:
        msgspec.ValidationError: ``value`` is not an object, or a field without default is missing.

    >>> class Count(msgspec.Struct):
    ...     tokens: int | None = None
    ...     word: str | None = None
    >>> lenient({"tokens": 3.0, "word": ["no text"]}, Count)
    Count(tokens=3, word=None)
    """
    if not isinstance(value, dict):
        raise msgspec.ValidationError(f"Expected `object`, got `{type(value).__name__}`")
    members: dict[str, Any] = {}
    for field in msgspec.structs.fields(kind):
        if field.encode_name not in value:
            continue
        try:
            members[field.encode_name] = _coerce(value[field.encode_name], field.type)
        except msgspec.ValidationError:
            if field.required:
                raise
    return msgspec.convert(members, kind)


def _coerce(value: object, kind: Any) -> Any:
    try:
        return msgspec.to_builtins(msgspec.convert(value, kind, strict=False))
    except msgspec.ValidationError:
        for inner in getattr(kind, "__args__", ()) or (kind,):
            if inner is str and isinstance(value, (int, float)) and not isinstance(value, bool):
                return str(value)
            if isinstance(value, dict) and isinstance(inner, type) and issubclass(inner, msgspec.Struct):
                return msgspec.to_builtins(lenient(value, inner))
            if isinstance(value, list) and getattr(inner, "__origin__", None) is list:
                return [_coerce(each, inner.__args__[0]) for each in value]
        raise
