"""What the options of a run are called, for people and for the next run."""

from typing import Any


def identity(value: Any) -> str:
    """What an option that is no JSON is called: a function by its name, whatever program it is in."""
    name = getattr(value, "__qualname__", None) or getattr(getattr(value, "function", None), "__qualname__", None)
    module = getattr(value, "__module__", "")
    return f"{module}.{name}" if isinstance(name, str) else str(value)


def listed(names: list[str]) -> str:
    """Names as a sentence has them."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
