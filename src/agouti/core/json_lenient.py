"""Decode into a struct although some fields have unexpected types.

The typed decoders accept what a format promises. Servers that say they follow it send a float for
a count, a number for a text or an object for a text all the same; that must cost the field, not the reply.
"""

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
    value, end = json.JSONDecoder().raw_decode(text)
    if end == len(text) or not isinstance(value, (dict, list)):
        raise ValueError("nothing behind it")
    return value


# What decoding may raise: msgspec reports bytes that are no UTF-8 inside a text in a way of its own.
UNDECODABLE = (msgspec.MsgspecError, UnicodeDecodeError)


def decode_json(body: bytes) -> Any:
    """A JSON value; bytes that are no UTF-8 become replacement characters: they must not cost the rest.

    Raises:
        msgspec.DecodeError: it is not JSON.

    >>> decode_json(bytes.fromhex("5b22ff225d")) == ["\\ufffd"]
    True
    """
    try:
        return msgspec.json.decode(body)
    except UnicodeDecodeError:
        return msgspec.json.decode(body.decode("utf-8", "replace"))


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
    kept: dict[str, Any] = {}
    for field in msgspec.structs.fields(kind):
        if field.encode_name not in value:
            continue
        try:
            kept[field.encode_name] = _mend(value[field.encode_name], field.type)
        except msgspec.ValidationError:
            if field.required:
                raise
    return msgspec.convert(kept, kind)


def _mend(value: object, kind: Any) -> Any:
    try:
        return msgspec.to_builtins(msgspec.convert(value, kind, strict=False))
    except msgspec.ValidationError:
        for inner in getattr(kind, "__args__", ()) or (kind,):
            if inner is str and isinstance(value, (int, float)) and not isinstance(value, bool):
                return str(value)
            if isinstance(value, dict) and isinstance(inner, type) and issubclass(inner, msgspec.Struct):
                return msgspec.to_builtins(lenient(value, inner))
            if isinstance(value, list) and getattr(inner, "__origin__", None) is list:
                return [_mend(each, inner.__args__[0]) for each in value]
        raise
