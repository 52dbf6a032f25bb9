"""What real servers leave out of their formats, or put in: the switch ``+loose`` of every stand-in.

No indices, no end mark, no line end behind the last event, empty reasons, counts with a point, NaN, missing counts.
"""

import json
from collections.abc import AsyncIterator, Callable
from typing import Any

from starlette.responses import Response

from .faults import Fault

Change = Callable[[dict[str, Any]], None]


def is_loose(fault: Fault | None) -> bool:
    """Whether a reply is to be so."""
    return fault is not None and fault.name == "loose"


def plain(value: dict[str, Any], change: Change, media_type: str = "application/json") -> Response:
    """A whole reply."""
    change(value)
    odd(value)
    return Response(json.dumps(value), media_type=media_type)


async def events(stream: AsyncIterator[str], change: Change) -> AsyncIterator[str]:
    """The same events or lines, each changed, the last one without its end."""
    held = ""
    async for piece in stream:
        for event in [each for each in piece.split("\n\n") if each] if "data:" in piece else [piece]:
            made = _changed(event, change)
            if made is not None:
                yield held
                held = made
    yield held.rstrip("\n")


def _changed(event: str, change: Change) -> str | None:
    head, mark, data = event.rpartition("data: ")
    if mark and not data.lstrip().startswith("{"):
        return None  # an end mark
    value = json.loads(data)
    change(value)
    odd(value)
    return f"{head}{mark}{json.dumps(value)}" + ("\n\n" if mark else "\n")


def odd(value: dict[str, Any]) -> None:
    """Fields that nobody has promised, and no JSON at that."""
    value["x_odd"] = {"score": float("nan"), "more": [float("inf")]}


def with_points(counts: Any) -> None:
    """Counts as numbers with a point."""
    if isinstance(counts, dict):
        for name, count in counts.items():
            if isinstance(count, int):
                counts[name] = float(count)
