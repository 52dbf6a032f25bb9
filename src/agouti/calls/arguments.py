"""Arguments of a call: the options that are none of a question, split off and checked."""

import re
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, TypeVar, cast

from msgspec import Struct, ValidationError, convert
from msgspec.structs import replace

from .._former import current
from ..core.canonical.structured import MEANS, Means
from ..core.errors import RequestError
from ..core.http.exchange import Timeouts
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Secret, SecretText, looks_secret
from ..core.settings.near_misses import OF_CLIENTS
from ..core.settings.retries import Retries
from ..core.text.suggest import near_hint
from ..engine.question import OF_CALL, extra_of, tags_of

if TYPE_CHECKING:
    from ..engine.operations.tool_loop import Failures
    from .options import AskOptions, EmbedOptions, FillOptions, Options


Limits = TypeVar("Limits", Timeouts, Retries)


ROUNDS = 8
"""Rounds of calls at most, where nothing else is said."""


class ToolOptions(Struct, frozen=True, kw_only=True):
    """How tools are run."""

    run: bool | None = None
    max_rounds: int = ROUNDS
    errors: "Failures" = "tell"


_TOOLS = ("run_tools", "max_rounds", "tool_errors")
_FILL = ("output_method", "max_repairs")
_EMBED = ("extra", "tags", "only_missing", *OF_CALL)


def split_tools(options: "AskOptions") -> "tuple[Options, ToolOptions]":
    """The options of a question, and how its tools are run.

    Raises:
        RequestError: one of the latter is wrong.
    """
    if "run_tools" not in options and "max_rounds" not in options and "tool_errors" not in options:
        return options, _DEFAULT_TOOLS
    rounds, errors = options.get("max_rounds", ROUNDS), options.get("tool_errors", "tell")
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
    options = cast("FillOptions", current("a call", options))
    output_method, repairs = options.get("output_method"), options.get("max_repairs", 1)
    if output_method is not None and output_method not in MEANS:
        raise RequestError(f"output_method = {output_method!r} is unknown", hint=f"Take {', '.join(MEANS)}, or none.")
    _whole_number("max_repairs", repairs, 0)
    return _without(options, _FILL), output_method, repairs


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
    extra_of(options.get("extra"))
    tags_of(options.get("tags"))


def check_client(options: Iterable[str]) -> None:
    """See that a client knows its options.

    Raises:
        RequestError: there is no such option.
    """
    for name in options:
        if name not in OF_CALL_SET:
            known = ["config", "transport", "record", "replay", "connections", "hooks", *OF_CALL]
            hint = "A key is key= of Client.at, or stands in the entry of its provider."
            hint = hint if "key" in name else near_hint(name, known, "option", OF_CLIENTS)
            raise RequestError(f"a client has no option {name!r}", hint=hint)


class CallLimits(Struct, frozen=True, kw_only=True):
    """What a call may take and sends besides its question.

    Attributes:
        deadline: seconds; `None` where nothing is said of it.
        timeouts, retries: `None`: those of the entry; a mapping changes only what it names.
        headers: under lower-case names, those that look secret masked.
    """

    deadline: float | None = None
    timeouts: Timeouts | Mapping[str, float] | None = None
    retries: Retries | Mapping[str, Any] | None = None
    headers: Mapping[str, str] | None = None


_NO_LIMITS = CallLimits()


def limits_of(options: Mapping[str, Any], defaults: CallLimits = _NO_LIMITS) -> CallLimits:
    """The limits of a call.

    Args:
        defaults: those of the client, which hold where the options say nothing.

    Raises:
        RequestError: one of them cannot be used.
    """
    if not options or OF_CALL_SET.isdisjoint(options):
        return defaults
    headers = _headers(options.get("headers"))
    if defaults.headers:
        headers = {**defaults.headers, **(headers or {})}
    return CallLimits(
        deadline=defaults.deadline if (value := _deadline(options.get("deadline"))) is None else value,
        timeouts=_changed(Timeouts, "timeouts", options.get("timeouts"), defaults.timeouts),
        retries=_changed(Retries, "retries", options.get("retries"), defaults.retries),
        headers=headers,
    )


def checked_cache(cache: object) -> bool:
    """Whether a call may be answered from the cache.

    Raises:
        RequestError: it is neither.
    """
    if not isinstance(cache, bool):
        raise RequestError(f"cache = {cache!r} is neither True nor False", hint="Leave it out, or pass one of them.")
    return cache


def _deadline(deadline: object) -> float | None:
    if deadline is None:
        return None
    if isinstance(deadline, bool) or not isinstance(deadline, (int, float)) or deadline != deadline:
        raise RequestError(f"deadline = {deadline!r} is out of range", hint="It takes a number of seconds.")
    return float(deadline)


def _changed(kind: type[Limits], name: str, value: object, defaults: Any) -> Any:
    """Limits as given, on top of the usual ones where they are only some of them."""
    if value is None:
        return defaults
    if isinstance(value, kind):
        return value
    fields = kind.__struct_fields__
    if not isinstance(value, Mapping):
        raise RequestError(
            f"{name} cannot be a {type(value).__name__}", hint=f"Pass {_LIKELY[name]}, or agouti.{kind.__name__}(...)."
        )
    for field in value:
        if field not in fields:
            raise RequestError(f"{name} has no {field!r}", hint=near_hint(str(field), fields, "name"))
    try:
        convert(dict(value), kind)
    except ValidationError as error:
        message = str(error).replace("`", "").replace(" - at $", "")
        raise RequestError(f"{name} is wrong: {message}", hint=f"See agouti.{kind.__name__}.") from None
    if isinstance(defaults, Mapping):
        return {**defaults, **value}
    return dict(value) if defaults is None else replace(defaults, **value)


_LIKELY = {
    "retries": 'a dict, such as retries={"max": 3}',
    "timeouts": 'a dict, such as timeouts={"first_byte": 20}; of the whole call: deadline=20',
}


def _headers(headers_given: object) -> dict[str, str] | None:
    if headers_given is None:
        return None
    if not isinstance(headers_given, Mapping):
        raise RequestError(f"headers cannot be a {type(headers_given).__name__}", hint='Pass {"name": "value"}.')
    headers: dict[str, str] = {}
    for name, value in headers_given.items():
        text = value.reveal() if isinstance(value, Secret) else value
        if not isinstance(name, str) or not _HEADER.fullmatch(name) or name.lower() in _NOT_OURS:
            raise RequestError(
                f"{str(name)[:40]!r} is no header that a call can set",
                hint="Names have letters, digits and - only; length, host and coding are set by the transport.",
            )
        if not isinstance(text, str) or not text.isascii() or not text.isprintable():
            raise RequestError(
                f"header {name} holds what cannot be sent", hint="Pass a text of visible ASCII characters."
            )
        secret = isinstance(value, Secret) or looks_secret(name) or looks_like_a_key(text)
        headers[name.lower()] = SecretText(text) if secret else text
    return headers


_HEADER = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_NOT_OURS = frozenset({"host", "content-length", "transfer-encoding", "connection", "accept-encoding", "expect"})
OF_CALL_SET = frozenset(OF_CALL)


def _whole_number(name: str, value: object, minimum: int) -> None:
    if not isinstance(value, int) or isinstance(value, bool) or value < minimum:
        raise RequestError(f"{name} = {value!r} is out of range", hint=f"It takes a whole number from {minimum}.")


def _without(options: Mapping[str, Any], names: tuple[str, ...]) -> "Options":
    return cast("Options", {name: value for name, value in options.items() if name not in names})


_DEFAULT_TOOLS = ToolOptions()
