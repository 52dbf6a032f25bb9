"""Regular expressions of forms, matched against what models write: what a text makes run for ever ends in time.

Some patterns take time that doubles with each letter of a text that does not match, and hold the interpreter
meanwhile. The ``regex`` library takes a limit on the time; msgspec's own patterns cannot be given one.
"""

import re
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any

from .core.errors import ConfigError, RequestError
from .form import Misfit

_SECONDS = 0.25
"""How long all patterns of one form may take on one answer."""

_REPEATS = (re._constants.MAX_REPEAT, re._constants.MIN_REPEAT)  # type: ignore[attr-defined]
_CHOICE = re._constants.BRANCH  # type: ignore[attr-defined]
_UNBOUNDED = 64


class _Clock(threading.local):
    until = 0.0


_clock = _Clock()


class InTime:
    """A check with a limit on the time of all patterns in it together."""

    def __init__(self, check: Callable[[Any], Any]) -> None:
        self._check = check

    def __call__(self, value: Any) -> Any:
        _clock.until = time.monotonic() + _SECONDS
        return self._check(value)


def searches(pattern: str, text: str) -> bool:
    """Whether the pattern is found in a text.

    Raises:
        Misfit: it takes longer than such texts may take.
    """
    compiled = _compiled(pattern)
    left = _clock.until - time.monotonic()
    try:
        if left <= 0:
            raise TimeoutError
        return compiled.search(text, timeout=left, concurrent=True) is not None
    except TimeoutError:
        raise Misfit((f"the pattern {pattern[:100]} takes too long on {text[:40]!r}...: give another text",)) from None


@lru_cache(512)
def _compiled(pattern: str) -> Any:
    try:
        import regex
    except ModuleNotFoundError:
        raise ConfigError(
            "patterns of a JSON Schema are matched by regex, which is not installed",
            hint="Install it: pip install 'agouti-client[forms]'.",
        ) from None
    try:
        return regex.compile(pattern)
    except (regex.error, RecursionError, OverflowError) as error:
        raise RequestError(
            f"the JSON Schema has a pattern that is no regular expression: {pattern[:100]!r} ({error})",
            hint="Correct it; Python's and ECMAScript's expressions are mostly alike.",
        ) from None


def check_patterns(schema: Any) -> None:
    """See that all patterns of a JSON Schema can be used.

    Raises:
        RequestError: one is no regular expression, or one of names could run for ever.
    """
    for word, pattern in patterns_in(schema):
        _compiled(pattern)
        if word == "patternProperties" and may_run_away(pattern):
            raise _runs_away(pattern, "Write it without a repeat within a repeat.")


def check_patterns_of_types(schema: Any) -> None:
    """See that no pattern of a type, which is matched without a limit on the time, can run for ever.

    Raises:
        RequestError: one can.
    """
    for _, pattern in patterns_in(schema):
        if may_run_away(pattern):
            raise _runs_away(
                pattern,
                "Write it without a repeat within a repeat; or take a pydantic model or a JSON Schema, whose patterns "
                "end in time.",
            )


def _runs_away(pattern: str, hint: str) -> RequestError:
    return RequestError(f"the pattern {pattern[:100]!r} can run for ever on what a model writes", hint=hint)


def patterns_in(schema: Any) -> Iterator[tuple[str, str]]:
    """The patterns of a JSON Schema, each with the word that it stands behind."""
    ahead = [schema]
    while ahead:
        each = ahead.pop()
        if isinstance(each, list):
            ahead += each
        elif isinstance(each, Mapping):
            if isinstance(pattern := each.get("pattern"), str):
                yield "pattern", pattern
            if isinstance(named := each.get("patternProperties"), Mapping):
                for pattern in named:
                    yield "patternProperties", pattern
            ahead += [inner for name, inner in each.items() if name not in ("enum", "const", "default", "examples")]


@lru_cache(512)
def may_run_away(pattern: str) -> bool:
    """Whether a pattern has a repeat within a repeat, or a choice within one: where time can double with each letter.

    >>> may_run_away("^(a+)+$"), may_run_away("^(a|aa)+$"), may_run_away("^[a-z]+-[0-9]{4}$")
    (True, True, False)
    """
    try:
        parsed = re._parser.parse(pattern)  # type: ignore[attr-defined]
    except (re.error, RecursionError, OverflowError):
        return False  # whoever compiles it says so
    return _nested(parsed, False)


def _nested(parsed: Any, within: bool) -> bool:
    return any(_repeats_within(kind, what, within) for kind, what in parsed)


def _repeats_within(kind: Any, what: Any, within: bool) -> bool:
    if kind in _REPEATS:
        least, most, inner = what
        return (most != least and within) or _nested(inner, within or int(most) > _UNBOUNDED)
    if kind is _CHOICE:
        return within or any(_nested(each, within) for each in what[1])
    return any(_nested(each, within) for each in (what if isinstance(what, tuple) else (what,)) if _is_group(each))


def _is_group(part: Any) -> bool:
    return isinstance(part, re._parser.SubPattern)  # type: ignore[attr-defined]
