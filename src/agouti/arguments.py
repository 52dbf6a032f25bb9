"""Arguments of a call: the options that are none of a question, split off and checked."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, cast

from msgspec import Struct

from .core.errors import RequestError
from .core.structured import MEANS, Means
from .core.suggest import near_hint
from .engine.question import extra_of, tags_of

if TYPE_CHECKING:
    from .engine.operations.tool_loop import Failures
    from .options import AskOptions, EmbedOptions, FillOptions, Options


class ToolOptions(Struct, frozen=True, kw_only=True):
    """How tools are run."""

    run: bool | None = None
    max_rounds: int = 8
    errors: "Failures" = "tell"


_TOOLS = ("run_tools", "max_rounds", "tool_errors")
_FILL = ("means", "repairs")
_EMBED = ("deadline", "extra", "tags")


def split_tools(options: "AskOptions") -> "tuple[Options, ToolOptions]":
    """The options of a question, and how its tools are run.

    Raises:
        RequestError: one of the latter is wrong.
    """
    if "run_tools" not in options and "max_rounds" not in options and "tool_errors" not in options:
        return options, _USUAL
    rounds, errors = options.get("max_rounds", 8), options.get("tool_errors", "tell")
    _whole_number("max_rounds", rounds, 1)
    if errors not in ("tell", "raise"):
        raise RequestError(f"tool_errors = {errors!r} is unknown", hint="Take tell or raise.")
    run = options.get("run_tools")
    if not isinstance(run, bool | None):
        raise RequestError(f"run_tools = {run!r} is unknown", hint="Take True or False.")
    return _without(options, _TOOLS), ToolOptions(run=run, max_rounds=rounds, errors=errors)


def split_fill(options: "FillOptions") -> "tuple[Options, Means | None, int]":
    """The options of a question, the only means to be tried, and how many repairs there may be.

    Raises:
        RequestError: one of the latter is wrong.
    """
    means, repairs = options.get("means"), options.get("repairs", 1)
    if means is not None and means not in MEANS:
        raise RequestError(f"means = {means!r} is unknown", hint=f"Take {', '.join(MEANS)}, or none.")
    _whole_number("repairs", repairs, 0)
    return _without(options, _FILL), means, repairs


def check_embed(options: "EmbedOptions", dimensions: int | None, concurrency: int) -> None:
    """See that the options of `embed` can be used.

    Raises:
        RequestError: one of them is wrong, or there is no such option.
    """
    for name in options:
        if name not in _EMBED:
            known = ["dimensions", "concurrency", *_EMBED]
            raise RequestError(
                f"embed has no option {name!r}",
                hint=near_hint(name, known, "option") + " What only this provider knows goes into extra={...}.",
            )
    _whole_number("concurrency", concurrency, 1)
    if dimensions is not None:
        _whole_number("dimensions", dimensions, 1)
    deadline_of(options)
    extra_of(options.get("extra"))
    tags_of(options.get("tags"))


def deadline_of(options: Mapping[str, Any]) -> float | None:
    """The seconds that a call may take; `None` where the options do not say.

    Raises:
        RequestError: they are no number of seconds.
    """
    deadline = options.get("deadline")
    if deadline is None:
        return None
    if isinstance(deadline, bool) or not isinstance(deadline, (int, float)) or deadline != deadline:
        raise RequestError(f"deadline = {deadline!r} is out of range", hint="It takes a number of seconds.")
    return float(deadline)


def _whole_number(name: str, value: object, least: int) -> None:
    if not isinstance(value, int) or isinstance(value, bool) or value < least:
        raise RequestError(f"{name} = {value!r} is out of range", hint=f"It takes a whole number from {least}.")


def _without(options: Mapping[str, Any], names: tuple[str, ...]) -> "Options":
    return cast("Options", {name: value for name, value in options.items() if name not in names})


_USUAL = ToolOptions()
