"""What the options of a batch must be, and what they say together."""

import builtins
import os
import re
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from ...batches.file_formats import ARRAYS, check_installed
from ...batches.report import SUFFIXES as REPORTS
from ...batches.result_lines import CUT, UNUSABLE
from ...core import errors
from ...core.canonical.parameters import NAMES
from ...core.errors import AgoutiError, RequestError
from ...core.text.suggest import near_hint
from ...engine.question import OPTIONS
from ...tables.table import check_suffix

# What is asked elsewhere is neither counted nor looked at here.
_HERE_ALONE = ("budget", "budget_in_all", "until", "accept")
_EXCLUDED = (
    ("restart", "ignore_changes"),
    ("prompt", "column"),
    ("out", "on_row"),
    ("cluster", "deferred"),
    ("deferred", "retry_cut"),
    *[(place, name) for place in ("cluster", "deferred") for name in _HERE_ALONE],
)


def check(batch_options: Mapping[str, Any], chat_options: Mapping[str, Any], names: Sequence[str]) -> None:
    """See that the options of a batch go together.

    Args:
        batch_options: its own ones that were given.
        chat_options: the others: of every call, and parameters.
        names: its own ones that there are.

    Raises:
        RequestError: they do not.
    """
    for name in chat_options:
        if name not in OPTIONS and name not in NAMES:
            raise RequestError(
                f"batch has no option {name!r}", hint=near_hint(name, [*names, *OPTIONS, *NAMES], "option")
            )
    for name in ("concurrency", "limit", "sample", "max_same_failures"):
        minimum = 0 if name == "max_same_failures" else 1
        value = batch_options.get(name, 1)
        if not isinstance(value, int) or isinstance(value, bool) or value < minimum:
            raise RequestError(f"{name} = {value!r} is out of range", hint=f"It takes a whole number from {minimum}.")
    progress = batch_options.get("progress")
    if not (progress is None or isinstance(progress, bool) or callable(progress)):
        raise RequestError(f"progress = {progress!r:.80} cannot be told", hint="Pass True, or a function.")
    share = batch_options.get("stop_at_share", 1)
    if isinstance(share, bool) or not isinstance(share, (int, float)) or not 0 <= share <= 1:
        raise RequestError(f"stop_at_share = {share!r} is out of range", hint="It takes a number from 0 to 1: 0.05.")
    if "take_over" in batch_options and not batch_options.get("deferred"):
        raise RequestError("take_over goes with deferred", hint="Say deferred=True (--deferred).")
    if batch_options.get("embed"):
        for name in ("form", "image_columns", "file_columns", "accept"):
            if name in batch_options:
                raise RequestError(f"embed and {name} exclude each other", hint=f"Leave {name} out.")
    elif "dimensions" in batch_options:
        raise RequestError("dimensions goes with embed", hint="Leave it out, or say embed=True.")
    for one, second in _EXCLUDED:
        if batch_options.get(one) and batch_options.get(second):
            raise RequestError(f"{one} and {second} exclude each other", hint="Leave one of them out.")
    if "form" not in batch_options:
        for name in ("output_method", "max_repairs"):
            if name in batch_options:
                raise RequestError(f"{name} goes with form", hint=f"Leave {name} out, or pass a form.")
    suffix = os.path.splitext(str(batch_options.get("out", "")))[1].lower()
    if suffix in ARRAYS and not batch_options.get("embed"):
        raise RequestError(
            f"{batch_options['out']} is for vectors", hint="Say embed=True (--embed), or write to .jsonl."
        )
    check_installed(suffix)
    if "report" in batch_options:
        check_suffix(batch_options["report"], REPORTS)
        if not Path(batch_options["report"]).absolute().parent.is_dir():
            raise RequestError(
                f"there is no folder for the report {batch_options['report']}", hint="Make it, or name another."
            )


def check_apart(rows: Any, report: str | os.PathLike[str]) -> None:
    """See that a report is written over no rows.

    Raises:
        RequestError: it would be.
    """
    path = Path(report)
    if isinstance(rows, (str, os.PathLike)) and path.exists() and Path(rows).exists() and path.samefile(rows):
        raise RequestError(
            f"{report} is also where the rows are: what stands in it would be lost", hint="Name another report."
        )


def names_of(value: Any) -> tuple[str, ...]:
    """One name or several.

    >>> names_of("batch_7"), names_of(["batch_7", "batch_8"])
    (('batch_7',), ('batch_7', 'batch_8'))

    Raises:
        RequestError: it is neither.
    """
    names = (value,) if isinstance(value, str) else tuple(value) if isinstance(value, (list, tuple)) else (value,)
    for name in names:
        if not isinstance(name, str) or not re.fullmatch(r"[\w.:-]+", name):
            raise RequestError(
                f"take_over: {name!r:.80} is no name of a batch",
                hint='Pass what the provider calls it: take_over="batch_7".',
            )
    return names


def again_of(batch_options: Mapping[str, Any]) -> frozenset[str]:
    """The kinds of results that are asked for once more; errors of every kind go by ``retry_failed`` itself.

    >>> sorted(again_of({"retry_failed": "RateLimited, TimedOut", "retry_cut": True}))
    ['RateLimited', 'TimedOut', 'length']

    Raises:
        RequestError: there is no such kind.
    """
    value = batch_options.get("retry_failed", False)
    retry_kinds = frozenset({CUT}) if batch_options.get("retry_cut") else frozenset()
    if isinstance(value, bool):
        return retry_kinds
    if not isinstance(value, (str, list, tuple, set, frozenset)):
        raise RequestError(
            f"retry_failed = {value!r} is neither True nor kinds of failures",
            hint='Pass True, or kinds: ["RateLimited"].',
        )
    kinds = [each.strip() for each in (value.split(",") if isinstance(value, str) else map(str, value))]
    known = {name for name, each in vars(errors).items() if isinstance(each, type) and issubclass(each, AgoutiError)}
    for kind in kinds:
        second = getattr(builtins, str(kind), None)
        is_other = isinstance(second, type) and issubclass(second, Exception)
        if kind not in known and kind != UNUSABLE and not is_other:
            raise RequestError(
                f"retry_failed: {kind!r} is no kind of failure",
                hint=near_hint(str(kind), sorted(known | {UNUSABLE}), "form"),
            )
    return retry_kinds | frozenset(kinds)


def until_of(value: Any, now: float) -> float | None:
    """A time of the day, or a date, in seconds since 1970; a time of the day is the next one.

    >>> noon = datetime(2026, 3, 1, 12).timestamp()
    >>> [(until_of(each, noon) - noon) / 3600 for each in ("13:30", "07:00", "2026-03-02", datetime(2026, 3, 1, 13))]
    [1.5, 19.0, 12.0, 1.0]

    Raises:
        RequestError: it is none.
    """
    if value is None:
        return None
    try:
        if isinstance(value, datetime):
            return value.timestamp()
        if not isinstance(value, str):
            raise TypeError
        local_time = datetime.fromtimestamp(now)
        if len(value) > 8:
            return datetime.fromisoformat(value).timestamp()
        of_day = datetime.fromisoformat(f"2026-01-01T{value}").time()
        until = datetime.combine(local_time.date(), of_day)
        return (until if until > local_time else until + timedelta(days=1)).timestamp()
    except (TypeError, ValueError, OverflowError, OSError):
        raise RequestError(
            f"until = {value!r} is no time", hint="Say 07:00, or a date and a time: 2026-03-01T07:00."
        ) from None
