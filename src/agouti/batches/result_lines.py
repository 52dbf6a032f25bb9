"""A line of results: written so that it can always be read, and read as far as it tells whose it is."""

import json
from collections.abc import Mapping
from typing import Any

import msgspec


class _Known(msgspec.Struct):
    """What is read of a result to know whose it is."""

    key: Any
    error: str | None = None


_DECODER = msgspec.json.Decoder(_Known)


def key_in(line: bytes) -> tuple[Any, bool] | None:
    """The key of a result, and whether it is an error; `None` where it is no whole result."""
    if not line.endswith(b"\n"):
        return None
    try:
        known = _DECODER.decode(line)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return _odd_key_in(line)
    return known.key, known.error is not None


def _odd_key_in(line: bytes) -> tuple[Any, bool] | None:
    """The same of a line that has half of a letter in it."""
    try:
        known = json.loads(line)
        return known["key"], known.get("error") is not None
    except (ValueError, RecursionError, LookupError, TypeError, AttributeError):
        return None


def result_line(result: Mapping[str, Any]) -> bytes:
    """A result as it is written."""
    try:
        return msgspec.json.encode(result, enc_hook=str) + b"\n"
    except (msgspec.MsgspecError, UnicodeEncodeError, TypeError, OverflowError):  # half of a letter, an odd number
        return json.dumps(result, default=str).encode() + b"\n"
