"""The canonical form of a chat request, reply and its parts.

It is the OpenAI-compatible form, as frozen structs. Every dialect translates to it and from it.
Readers of it are lenient on purpose: any field may be absent or null.
"""

from typing import Any, Literal, TypeAlias

from msgspec import Struct

from .usage import Usage

Json: TypeAlias = Any
"""A decoded JSON value: None, bool, int, float, str, list or dict of those."""


class ToolFunction(Struct, frozen=True, gc=False):
    """The function that a model wants called; ``arguments`` is JSON text as the model wrote it."""

    name: str | None = None
    arguments: str | None = None


class ToolCall(Struct, frozen=True):
    """One call that a model asks for; ``extra`` has the fields beyond the usual ones."""

    function: ToolFunction
    id: str | None = None
    extra: dict[str, Json] = {}


class ProviderTurn(Struct, frozen=True, repr_omit_defaults=True):
    """An assistant turn in the provider's own form: thinking with its signature, server-side tools and their results.

    It is opaque: the provider that made it gets it back word for word, another one never sees it.

    Attributes:
        dialect: the wire format that it came in.
        blocks: the pieces of the turn, as that format has them.
        source: a mark of the provider and the account that made it; empty where that is not known: then every
            provider of the format gets it.
    """

    dialect: str
    blocks: list[Json] = []
    source: str = ""


class Message(Struct, frozen=True):
    """One message of a conversation.

    Attributes:
        role: ``system``, ``developer``, ``user``, ``assistant`` or ``tool``.
        content: the text, or a list of parts as in the OpenAI-compatible interface.
        name: name of the speaker, where there are several; of the function, where it answers a call.
        tool_calls: calls that the assistant asks for.
        tool_call_id: which call a ``tool`` message answers.
        extra: fields beyond these, as they came; dialect ``chat`` sends them on.
        provider_turn: an assistant turn as its provider wrote it, where there is more to it than text and calls.
        is_error: of a tool's result: that the tool failed, for formats that have a place for it.

    Example:
        >>> Message("user", "When do broad beans go in?").content
        'When do broad beans go in?'
    """

    role: str
    content: str | list[dict[str, Json]] | None = None
    name: str | None = None
    tool_calls: tuple[ToolCall, ...] = ()
    tool_call_id: str | None = None
    extra: dict[str, Json] = {}
    provider_turn: ProviderTurn | None = None
    is_error: bool = False

    @property
    def plain(self) -> "Message":
        """The same without the turn in its provider's own form: text and calls alone, for any provider.

        >>> sealed = Message("assistant", "Yes.", provider_turn=ProviderTurn("messages"))
        >>> sealed.plain == Message("assistant", "Yes.")
        True
        """
        if self.provider_turn is None:
            return self
        return Message(
            self.role, self.content, self.name, self.tool_calls, self.tool_call_id, self.extra, None, self.is_error
        )


class Markers(Struct, frozen=True, forbid_unknown_fields=True):
    """What stands around each text where a format has one prompt instead of roles.

    Attributes:
        system, user, assistant: what stands before a text of that role; the last one also ends the prompt.
        end: what stands behind each text.
        stop: stop strings that belong to the markers, beside those of the call.
    """

    system: str = ""
    user: str = "User: "
    assistant: str = "Assistant:"
    end: str = "\n"
    stop: tuple[str, ...] = ("\nUser:",)


class Request(Struct, frozen=True, gc=False):
    """One chat request to one model, before a dialect turns it into bytes.

    Attributes:
        model: exactly what the provider calls it.
        messages: the conversation, system text and examples included.
        parameters: every further field of the OpenAI-compatible request under its own name.
        extra: fields that go into the body untouched, whatever the dialect.
        stream: whether the reply is to come in pieces.
        markers: what stands around each text, for formats with one prompt instead of roles.
        fetch: whether images may be fetched from their addresses where a format takes only the image itself.
        refused: what the model has refused before: parameters, and fields that a dialect adds by itself.
    """

    model: str
    messages: tuple[Message, ...]
    parameters: dict[str, Json] = {}
    extra: dict[str, Json] = {}
    stream: bool = False
    markers: Markers = Markers()
    fetch: Literal["no", "public", "private"] = "no"
    refused: frozenset[str] = frozenset()


