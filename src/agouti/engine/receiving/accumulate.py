"""Put the events of a stream together to the reply that they amount to."""

from collections.abc import Mapping
from typing import TYPE_CHECKING

from ...core.attempt import Attempt
from ...core.canonical.chat import (
    Choice,
    Citation,
    Completion,
    Json,
    MediaFile,
    ProviderTurn,
    SafetyNote,
    TokenLogprob,
    ToolCall,
    ToolFunction,
)
from ...core.canonical.events import (
    Cited,
    Event,
    FileTold,
    Finished,
    LogprobsTold,
    Reasoning,
    Refusal,
    SafetyTold,
    Started,
    Text,
    ToolCallPiece,
    TurnTold,
    UsageTold,
)
from ...core.canonical.usage import Usage
from ...core.messages.joined_turns import joined
from ...core.text.growing_text import JOIN_AT, TextPieces
from ...replies.reply import Reply

if TYPE_CHECKING:
    from ..call import Clock
    from ..providers.provider import ProviderState, Target


class _Call:
    __slots__ = ("arguments", "extra", "id", "name")

    def __init__(self) -> None:
        self.id: str | None = None
        self.name: str | None = None
        self.arguments = TextPieces()
        self.extra: dict[str, Json] = {}


class _Choice:
    __slots__ = (
        "calls",
        "citations",
        "files",
        "finish_reason",
        "logprobs",
        "provider_turn",
        "reasoning",
        "refusal",
        "safety",
        "text",
    )

    def __init__(self) -> None:
        self.text = TextPieces()
        self.reasoning = TextPieces()
        self.refusal = TextPieces()
        self.calls: dict[int, _Call] = {}
        self.finish_reason: str | None = None
        self.citations: list[Citation] = []
        self.safety: tuple[SafetyNote, ...] = ()
        self.files: list[MediaFile] = []
        self.logprobs: list[TokenLogprob] = []
        self.provider_turn: ProviderTurn | None = None

    def as_choice(self) -> Choice:
        calls = tuple(
            ToolCall(ToolFunction(call.name, str(call.arguments)), call.id, call.extra)
            for _, call in sorted(self.calls.items())
        )
        return Choice(
            str(self.text),
            self.finish_reason,
            reasoning=str(self.reasoning) or None,
            refusal=str(self.refusal) or None,
            tool_calls=calls,
            citations=tuple(self.citations),
            safety=self.safety,
            files=tuple(self.files),
            logprobs=tuple(self.logprobs),
            provider_turn=self.provider_turn,
        )


class ReplyAccumulator:
    """The reply so far.

    Attributes:
        started: a part of the answer has come.
        first_token: seconds from the call to the first piece of text.
        status, headers: of the reply under way.
        before: what has come of the same turn in replies before this one.
    """

    def __init__(self) -> None:
        self.started = False
        self.first_token: float | None = None
        self.status: int | None = None
        self.headers: Mapping[str, str] = {}
        self.before: Completion | None = None
        self._first = _Choice()
        self._choices: dict[int, _Choice] = {0: self._first}
        self._model: str | None = None
        self._id: str | None = None
        self._usage: Usage | None = None
        self._target: Target | None = None
        self._started = 0.0
        self._clock: Clock | None = None
        self._attempts: list[Attempt] = []

    def restart(self) -> None:
        """Another reply begins, of a conversation or of another attempt: what came of the one before is forgotten."""
        self.started, self.status, self.headers = False, None, {}
        self._first = _Choice()
        self._choices = {0: self._first}
        self._model = self._id = self._usage = None

    def begin(self, target: "Target", started: float, attempts: list[Attempt]) -> None:
        """An attempt at a model begins; ``attempts`` are those before it, and grow."""
        self.restart()
        self._target, self._started, self._attempts = target, started, attempts

    @property
    def provider(self) -> "ProviderState | None":
        """Who answers."""
        return None if self._target is None else self._target.provider

    @property
    def tool_text(self) -> str:
        """What the provider calls the model that answers."""
        return "" if self._target is None else self._model or self._target.model.name

    @property
    def is_empty(self) -> bool:
        """Whether nothing at all has been told of an answer."""
        return not (self.started or self._usage or self._model or self._id or self._first.finish_reason)

    @property
    def finished(self) -> bool:
        """Whether every answer has told why it ended."""
        return None not in [choice.finish_reason for choice in self._choices.values()]

    @property
    def attempts(self) -> tuple[Attempt, ...]:
        """What was tried before the reply that is under way."""
        return tuple(self._attempts)

    @property
    def usage(self) -> Usage | None:
        """The token counts, where they have been told."""
        return self._usage

    def add(self, events: list[Event], clock: "Clock") -> None:
        """Add events."""
        if self.first_token is None:
            self._clock = clock
            if any(type(event) is Text for event in events):
                self.started = True
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
        if len(text.chunks) >= JOIN_AT:
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
                self.started = True
                self._choice(event.choice).reasoning.add(event.text)
                self._choice(event.choice).reasoning.compact()
            case Refusal():
                self.started = True
                self._choice(event.choice).refusal.add(event.text)
            case ToolCallPiece():
                self.started = True
                call = self._choice(event.choice).calls.setdefault(event.index, _Call())
                call.id = event.id or call.id
                call.name = event.name or call.name
                if event.extra:
                    call.extra = {**call.extra, **event.extra}
                call.arguments.add(event.arguments)
                call.arguments.compact()
            case Cited():
                self._choice(event.choice).citations.append(event.citation)
            case SafetyTold():
                self._choice(event.choice).safety = event.notes
            case LogprobsTold():
                self._choice(event.choice).logprobs += event.tokens
            case FileTold():
                self.started = True
                self._choice(event.choice).files.append(event.file)
            case TurnTold():
                self._choice(event.choice).provider_turn = event.turn
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
        completion = self.completion()
        if self.before is not None:
            completion = joined(self.before, completion)
        return Reply.of(
            completion,
            label=target.model.label if target is not None else "",
            provider=target.provider.label if target is not None else "",
            price=target.price if target is not None else None,
            elapsed=max(now - self._started, 0.0),
            attempts=tuple(self._attempts),
            first_token=self.first_token,
            headers=self.headers,
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
            arguments = function.arguments or ""
            events.append(ToolCallPiece(number, call.id, function.name, arguments, index, call.extra))
        events += [Cited(citation, index) for citation in choice.citations]
        if choice.safety:
            events.append(SafetyTold(choice.safety, index))
        events += [FileTold(file, index) for file in choice.files]
        if choice.logprobs:
            events.append(LogprobsTold(choice.logprobs, index))
        if choice.provider_turn is not None:
            events.append(TurnTold(choice.provider_turn, index))
        if choice.finish_reason:
            events.append(Finished(choice.finish_reason, index))
    if completion.usage is not None:
        events.append(UsageTold(completion.usage))
    return events
