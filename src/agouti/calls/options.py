"""Options of a call, for type checkers and readers: what each method takes besides label and prompt."""

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, TypedDict

from ..core.canonical.chat import Json
from ..core.canonical.structured import Means
from ..core.messages import prompt as prompts
from ..engine.question import Question

if TYPE_CHECKING:
    from ..core.http.exchange import Timeouts
    from ..core.secrets.secret import Secret
    from ..core.settings.retries import Retries
    from ..embeddings.embeddings import Embeddings
    from ..engine.operations.tool_loop import Failures
    from ..media import FileSource, Source

Prompt: TypeAlias = prompts.Prompt | Question
"""A text, a list of parts (texts, `agouti.Image`, `agouti.File`, `agouti.Audio`), a list of messages (`Message` or
OpenAI-compatible dicts), or a `Question`."""


class Parameters(TypedDict, total=False):
    """Parameters of a call. All are optional; what is not given is left to the entry, then to the provider.

    `None` sends none, even where the entry names one; for a cap on tokens ``-1`` means the same.
    ``max_tokens`` and ``max_completion_tokens`` are one cap under two names: dialect ``chat`` sends the one given.
    """

    temperature: float | None
    top_p: float | None
    max_tokens: int | None
    max_completion_tokens: int | None
    stop: str | list[str] | None
    seed: int | None
    n: int | None
    presence_penalty: float | None
    frequency_penalty: float | None
    top_k: int | None
    min_p: float | None
    repetition_penalty: float | None
    context_size: int | None
    logit_bias: dict[str, float] | None
    logprobs: bool | None
    top_logprobs: int | None
    user: str | None
    safety_identifier: str | None
    reasoning_effort: str | None
    reasoning_budget: int | None
    verbosity: str | None
    modalities: list[str] | None
    audio: dict[str, Any] | None
    prediction: dict[str, Any] | None
    web_search_options: dict[str, Any] | None
    store: bool | None
    metadata: dict[str, str] | None
    service_tier: str | None
    prompt_cache_key: str | None
    previous_response_id: str | None
    stream_options: dict[str, Any] | None
    parallel_tool_calls: bool | None
    response_format: dict[str, Any] | None
    tools: Sequence[Any] | None
    tool_choice: str | dict[str, Any] | None


class Limits(TypedDict, total=False):
    """What a call may take, and what goes with its request.

    Attributes:
        deadline: seconds that the whole call may take, retries and fallback included.
        timeouts: instead of those of the entry; a dict changes only what it names: ``{"first_byte": 20}``.
        retries: instead of those of the entry; a dict changes only what it names: ``{"max": 0}``.
        headers: further headers of the request, such as a trace id. One that looks secret, or is an `agouti.Secret`,
            goes to the first model's provider only, and is shown nowhere.
    """

    deadline: float | None
    timeouts: "Timeouts | Mapping[str, float] | None"
    retries: "Retries | Mapping[str, Any] | None"
    headers: "Mapping[str, str | Secret] | None"


class ExchangeOptions(Limits, total=False):
    """What `exchange` takes beside the body.

    Attributes:
        tags: what the call is for, in words of your own; told to hooks, not to the provider.
        cache: whether it may be answered from the cache of the configuration, whatever its temperature; False: never.
    """

    tags: dict[str, str]
    cache: bool | None


class Options(Parameters, Limits, total=False):
    """What a call takes besides label and prompt: every parameter, and these.

    Attributes:
        system: a system text instead of the entry's; an empty one sends none.
        examples: pairs of question and answer put before the prompt, instead of the entry's; an empty list means none.
        variables: what stands for the blanks that the model's entry declares: ``{"language": "Italian"}``.
        images: paths, bytes or addresses of images.
        files: paths, bytes or addresses of files (PDF, text, audio), `agouti.File` or `agouti.Audio`.
        fetch_images: whether those with an address may be fetched where a format takes only the image itself;
            ``"private"``: also from private networks.
        tools: functions, `agouti.Tool` or dicts.
        extra: fields that go into the request as they are.
        tags: what the call is for, in words of your own; told to hooks, not to the provider.
        cache: whether it may be answered from the cache of the configuration, whatever its temperature; False: never.
    """

    system: str | None
    examples: Iterable[tuple[str, str]] | None
    variables: Mapping[str, str] | None
    images: "Source | Iterable[Source] | None"
    files: "FileSource | Iterable[FileSource] | None"
    fetch_images: "bool | Literal['private']"
    extra: dict[str, Json] | None
    tags: dict[str, str]
    cache: bool | None


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
        output_method: the only one to be tried of ``schema``, ``tool``, ``json`` and ``prompt``.
        max_repairs: how many more answers are asked for when one does not fit (1).
    """

    output_method: Means | None
    max_repairs: int


class EmbedOptions(Limits, total=False):
    """What `embed` takes besides its arguments, and besides `Limits`.

    Attributes:
        extra: fields that go into each request as they are.
        tags: what the call is for, in words of your own; told to hooks.
        only_missing: embeddings that are there already (``error.partial``, or a file that was loaded): only the texts
            that are not among them are asked for.
    """

    extra: dict[str, Json] | None
    tags: dict[str, str]
    only_missing: "Embeddings | None"