class Citation(Struct, frozen=True, gc=False):
    """A source that an answer names.

    Attributes:
        address: where it is; empty where the provider gives none.
        title: what it is called.
        quote: the cited words of the source.
        start, end: the part of the answer that it belongs to, counted as the provider counts.
    """

    address: str = ""
    title: str = ""
    quote: str = ""
    start: int | None = None
    end: int | None = None


class SafetyNote(Struct, frozen=True, gc=False):
    """What a provider's safety system says of an answer.

    Attributes:
        category: what was looked for, in the provider's own word.
        level: how much of it was found: the provider's word or number.
        blocked: whether the answer was held back for it.
    """

    category: str
    level: str = ""
    blocked: bool = False


class TokenLogprob(Struct, frozen=True, gc=False):
    """The log probability of one token of an answer.

    Attributes:
        token: its text.
        logprob: natural logarithm of its probability; `None` where the server could not say it.
        top: the likeliest tokens at this place, where they were asked for (``top_logprobs``).
    """

    token: str
    logprob: float | None = None
    top: "tuple[TokenLogprob, ...]" = ()


class MediaFile(Struct, frozen=True, gc=False):
    """A file that is part of an answer: an image, or audio.

    Attributes:
        media_type: such as ``image/png``.
        data: its bytes in base64; empty where the provider gives only an address.
        address: where it is; empty where the bytes are here.
    """

    media_type: str = ""
    data: str = ""
    address: str = ""


class Choice(Struct, frozen=True, gc=False):
    """One answer of a reply."""

    text: str = ""
    finish_reason: str | None = None
    reasoning: str | None = None
    refusal: str | None = None
    tool_calls: tuple[ToolCall, ...] = ()
    citations: tuple[Citation, ...] = ()
    safety: tuple[SafetyNote, ...] = ()
    files: tuple[MediaFile, ...] = ()
    logprobs: tuple[TokenLogprob, ...] = ()
    provider_turn: ProviderTurn | None = None


UNFINISHED = "unfinished"
"""The reason of a turn that the provider has interrupted: it goes on when it is sent back as it stands."""


_ENDS = frozenset({"stop", "length", "tool_calls", "content_filter", "function_call", "refusal", UNFINISHED})
_FAILURES = ("error", "fail", "cancel", "malformed", "unexpected")


def is_known_end(reason: str | None) -> bool:
    """Whether an answer ended for one of the reasons that all formats have words for; also where nobody says why."""
    return reason is None or reason in _ENDS


def is_failure(choice: Choice) -> bool:
    """Whether an answer is none: it ended for a reason that says so, or for an unknown one with nothing in it.

    >>> is_failure(Choice("", "malformed_function_call")), is_failure(Choice("Peas.", "eos")), is_failure(Choice(""))
    (True, False, False)
    """
    reason = choice.finish_reason
    if is_known_end(reason) or reason is None:
        return False
    failed = any(sign in reason.lower() for sign in _FAILURES)
    return failed or not (choice.text or choice.refusal or choice.tool_calls or choice.files)


class Completion(Struct, frozen=True, gc=False):
    """What a dialect decodes a reply to: the facts, in one vocabulary for all of them.

    ``finish_reason`` of a choice is one of ``stop``, ``length``, ``tool_calls``, ``content_filter``,
    ``refusal``, ``error``, ``unfinished``, or the provider's own word where it is none of these. A cache keeps with it
    the ``body`` that it was made of; it is empty otherwise.
    """

    choices: tuple[Choice, ...]
    model: str | None = None
    id: str | None = None
    usage: Usage | None = None
    body: bytes = b""


def is_unfinished(completion: Completion) -> bool:
    """Whether the provider has interrupted the turn, and wants it back to go on."""
    choices = completion.choices
    return bool(choices) and choices[0].finish_reason == UNFINISHED and choices[0].provider_turn is not None
