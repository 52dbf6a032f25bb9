"""A reply, as a caller gets it: the text, and everything else one attribute away."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from ..core.attempt import Attempt, request_id_in
from ..core.canonical.chat import Choice, Citation, Completion, Json, SafetyNote, TokenLogprob, ToolCall
from ..core.canonical.usage import NO_USAGE, Price, Usage

if TYPE_CHECKING:
    from .code_blocks import CodeBlock
    from .files import ReplyFile


class ToolUse(Struct, frozen=True):
    """A tool call that a model wants made.

    A custom tool takes a text instead of arguments: then that is both ``arguments`` and ``arguments_text``.

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
    def of(cls, number: int, call: ToolCall) -> "ToolUse":
        """The call as the model wrote it."""
        text = call.function.arguments or ""
        if call.extra.get("type", "function") != "function":  # its input is a text
            return cls(call.id or f"call_{number}", call.function.name or "", text, text)
        from ..core.json.lenient import decode_json

        arguments: Json = {}
        problem = ""
        if text.strip():
            try:
                arguments = decode_json(text.encode())
            except (msgspec.DecodeError, RecursionError) as error:
                arguments, problem = None, f"they are no JSON ({error})"
        return cls(call.id or f"call_{number}", call.function.name or "", arguments, text, problem)


_NO_CHOICE = Choice()
_NO_HEADERS: Mapping[str, str] = {}


_CALLED = {
    "content": "text",
    "message": "text, or first",
    "output_text": "text",
    "choices": "texts, or completion.choices",
    "json": "raw; a form is filled by client.fill",
    "dict": "raw",
    "model_dump": "raw",
    "tool_calls": "calls",
    "function_call": "calls",
    "latency": "elapsed",
    "duration": "elapsed",
    "status_code": "attempts[-1].status",
    "tokens": "usage",
    "stop_reason": "finish_reason",
}


