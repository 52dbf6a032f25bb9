"""What a caller gets: the text, and everything else one attribute away."""

from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from .chat import Choice, Citation, Completion, Json, SafetyNote, ToolCall, Usage
from .lenient import decode_json

if TYPE_CHECKING:
    from .codeblocks import CodeBlock


class Price(Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """Price of a model per million tokens."""

    input: float
    output: float
    cached_input: float | None = None
    currency: str = "USD"

    def cost(self, usage: Usage) -> float | None:
        """What these tokens cost; `None` where the counts are not known.

        >>> Price(input=0.5, output=2.0).cost(Usage(input_tokens=1000, output_tokens=500))
        0.0015
        """
        if usage.input_tokens is None or usage.output_tokens is None:
            return None
        cached = usage.cached_tokens or 0
        cached_price = self.input if self.cached_input is None else self.cached_input
        fresh = usage.input_tokens - cached
        return (fresh * self.input + cached * cached_price + usage.output_tokens * self.output) / 1e6


class Attempt(Struct, frozen=True, gc=False):
    """One try at an exchange.

    Attributes:
        provider: label of the provider's entry.
        model: the name that was sent.
        outcome: ``answered``, or the name of the error.
        status: HTTP status, where a reply came.
        seconds: how long it took.
        waited: seconds waited before it.
        why: what went wrong, one line.
    """

    provider: str
    model: str
    outcome: str
    status: int | None = None
    seconds: float = 0.0
    waited: float = 0.0
    why: str = ""


class ToolUse(Struct, frozen=True):
    """A call of a function that a model wants.

    Attributes:
        id: its identifier, for the message that answers it.
        name: the function.
        arguments: the arguments, parsed; `None` where they are no JSON.
        arguments_text: the arguments as the model wrote them.
        problem: why they could not be parsed.
    """

    id: str
    name: str
    arguments: Json
    arguments_text: str
    problem: str = ""

    @classmethod
    def of(cls, place: int, call: ToolCall) -> "ToolUse":
        """The call as the model wrote it."""
        text = call.function.arguments or ""
        found: Json = {}
        problem = ""
        if text.strip():
            try:
                found = decode_json(text.encode())
            except (msgspec.DecodeError, RecursionError) as error:
                found, problem = None, f"they are no JSON ({error})"
        return cls(call.id or f"call_{place}", call.function.name or "", found, text, problem)


_NO_USAGE = Usage()


class Reply(Struct, frozen=True):
    """One reply. ``print(reply)`` prints the text.

    Attributes:
        text: the answer.
        finish_reason: ``stop``, ``length``, ``tool_calls``, ``content_filter``, ``refusal``, ``error``, the
            provider's own word, or `None` where it gave none.
        usage: token counts as the provider reports them.
        reasoning: the thinking text, where the provider shows it.
        model: the name that the provider reports.
        label: the label that was asked.
        provider: label of the provider that answered.
        elapsed: seconds from the call to the whole reply.
        first_token: seconds from the call to the first piece of text; streams only.
        attempts: what was tried, in order, the answering one last.
    """

    text: str
    finish_reason: str | None
    usage: Usage
    model: str | None
    provider: str
    label: str
    elapsed: float
    first_token: float | None
    attempts: tuple[Attempt, ...]
    completion: Completion
    price: Price | None
    body: bytes

    @classmethod
    def of(
        cls,
        completion: Completion,
        *,
        label: str,
        provider: str,
        price: Price | None,
        elapsed: float,
        attempts: tuple[Attempt, ...],
        body: bytes = b"",
        first_token: float | None = None,
    ) -> "Reply":
        """The reply that a completion amounts to."""
        choices = completion.choices
        first = choices[0] if choices else Choice()
        return cls(
            first.text,
            first.finish_reason,
            completion.usage or _NO_USAGE,
            completion.model,
            provider,
            label,
            elapsed,
            first_token,
            attempts,
            completion,
            price,
            body,
        )

    @property
    def truncated(self) -> bool:
        """Whether the answer was cut off by a cap on tokens."""
        return self.finish_reason == "length"

    @property
    def cost(self) -> float | None:
        """What the reply cost, in the currency of the entry's ``price``; `None` where that is not known."""
        return self.price.cost(self.usage) if self.price is not None else None

    @property
    def reasoning(self) -> str | None:
        """The thinking text, where the provider shows it."""
        return self.completion.choices[0].reasoning if self.completion.choices else None

    @property
    def citations(self) -> tuple[Citation, ...]:
        """The sources that the answer names, where the provider gives them."""
        return self.completion.choices[0].citations if self.completion.choices else ()

    @property
    def safety(self) -> tuple[SafetyNote, ...]:
        """What the provider's safety system says of the answer, where it tells."""
        return self.completion.choices[0].safety if self.completion.choices else ()

    @property
    def refusal(self) -> str | None:
        """The model's words of refusal, where the format has a place of their own for them."""
        return self.completion.choices[0].refusal if self.completion.choices else None

    @property
    def calls(self) -> tuple[ToolUse, ...]:
        """The functions that the model wants called."""
        if not self.completion.choices:
            return ()
        return tuple([ToolUse.of(place, call) for place, call in enumerate(self.completion.choices[0].tool_calls)])

    @property
    def code_blocks(self) -> "tuple[CodeBlock, ...]":
        """The fenced blocks of code in the answer; each can be saved."""
        from .codeblocks import code_blocks

        return code_blocks(self.text)

    @property
    def texts(self) -> tuple[str, ...]:
        """All answers, where more than one was asked for (``n``)."""
        return tuple(choice.text for choice in self.completion.choices)

    @property
    def raw(self) -> Json:
        """The reply as the provider sent it, decoded; of a stream, its facts put together."""
        if self.body:
            return decode_json(self.body)
        return msgspec.to_builtins(self.completion)

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return (
            f"Reply({self.text!r}, finish_reason={self.finish_reason!r}, model={self.model!r}, "
            f"provider={self.provider!r}, elapsed={self.elapsed:.3f})"
        )

    def as_dict(self) -> dict[str, Any]:
        """The facts as JSON values, for machines: ``agouti ask --json`` prints this."""
        return {
            "text": self.text,
            "finish_reason": self.finish_reason,
            "truncated": self.truncated,
            "reasoning": self.reasoning,
            "label": self.label,
            "model": self.model,
            "provider": self.provider,
            "calls": msgspec.to_builtins(self.calls),
            "citations": msgspec.to_builtins(self.citations),
            "safety": msgspec.to_builtins(self.safety),
            "usage": msgspec.to_builtins(self.usage),
            "cost": self.cost,
            "elapsed": round(self.elapsed, 6),
            "first_token": None if self.first_token is None else round(self.first_token, 6),
            "attempts": msgspec.to_builtins(self.attempts),
        }
