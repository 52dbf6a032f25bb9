"""What a body of JSON is written of: texts and numbers, of whatever class they are."""

from typing import Any

import msgspec


def _as_plain(value: Any) -> Any:
    """Texts and numbers of a class of their own (safe markup, translations, scalars of arrays) as what they are."""
    for kind in (str, bool, int, float):
        if isinstance(value, kind):
            return str.__str__(value) if kind is str else kind(value)
    if callable(item := getattr(value, "item", None)) and getattr(value, "shape", None) == ():
        return item()  # a scalar of an array
    name = type(value).__name__
    raise TypeError(f"Encoding objects of type {name} is unsupported")


encode = msgspec.json.Encoder(enc_hook=_as_plain).encode
"""A value as bytes; raises `TypeError` where there is something in it that JSON has no place for."""