class Reply(Struct, frozen=True, kw_only=True):
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
        headers: of the provider's reply; empty where it was put together from something else.
        attempts: what was tried, in order, the answering one last.
        images, requests: what its price may count besides tokens.
        cached: it comes from the cache: nothing was sent, and it cost nothing. ``usage`` is that of the answer when it
            was asked.
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
    images: int = 0
    requests: int = 1
    body: bytes = b""
    headers: Mapping[str, str] = {}
    cached: bool = False

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
        headers: Mapping[str, str] = _NO_HEADERS,
        first_token: float | None = None,
        images: int = 0,
        cached: bool = False,
    ) -> "Reply":
        """The reply that a completion amounts to."""
        choices = completion.choices
        first = choices[0] if choices else _NO_CHOICE
        return cls(
            text=first.text,
            finish_reason=first.finish_reason,
            usage=completion.usage or NO_USAGE,
            model=completion.model,
            provider=provider,
            label=label,
            elapsed=elapsed,
            first_token=first_token,
            attempts=attempts,
            completion=completion,
            price=price,
            images=images,
            body=body,
            headers=headers,
            cached=cached,
        )

    def __getattr__(self, name: str) -> Any:
        """Only asked for what is not there: what it is called here."""
        hint = _CALLED.get(name)
        raise AttributeError(f"a reply has no {name!r}" + (f"; did you mean {hint}?" if hint else ""))

    @property
    def first(self) -> Choice:
        """The first answer; an empty one where the reply has none."""
        return self.completion.choices[0] if self.completion.choices else _NO_CHOICE

    @property
    def request_id(self) -> str | None:
        """The provider's own identifier of the request, for its support; `None` where it sends none."""
        return request_id_in(self.headers)

    @property
    def truncated(self) -> bool:
        """Whether the answer was cut off by a cap on tokens."""
        return self.finish_reason == "length"

    @property
    def cost(self) -> float | None:
        """What the reply cost, in the currency of the entry's ``price``; `None` where that is not known."""
        if self.cached:
            return 0.0
        if self.price is None:
            return None
        return self.price.cost(self.usage, images=self.images, requests=self.requests)

    @property
    def reasoning(self) -> str | None:
        """The thinking text, where the provider shows it."""
        return self.first.reasoning

    @property
    def citations(self) -> tuple[Citation, ...]:
        """The sources that the answer names, where the provider gives them."""
        return self.first.citations

    @property
    def safety(self) -> tuple[SafetyNote, ...]:
        """What the provider's safety system says of the answer, where it tells."""
        return self.first.safety

    @property
    def refusal(self) -> str | None:
        """The model's words of refusal, where the format has a place of their own for them."""
        return self.first.refusal

    @property
    def calls(self) -> tuple[ToolUse, ...]:
        """The tool calls that the model wants made."""
        return tuple([ToolUse.of(number, call) for number, call in enumerate(self.first.tool_calls)])

    @property
    def files(self) -> "tuple[ReplyFile, ...]":
        """Images and audio of the answer; each can be saved."""
        from .files import ReplyFile

        return tuple([ReplyFile(file, number) for number, file in enumerate(self.first.files, 1)])

    @property
    def logprobs(self) -> tuple[TokenLogprob, ...]:
        """The log probabilities of the answer's tokens, where they were asked for (``logprobs=True``)."""
        return self.first.logprobs

    @property
    def id(self) -> str | None:
        """The provider's identifier of the reply, where it gives one; ``previous_response_id`` takes it."""
        return self.completion.id

    @property
    def code_blocks(self) -> "tuple[CodeBlock, ...]":
        """The fenced blocks of code in the answer; each can be saved."""
        from .code_blocks import code_blocks

        return code_blocks(self.text)

    @property
    def texts(self) -> tuple[str, ...]:
        """All answers, where more than one was asked for (``n``)."""
        return tuple(choice.text for choice in self.completion.choices)

    @property
    def raw(self) -> Json:
        """The reply as the provider sent it, decoded; of a stream, its facts put together."""
        if self.body:
            from ..core.json.lenient import any_json

            return any_json(self.body)
        return msgspec.to_builtins(self.completion)

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return (
            f"Reply({self.text!r}, finish_reason={self.finish_reason!r}, model={self.model!r}, "
            f"provider={self.provider!r}, elapsed={self.elapsed:.3f})"
        )

    def _repr_markdown_(self) -> str:
        facts = [self.label or self.provider, *([] if self.model is None else [self.model])]
        if self.usage.total_tokens is not None:
            facts.append(f"{self.usage.total_tokens:,} tokens")
        if self.cost is not None and self.price is not None:
            facts.append(f"{self.cost:.6f} {self.price.currency}")
        facts.append(f"{self.elapsed:.2f} s")
        return f"{self.text}\n\n<small>{' · '.join(facts).replace('<', '&lt;')}</small>"

    def __reduce__(self) -> "tuple[object, tuple[Any, ...]]":
        from ..core.http.headers import Headers

        # The headers are of whatever HTTP library brought them: not all can be pickled.
        fields = msgspec.structs.asdict(self)
        return _rebuilt, ({**fields, "headers": Headers(self.headers.items())},)

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
            "id": self.id,
            "request_id": self.request_id,
            "calls": msgspec.to_builtins(self.calls),
            "citations": msgspec.to_builtins(self.citations),
            "files": [{"media_type": file.media_type, "address": file.address} for file in self.files],
            "logprobs": msgspec.to_builtins(self.logprobs),
            "safety": msgspec.to_builtins(self.safety),
            "usage": msgspec.to_builtins(self.usage),
            "cost": self.cost,
            "cached": self.cached,
            "elapsed": round(self.elapsed, 6),
            "first_token": None if self.first_token is None else round(self.first_token, 6),
            "attempts": msgspec.to_builtins(self.attempts),
        }


def _rebuilt(fields: dict[str, Any]) -> Reply:
    return Reply(**fields)
