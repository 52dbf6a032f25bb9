"""What happens in a stream: the small vocabulary between stream decoders and everything above them.

``choice`` counts the answers where more than one was asked for (``n``); it is 0 otherwise.
"""

from typing import TypeAlias

from msgspec import Struct

from .chat import Citation, Json, MediaFile, ProviderTurn, SafetyNote, TokenLogprob
from .usage import Usage


class Started(Struct, frozen=True, gc=False):
    """The provider said which model answers, and its identifier for the reply."""

    model: str | None = None
    id: str | None = None


class Text(Struct, frozen=True, gc=False):
    """A piece of the answer."""

    text: str
    choice: int = 0


class Reasoning(Struct, frozen=True, gc=False):
    """A piece of the model's thinking."""

    text: str
    choice: int = 0


class Refusal(Struct, frozen=True, gc=False):
    """A piece of the model's refusal to answer."""

    text: str
    choice: int = 0


class ToolCallPiece(Struct, frozen=True, gc=False):
    """A piece of a call: the first of an ``index`` has id and name, the others more of the arguments.

    ``extra`` has the fields of the call beyond the usual ones, which go back with it.
    """

    index: int
    id: str | None = None
    name: str | None = None
    arguments: str = ""
    choice: int = 0
    extra: dict[str, Json] = {}


class UsageTold(Struct, frozen=True, gc=False):
    """Token counts; a later one replaces an earlier one."""

    usage: Usage


class Finished(Struct, frozen=True, gc=False):
    """One answer is complete, and why it ended."""

    reason: str
    choice: int = 0


class Cited(Struct, frozen=True, gc=False):
    """The answer names a source."""

    citation: Citation
    choice: int = 0


class SafetyTold(Struct, frozen=True, gc=False):
    """What the provider's safety system says of an answer; later notes replace earlier ones."""

    notes: tuple[SafetyNote, ...]
    choice: int = 0


class FileTold(Struct, frozen=True, gc=False):
    """A file that is part of the answer."""

    file: MediaFile
    choice: int = 0


class LogprobsTold(Struct, frozen=True, gc=False):
    """The log probabilities of the next tokens of an answer."""

    tokens: tuple[TokenLogprob, ...]
    choice: int = 0


class TurnTold(Struct, frozen=True, gc=False):
    """The answer in the provider's own form, for the same provider at the next turn; a later one replaces it."""

    turn: ProviderTurn
    choice: int = 0


class Passed(Struct, frozen=True, gc=False):
    """Bytes of a stream as the provider sent them, for a caller who speaks the same format; what they mean follows.

    One payload; where it is ``framed``, whole events with what stands around their payloads.
    """

    payload: bytes
    framed: bool = False


Event: TypeAlias = (
    Started
    | Text
    | Reasoning
    | Refusal
    | ToolCallPiece
    | UsageTold
    | Finished
    | Cited
    | SafetyTold
    | FileTold
    | LogprobsTold
    | TurnTold
    | Passed
)
