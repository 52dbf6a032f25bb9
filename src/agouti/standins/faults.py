"""Faults on demand: named in a header, or after a ``+`` in the model's name.

``x-standin-fault: cut=3`` and model ``loam-2b+cut=3`` both break the stream off after three pieces.
"""

from collections.abc import Mapping
from dataclasses import dataclass

HEADER = "x-standin-fault"

FAULTS = {
    "status": "answer with that HTTP status and an error body",
    "html": "answer with a web page",
    "other-json": "answer with JSON that is no reply",
    "not-json": "answer with broken JSON under the JSON media type",
    "cut": "close the connection after that many pieces of a stream",
    "error": "report an error in the stream after that many pieces",
}


@dataclass(frozen=True)
class Fault:
    """One fault and its number, where it takes one."""

    name: str
    number: int = 0


def wanted(headers: Mapping[str, str], model: str) -> tuple[str, Fault | None]:
    """The model's plain name, and the fault that is wanted.

    >>> wanted({}, "loam-2b+cut=3")
    ('loam-2b', Fault(name='cut', number=3))
    """
    name, _, by_model = model.partition("+")
    text = headers.get(HEADER) or by_model
    if not text:
        return name, None
    fault, _, number = text.partition("=")
    if fault not in FAULTS:
        raise ValueError(f"no such fault: {fault}; there are {', '.join(FAULTS)}")
    return name, Fault(fault, int(number) if number.isdigit() else 0)
