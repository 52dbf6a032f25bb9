"""Options of a call: what each method takes besides label and prompt, split once, checked, and made into a question."""

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, TypedDict, cast

from msgspec import Struct

from .core import prompt as prompts
from .core.chat import Json
from .core.errors import RequestError
from .core.parameters import Parameters
from .core.structured import MEANS, Means
from .core.suggest import near_hint
from .engine.question import Question, extra_of, tags_of

if TYPE_CHECKING:
    from .engine.operations.tool_loop import Failures
    from .media import Source

Prompt: TypeAlias = prompts.Prompt | Question
"""A text, a list of parts (texts and `agouti.Image`), a list of messages (`Message` or OpenAI-compatible dicts), or a
`Question`."""


class Options(Parameters, total=False):
    """What a call takes besides label and prompt: every parameter, and these.

    Attributes:
        system: a system text instead of the entry's; an empty one sends none.
        examples: pairs of question and answer put before the prompt.
        images: paths, bytes or addresses of images.
        fetch_images: whether those with an address may be fetched where a format takes only the image itself;
            ``"private"``: also from private networks.
        tools: functions, `agouti.Tool` or dicts.
        deadline: seconds that the whole call may take, retries and fallback included.
        extra: fields that go into the request as they are.
        tags: what the call is for, in words of your own; told to hooks, not to the provider.
    """

    system: str | None
    examples: Iterable[tuple[str, str]]
    images: "Source | Iterable[Source] | None"
    fetch_images: "bool | Literal['private']"
    deadline: float | None
    extra: dict[str, Json] | None
    tags: dict[str, str]


class AskOptions(Options, total=False):
    """What `ask` takes besides: how tools are run.

    Attributes:
        run_tools: whether the functions that the model calls are run and it goes on with what they give.
        max_rounds: rounds of calls at most (8).
        tool_errors: ``tell`` the model of an exception in a function, or ``raise`` it.
    """

    run_tools: bool
    max_rounds: int
    tool_errors: "Failures"


class FillOptions(Options, total=False):
    """What `fill` takes besides: how the model is held to the form.

    Attributes:
        means: the only one to be tried of ``schema``, ``tool``, ``json`` and ``prompt``.
        repairs: how many more answers are asked for when one does not fit (1).
    """

    means: Means | None
    repairs: int


class EmbedOptions(TypedDict, total=False):
    """What `embed` takes besides its arguments.

    Attributes:
        deadline: seconds for the whole call.
        extra: fields that go into each request as they are.
        tags: what the call is for, in words of your own; told to hooks.
    """

    deadline: float | None
    extra: dict[str, Json] | None
    tags: dict[str, str]


class ToolOptions(Struct, frozen=True, kw_only=True):
    """How tools are run."""

    run: bool | None = None
    max_rounds: int = 8
    errors: "Failures" = "tell"


_TOOLS = ("run_tools", "max_rounds", "tool_errors")
_FILL = ("means", "repairs")


def split_tools(options: AskOptions) -> tuple[Options, ToolOptions]:
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


def split_fill(options: FillOptions) -> tuple[Options, Means | None, int]:
    """The options of a question, the only means to be tried, and how many repairs there may be.

    Raises:
        RequestError: one of the latter is wrong.
    """
    means, repairs = options.get("means"), options.get("repairs", 1)
    if means is not None and means not in MEANS:
        raise RequestError(f"means = {means!r} is unknown", hint=f"Take {', '.join(MEANS)}, or none.")
    _whole_number("repairs", repairs, 0)
    return _without(options, _FILL), means, repairs


def check_embed(options: EmbedOptions, dimensions: int | None, concurrency: int) -> None:
    """See that the options of `embed` can be used.

    Raises:
        RequestError: one of them is wrong, or there is no such option.
    """
    for name in options:
        if name not in EmbedOptions.__annotations__:
            known = ["dimensions", "concurrency", *EmbedOptions.__annotations__]
            raise RequestError(
                f"embed has no option {name!r}",
                hint=near_hint(name, known, "option") + " What only this provider knows goes into extra={...}.",
            )
    _whole_number("concurrency", concurrency, 1)
    if dimensions is not None:
        _whole_number("dimensions", dimensions, 1)
    deadline_of(options)
    extra_of(options)
    tags_of(options)


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


def _without(options: Mapping[str, Any], names: tuple[str, ...]) -> Options:
    return cast("Options", {name: value for name, value in options.items() if name not in names})


_USUAL = ToolOptions()
