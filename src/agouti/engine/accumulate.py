"""Put the events of a stream together to the reply that they amount to."""

from typing import TYPE_CHECKING

from ..core.chat import Choice, Citation, Completion, SafetyNote, ToolCall, ToolFunction
from ..core.events import (
    Cited,
    Event,
    Finished,
    Reasoning,
    Refusal,
    SafetyTold,
    Started,
    Text,
    ToolCallPiece,
    UsageTold,
)
from ..core.usage import Usage
from ..reply import Attempt, Reply

if TYPE_CHECKING:
    from .call import Clock
    from .provider import Target

# Pieces of text are joined when this many have come: a list of short strings costs ten times the text.
_JOIN_AT = 512


class _Pieces:
    """Text that grows by short pieces."""

    __slots__ = ("_joined", "add", "pieces")

    def __init__(self) -> None:
        self._joined: list[str] = []
        self.pieces: list[str] = []
        self.add = self.pieces.append

    def compact(self) -> None:
        if len(self.pieces) >= _JOIN_AT:
            self._joined.append("".join(self.pieces))
            self.pieces.clear()
            if len(self._joined) >= _JOIN_AT:
                self._joined = ["".join(self._joined)]

    def __str__(self) -> str:
        return "".join(self._joined) + "".join(self.pieces)


class _Call:
    __slots__ = ("arguments", "id", "name")

    def __init__(self) -> None:
        self.id: str | None = None
        self.name: str | None = None
        self.arguments = _Pieces()


class _Choice:
    __slots__ = ("calls", "citations", "finish_reason", "reasoning", "refusal", "safety", "text")

    def __init__(self) -> None:
        self.text = _Pieces()
        self.reasoning = _Pieces()
        self.refusal = _Pieces()
        self.calls: dict[int, _Call] = {}
        self.finish_reason: str | None = None
        self.citations: list[Citation] = []
        self.safety: tuple[SafetyNote, ...] = ()

    def as_choice(self) -> Choice:
        calls = tuple(
            ToolCall(ToolFunction(call.name, str(call.arguments)), call.id) for _, call in sorted(self.calls.items())
        )
        return Choice(
            str(self.text),
            self.finish_reason,
            reasoning=str(self.reasoning) or None,
            refusal=str(self.refusal) or None,
            tool_calls=calls,
            citations=tuple(self.citations),
            safety=self.safety,
        )


class ReplyAccumulator:
    """The reply so far.

    Attributes:
        began: a part of the answer has come.
        first_token: seconds from the call to the first piece of text.
        status: the HTTP status of the reply under way.
    """

    def __init__(self) -> None:
        self.began = False
        self.first_token: float | None = None
        self.status: int | None = None
        self._first = _Choice()
        self._choices: dict[int, _Choice] = {0: self._first}
        self._model: str | None = None
        self._id: str | None = None
        self._usage: Usage | None = None
        self._target: Target | None = None
        self._started = 0.0
        self._clock: Clock | None = None
        self._attempts: list[Attempt] = []

    def again(self) -> None:
        """Another reply begins, of a conversation or of another attempt: what came of the one before is forgotten."""
        self.began, self.status = False, None
        self._first = _Choice()
        self._choices = {0: self._first}
        self._model = self._id = self._usage = None

    def begin(self, target: "Target", started: float, attempts: list[Attempt]) -> None:
        """An attempt at a model begins; ``attempts`` are those before it, and grow."""
        self.again()
        self._target, self._started, self._attempts = target, started, attempts

    @property
    def usage(self) -> Usage | None:
        """The token counts, where they have been told."""
        return self._usage

    def take(self, events: list[Event], clock: "Clock") -> None:
        """Add events."""
        if self.first_token is None:
            self._clock = clock
            if any(type(event) is Text for event in events):
                self.began = True
                self.first_token = clock() - self._started
        text = self._first.text
        for event in events:
            if type(event) is Text:
                if event.choice:
                    self._choice(event.choice).text.add(event.text)
                else:
                    text.add(event.text)
            else:
                self._take_other(event)
        if len(text.pieces) >= _JOIN_AT:
            text.compact()

    def _take_other(self, event: Event) -> None:
        match event:
            case Started():
                self._model, self._id = event.model, event.id
            case UsageTold():
                self._usage = event.usage
            case Finished():
                self._choice(event.choice).finish_reason = event.reason
            case Reasoning():
                self.began = True
                self._choice(event.choice).reasoning.add(event.text)
                self._choice(event.choice).reasoning.compact()
            case Refusal():
                self.began = True
                self._choice(event.choice).refusal.add(event.text)
            case ToolCallPiece():
                self.began = True
                call = self._choice(event.choice).calls.setdefault(event.index, _Call())
                call.id = event.id or call.id
                call.name = event.name or call.name
                call.arguments.add(event.arguments)
                call.arguments.compact()
            case Cited():
                self._choice(event.choice).citations.append(event.citation)
            case SafetyTold():
                self._choice(event.choice).safety = event.notes
            case _:
                pass

    def _choice(self, index: int) -> _Choice:
        choice = self._choices.get(index)
        if choice is None:
            choice = self._choices[index] = _Choice()
        return choice

    def completion(self) -> Completion:
        """The facts that have come up to now."""
        choices = tuple(choice.as_choice() for _, choice in sorted(self._choices.items()))
        return Completion(choices, self._model, self._id, self._usage)

    def reply(self, now: float | None = None) -> Reply:
        """The reply that has come up to now."""
        if now is None:
            now = self._clock() if self._clock is not None else self._started
        target = self._target
        return Reply.of(
            self.completion(),
            label=target.model.label if target is not None else "",
            provider=target.provider.label if target is not None else "",
            price=target.model.price if target is not None else None,
            elapsed=max(now - self._started, 0.0),
            attempts=tuple(self._attempts),
            first_token=self.first_token,
        )


def as_events(completion: Completion) -> list[Event]:
    """The events of a stream that says all of a completion at once."""
    events: list[Event] = [Started(completion.model, completion.id)]
    for index, choice in enumerate(completion.choices):
        if choice.reasoning:
            events.append(Reasoning(choice.reasoning, index))
        if choice.text:
            events.append(Text(choice.text, index))
        if choice.refusal:
            events.append(Refusal(choice.refusal, index))
        for number, call in enumerate(choice.tool_calls):
            function = call.function
            events.append(ToolCallPiece(number, call.id, function.name, function.arguments or "", index))
        events += [Cited(citation, index) for citation in choice.citations]
        if choice.safety:
            events.append(SafetyTold(choice.safety, index))
        if choice.finish_reason:
            events.append(Finished(choice.finish_reason, index))
    if completion.usage is not None:
        events.append(UsageTold(completion.usage))
    return events
