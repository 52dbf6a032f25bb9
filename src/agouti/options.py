"""What calls take besides label and prompt, for type checkers and for readers."""

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, Literal, TypedDict

from .core.chat import Json
from .core.parameters import Parameters
from .dialects.base import Means

if TYPE_CHECKING:
    from .engine.calling import Failures
    from .images import Source


class Options(Parameters, total=False):
    """What a call takes besides label and prompt.

    Besides the parameters: ``system``, a system text instead of the entry's; ``examples``, pairs of question and
    answer put before the prompt; ``images``, paths, bytes or addresses of pictures; ``fetch_images``, whether those
    with an address may be fetched where a format takes only the picture itself (``"private"``: also from private
    networks); ``tools``, functions, `agouti.Tool` or dicts; ``deadline``, seconds that the whole call may take;
    ``extra``, fields that go into the request as they are.
    """

    system: str | None
    examples: Iterable[tuple[str, str]]
    deadline: float | None
    extra: dict[str, Json]
    images: "Iterable[Source]"
    fetch_images: "bool | Literal['private']"


class AskOptions(Options, total=False):
    """What `ask` takes besides.

    Besides those of `stream`: ``run_tools``, whether the functions that the model calls are run and it goes on with
    what they give; ``max_rounds``, how often at most (8); ``tool_errors``: ``tell`` the model of an exception in a
    function, or ``raise`` it.
    """

    run_tools: bool
    max_rounds: int
    tool_errors: "Failures"


class FillOptions(Options, total=False):
    """What `fill` takes besides.

    Besides those of `ask`: ``means``, the only one to be tried of ``schema``, ``tool``, ``json`` and ``prompt``;
    ``repairs``, how many more answers are asked for when one does not fit (1).
    """

    means: Means | None
    repairs: int


class EmbedOptions(TypedDict, total=False):
    """What `Client.embed` takes besides: ``deadline``, seconds for the whole call; ``extra``, fields as they are."""

    deadline: float | None
    extra: dict[str, Json]


def without_rounds(options: AskOptions) -> Options:
    """The options without those that matter only when functions are run."""
    found: Any = options
    if "run_tools" in options or "max_rounds" in options or "tool_errors" in options:
        found = {name: each for name, each in options.items() if name not in AskOptions.__annotations__}
    return found  # type: ignore[no-any-return]
