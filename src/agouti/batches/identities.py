"""What the options of a run are called, for people and for the next run."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..core.errors import RequestError

# Results are written under the names that options had in 0.2.
_TODAY = {"key": "id_column", "blanks": "variables"}


def identity(value: Any) -> str:
    """What an option that is no JSON is called: a function by its name, whatever program it is in."""
    name = getattr(value, "__qualname__", None) or getattr(getattr(value, "function", None), "__qualname__", None)
    module = getattr(value, "__module__", "")
    return f"{module}.{name}" if isinstance(name, str) else str(value)


def listed(names: list[str]) -> str:
    """Names as a sentence has them."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def check_same(before: Mapping[str, Any], question: Mapping[str, Any], out: Path) -> None:
    """See that a run asks as the one did whose results are there.

    Raises:
        RequestError: it does not.
    """
    if before != question:
        names = [_TODAY.get(name, name) for name in {**before, **question} if before.get(name) != question.get(name)]
        raise RequestError(
            f"{out} holds results of another run: {listed(names)} differ{'' if len(names) > 1 else 's'}",
            hint="Name another file, say --restart to begin again, or --ignore-changes to go on with what is there.",
        )
