"""A question: what is asked of a model, as plain data, made and checked from a prompt and the options of a call."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, cast

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import Json, Message
from ..core.canonical.parameters import NAMES, checked
from ..core.errors import RequestError
from ..core.messages.messages import with_parts
from ..core.messages.prompt import Prompt, prompt_messages
from ..core.settings.near_misses import OF_CALLS
from ..core.text.suggest import near_hint

if TYPE_CHECKING:
    from ..media import FileSource, Source

OF_CALL = ("deadline", "timeouts", "retries", "headers", "cache")
"""Options that belong to the call and not to the question."""

OPTIONS = ("system", "examples", "variables", "images", "files", "fetch_images", "extra", "tags", *OF_CALL)
"""What a question has besides parameters, and what the call has."""


class OwnForm(Struct, frozen=True):
    """A request as the caller has said it in a wire format: a provider that speaks the same one gets it so.

    Attributes:
        dialect: the format.
        fields: of the request body, as they came; `None` stands for one that is left out.
        whole: whether the conversation is among them.
        says: our names of the parameters that they say already.
        query: of the caller's address; goes behind that of the provider's.
        headers: of the caller's that switch features of a provider on; those of the entry win over them.
    """

    dialect: str
    fields: dict[str, Json]
    whole: bool = True
    says: frozenset[str] = frozenset()
    query: str = ""
    headers: tuple[tuple[str, str], ...] = ()


class Question(Struct, frozen=True, kw_only=True):
    """What is asked of a model, whichever model it is: a chat request before it is addressed to one.

    It can be printed, compared, hashed (see `key`), stored as JSON with msgspec and sent with any method that takes a
    prompt: ``client.ask(label, question)``.

    Attributes:
        messages: the prompt as canonical messages, images in them.
        system: a system text instead of the entry's; an empty one means none.
        examples: pairs of question and answer put before the prompt, instead of the entry's; `None`: the entry's.
        variables: what stands for the variables in the entry's system text and examples.
        tools: tools that the model may call, in the OpenAI-compatible form.
        parameters: as they were given; `None` stands for one that is not to be sent.
        extra: fields that go into the request as they are.
        stream: whether the reply is to come in pieces.
        fetch_images: whether images may be fetched from their addresses where a format takes only the image itself;
            ``"private"``: also from private networks.
        tags: what the call is for, in the application's own words; told to hooks, not to the provider.
        own: the same as the caller has said it in a wire format, where it came in one.

    Example:
        >>> question = Question.of("When do broad beans go in?", temperature=0.2)
        >>> question
        Question('When do broad beans go in?', temperature=0.2)
        >>> question == Question.of("When do broad beans go in?", temperature=0.2), question.key[:8]
        (True, 'd9d49076')
    """

    messages: tuple[Message, ...]
    system: str | None = None
    examples: tuple[tuple[str, str], ...] | None = None
    variables: dict[str, str] = {}
    tools: tuple[dict[str, Json], ...] = ()
    parameters: dict[str, Json] = {}
    extra: dict[str, Json] = {}
    stream: bool = False
    fetch_images: Literal[True, False, "private"] = False
    tags: dict[str, str] = {}
    own: OwnForm | None = None

    @property
    def options(self) -> dict[str, Any]:
        """What it is asked with besides its messages, as options of a call."""
        options: dict[str, Any] = {
            "system": self.system,
            "examples": self.examples,
            "variables": self.variables,
            "tools": list(self.tools),
            "extra": self.extra,
            "fetch_images": self.fetch_images,
            "tags": self.tags,
        }
        return {**self.parameters, **{name: value for name, value in options.items() if value}}

    @classmethod
    def of(cls, prompt: Prompt, **options: object) -> "Question":
        """The question that a prompt and the options of `Client.ask` amount to.

        Raises:
            RequestError: something in them is wrong.
        """
        return question_of(prompt, options)

    @property
    def key(self) -> str:
        """A digest of what is asked: the same for two questions that ask the same, in hexadecimal.

        How the answer is to come (``stream``) and what the call is for (``tags``) make no difference.
        """
        import hashlib  # loads a library: only where a key is wanted

        same = msgspec.to_builtins(replace(self, stream=False, tags={}))
        if self.own is None:
            del same["own"]  # keys that are kept somewhere stay what they are
        same["blanks"] = same.pop("variables")  # the same
        return hashlib.sha256(msgspec.json.encode(same, order="sorted")).hexdigest()

    def __hash__(self) -> int:
        return int(self.key[:15], 16)

    def __repr__(self) -> str:
        options = {
            "system": self.system,
            "examples": None if self.examples is None else len(self.examples),
            "variables": self.variables or None,
            "tools": [tool.get("function", tool).get("name") for tool in self.tools] or None,
            **self.parameters,
            "extra": self.extra or None,
            "stream": self.stream or None,
            "tags": self.tags or None,
        }
        texts = [
            f", {name}={value!r}" for name, value in options.items() if value is not None or name in self.parameters
        ]
        return f"Question({_message_text(self.messages)}{''.join(texts)})"

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)


def _message_text(messages: Sequence[Message]) -> str:
    """Messages as they can be read: of an image only that it is one."""
    texts = []
    for message in messages:
        content = message.content
        if isinstance(content, list):
            content = " ".join(str(part["text"]) if "text" in part else f"[{part.get('type')}]" for part in content)
        texts.append(content or f"[{len(message.tool_calls)} tool calls]")
    if len(texts) == 1 and messages[0].role == "user":
        return repr(texts[0])
    return repr([f"{message.role}: {text}" for message, text in zip(messages, texts, strict=True)])


def question_of(prompt: "Prompt | Question", options: Mapping[str, object], *, stream: bool = False) -> Question:
    """The question that a prompt and its options amount to; everything in them is checked here.

    Args:
        prompt: a question may stand for it; options then take the place of its own.

    Raises:
        RequestError: the prompt or an option is wrong, or there is no such option.

    >>> question_of("Peas?", {"temperature": 0})
    Question('Peas?', temperature=0)
    """
    if isinstance(prompt, Question):
        return _changed(prompt, options, stream)
    messages = prompt_messages(prompt)
    if not options:
        return Question(messages=messages, stream=stream)
    fields: dict[str, Any] = {}
    parameters: dict[str, Json] = {}
    for name, value in options.items():
        if (read := _READ.get(name)) is not None:
            fields[name] = read(value)
        elif name in ("images", "files"):
            messages = with_parts(messages, parts) if (parts := media_parts(name, value)) else messages
        elif name not in OF_CALL:
            parameters[name] = value
    if isinstance(choice := parameters.get("tool_choice"), str) and choice not in ("auto", "none", "required"):
        parameters["tool_choice"] = {"type": "function", "function": {"name": choice}}
    if parameters:
        try:
            parameters = _checked(parameters)
        except RequestError:
            from .._former import OPTIONS as FORMER
            from .._former import current

            if FORMER["a call"].keys().isdisjoint(options):
                raise
            return question_of(prompt, current("a call", options), stream=stream)
    return Question(messages=messages, parameters=parameters, stream=stream, **fields)


def _changed(question: Question, options: Mapping[str, object], stream: bool) -> Question:
    """A question with some of its options replaced."""
    if not options:
        return question if question.stream == stream else replace(question, stream=stream)
    if "blanks" in options:
        from .._former import current

        options = current("a call", options)
    copy = question_of(list(question.messages), options, stream=stream)
    if copy.messages != question.messages:
        question = replace(question, messages=copy.messages)
    messages = {
        name: getattr(copy, name) for name in ("system", "examples", "variables", "tools", "tags") if name in options
    }
    if "fetch_images" in options:
        messages["fetch_images"] = copy.fetch_images
    parameters = {**question.parameters, **copy.parameters}
    return replace(question, stream=stream, parameters=parameters, extra={**question.extra, **copy.extra}, **messages)


def _checked(parameters: dict[str, Json]) -> dict[str, Json]:
    for name in parameters:
        if name not in NAMES:
            known = [*NAMES, *OPTIONS]
            raise RequestError(
                f"there is no parameter {name!r}",
                hint=near_hint(name, known, "parameter", OF_CALLS)
                + " What only this provider knows goes into extra={...}.",
            )
    return checked(parameters)


def _tools(tools: object) -> tuple[dict[str, Json], ...]:
    if tools is None:
        return ()
    from ..tools.tool import as_json

    return tuple(as_json(tools))


def media_parts(name: str, sources: object) -> list[dict[str, Json]]:
    """The parts of a message that the options ``images`` and ``files`` amount to.

    Raises:
        RequestError: one of them cannot be used.
    """
    if sources is None:
        return []
    from .. import media

    if name == "images":
        return [image.part for image in media.images(cast("Source", sources))]
    return [file.part for file in media.files(cast("FileSource", sources))]


def _examples(examples: object) -> tuple[tuple[str, str], ...] | None:
    if examples is None:
        return None
    pairs: tuple[tuple[object, object], ...]
    try:
        pairs = tuple([(question, answer) for question, answer in cast("Iterable[tuple[object, object]]", examples)])
    except (TypeError, ValueError):
        pairs = ((None, None),)
    if not all(isinstance(text, str) for pair in pairs for text in pair):
        raise RequestError("examples are no pairs of texts", hint='Pass [("question", "answer"), ...].')
    return cast("tuple[tuple[str, str], ...]", pairs)


def _fetch(value: object) -> Literal[True, False, "private"]:
    if value is True or value is False or value == "private":
        return value
    raise RequestError(f"fetch_images = {value!r} is unknown", hint='Take True, False or "private".')


def _system(system: object) -> str | None:
    if isinstance(system, str | None):
        return system
    raise RequestError(f"system cannot be a {type(system).__name__}", hint="Pass a text.")


def extra_of(extra: object) -> dict[str, Json]:
    """The fields that go into a request as they are."""
    if extra is None:
        return {}
    if not isinstance(extra, Mapping):
        raise RequestError(f"extra cannot be a {type(extra).__name__}", hint='Pass a dict: extra={"top_k": 40}.')
    return dict(extra)


def _variables(variables: object) -> dict[str, str]:
    if variables is None:
        return {}
    if not isinstance(variables, Mapping) or not all(
        isinstance(part, str) for pair in variables.items() for part in pair
    ):
        raise RequestError("variables are no table of texts", hint='Pass variables={"language": "Italian"}.')
    return dict(variables)


def tags_of(tags: object) -> dict[str, str]:
    """What a call is for."""
    if tags is None:
        return {}
    if not isinstance(tags, Mapping) or not all(isinstance(part, str) for pair in tags.items() for part in pair):
        raise RequestError("tags are no table of texts", hint='Pass tags={"feature": "newsletter"}.')
    return dict(tags)


_READ: dict[str, Callable[[object], object]] = {
    "system": _system,
    "examples": _examples,
    "variables": _variables,
    "tools": _tools,
    "extra": extra_of,
    "fetch_images": _fetch,
    "tags": tags_of,
}
