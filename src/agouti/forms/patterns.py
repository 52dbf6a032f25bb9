"""Regular expressions of forms, matched against what models write: what a text makes run for ever ends in time.

Some patterns take time that doubles with each letter of a text that does not match, and hold the interpreter
meanwhile. The ``regex`` library takes a limit on the time; msgspec's own patterns cannot be given one.
"""

import threading
import time
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any

from ..core.errors import ConfigError, RequestError
from ..core.schemas.pattern_growth import grows_too_fast
from ..core.schemas.values import inside, leaves
from .form import Misfit

_SECONDS = 0.25
"""How long all patterns of one form may take on one answer; what else is done meanwhile does not count."""

_TYPICAL_SECONDS = 25e-6
"""What a search takes on a usual text does not count either: there may be as many as an answer is long."""

_LONGEST = 10_000
"""Letters of a text that is matched without a limit on the time."""


class _Clock(threading.local):
    remaining = 0.0


_clock = _Clock()


class InTime:
    """A check with a limit on the time of all patterns in it together."""

    def __init__(self, check: Callable[[Any], Any]) -> None:
        self._check = check

    def __call__(self, value: Any) -> Any:
        _clock.remaining = _SECONDS
        return self._check(value)


def searches(pattern: str, text: str) -> bool:
    """Whether the pattern is found in a text.

    Raises:
        Misfit: it takes longer than such texts may take.
    """
    compiled = _compiled(pattern)
    started_at = time.thread_time()
    try:
        if _clock.remaining <= 0:
            raise TimeoutError
        return compiled.search(text, timeout=_clock.remaining, concurrent=True) is not None
    except TimeoutError:
        raise Misfit((f"the pattern {pattern[:100]} takes too long on {text[:40]!r}...: give another text",)) from None
    finally:
        _clock.remaining -= max(time.thread_time() - started_at - _TYPICAL_SECONDS, 0.0)


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
    for keyword, pattern in patterns_in(schema):
        _compiled(pattern)
        if keyword == "patternProperties" and may_run_away(pattern):
            raise _runs_away(pattern, "Write it so that each letter can be taken in one way only: no (a+)+.")


def check_patterns_of_types(schema: Any) -> None:
    """See that no pattern of a type, which is matched without a limit on the time, can run for ever.

    Raises:
        RequestError: one can.
    """
    for _, pattern in patterns_in(schema):
        if may_run_away(pattern):
            raise _runs_away(
                pattern,
                "Write it so that each letter can be taken in one way only; or take a pydantic model or a JSON Schema, "
                "whose patterns end in time.",
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
    """Whether a text can make a pattern run for ever: see `core.pattern_growth`."""
    return grows_too_fast(pattern)


class ShortTexts:
    """A check that takes no text too long for its pattern, whose time may grow with the square."""

    def __init__(self, check: Callable[[Any], Any], schema: Mapping[str, Any]) -> None:
        self._check = check
        self._schema = schema

    def __call__(self, value: Any) -> Any:
        self._match(value, [self._schema])
        return self._check(value)

    def _match(self, value: Any, schemas: list[Mapping[str, Any]]) -> None:
        texts = [leaf for each in schemas for leaf in leaves(each, self._schema)]
        if isinstance(value, str) and len(value) > _LONGEST and any("pattern" in each for each in texts):
            raise Misfit((f"a text has {len(value):,} letters, too many for its pattern: {_LONGEST:,} at most",))
        if isinstance(value, dict):
            for name, each in value.items():
                self._match(each, [inner for leaf in texts for inner in inside(leaf, name)])
        elif isinstance(value, list):
            inner = [inner for leaf in texts for inner in inside(leaf, None)]
            for each in value:
                self._match(each, inner)
