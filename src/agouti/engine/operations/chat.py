"""Chat: a question asked of a model, plain or streamed."""

from collections.abc import Callable
from typing import TypeAlias

from msgspec.structs import replace

from ...core.chat import Completion, Request
from ...core.errors import AgoutiError, ParameterUnsupported, RequestError, RequestRefused
from ...core.parameters import is_neutral
from ...core.usage import Usage
from ...dialects.base import Fault, Outgoing, Pending
from ...reply import Reply
from ..call import Call, request_for
from ..effects import Steps
from ..exchange import Exchanged, exchange
from ..operation import Operation
from ..provider import Target
from ..question import Question

Shape: TypeAlias = Callable[[Request, Target], Request]
"""Makes more of a request: a form, or what has been said meanwhile."""


class Chat(Operation[Request, Completion]):
    """A question, answered whole.

    Args:
        shape: makes more of the request.
    """

    name = "chat"

    def __init__(self, question: Question, shape: Shape | None = None) -> None:
        self._question = question
        self._shape = shape

    def prepare(self, call: Call, target: Target) -> Steps[Request]:
        request = request_for(self._question, target)
        if self._shape is not None:
            request = self._shape(request, target)
        request = expressible(request, target)
        if target.model.inputs is not None or request.fetch != "no":
            from .images import with_images_fetched

            request = yield from with_images_fetched(request, call, target)
        return request

    def encode(self, request: Request, target: Target) -> Outgoing:
        return target.provider.dialect.encode_chat(request)

    def decode(self, body: bytes, request: Request, target: Target) -> Completion | Fault | Pending:
        completion = target.provider.dialect.decode_chat(body)
        if isinstance(completion, Completion) and (reason := self.reason_by_cap(completion, request)) is not None:
            choice = replace(completion.choices[0], finish_reason=reason)
            return replace(completion, choices=(choice,))
        return completion

    def reason_by_cap(self, completion: Completion, request: Request) -> str | None:
        """The reason for the end where the format gives none: as many tokens as the cap allows mean that it cut."""
        choices, usage = completion.choices, completion.usage
        if len(choices) != 1 or choices[0].finish_reason is not None or usage is None:
            return None
        cap = request.parameters.get("max_tokens")
        return "length" if cap is not None and usage.output_tokens is not None and usage.output_tokens >= cap else None

    def reduced(self, error: AgoutiError, request: Request, target: Target) -> Request | None:
        """The request without the parameter that the provider does not know, where the entry allows that."""
        if not isinstance(error, RequestRefused) or error.parameter is None:
            return None
        entry = target.provider.entry
        name = error.parameter.partition(".")[0]
        name = next((ours for ours, theirs in entry.rename.items() if theirs == name), name)
        if name not in request.parameters:
            return None
        if entry.unsupported == "error":
            error.with_context(hint=_without(name, entry.label))
            return None
        target.state.refused_parameters.add(name)
        _warn(f"{target.model.label} ({entry.label}) does not take {name}; going on without it")
        return without(request, {name})

    def usage(self, value: Completion) -> Usage | None:
        return value.usage


def ask(call: Call, shape: Shape | None = None) -> Steps[Reply]:
    """Get the whole reply to a call's question."""
    exchanged = yield from exchange(call, Chat(call.question, shape))
    return reply_of(call, exchanged)


def reply_of(call: Call, exchanged: Exchanged[Completion], first_token: float | None = None) -> Reply:
    """The reply that an exchange has ended with."""
    answer, target = exchanged.answer, exchanged.target
    return Reply.of(
        answer.value,
        label=call.targets[0].model.label,
        provider=target.provider.label,
        price=target.model.price,
        elapsed=exchanged.elapsed,
        attempts=exchanged.attempts,
        body=answer.body,
        headers=answer.headers,
        first_token=first_token,
    )


def expressible(request: Request, target: Target) -> Request:
    """The request as far as dialect and model can take it; what they lack is an error, or said once and left out.

    Raises:
        ParameterUnsupported: the dialect has no such parameter, and the entry does not allow to go on without.
    """
    refused, takes = target.state.refused_parameters, target.provider.takes
    if refused and not refused.isdisjoint(request.parameters):
        request = without(request, refused)
    if takes is None:
        return request
    if neutral := {name for name, value in request.parameters.items() if is_neutral(name, value)}:
        request = without(request, neutral)  # what asks for nothing is done by every format
    if not (lacking := request.parameters.keys() - takes):
        return request
    name, entry = min(lacking), target.provider.entry
    if entry.unsupported == "error":
        raise ParameterUnsupported(
            f"dialect {target.provider.dialect.name} (provider {entry.label}) has no parameter {name}",
            parameter=name,
            hint=_without(name, entry.label),
        )
    refused |= lacking
    _warn(f"{target.model.label} ({entry.label}) does not take {', '.join(sorted(lacking))}; going on without")
    return without(request, lacking)


def _warn(message: str) -> None:
    from ...core.warn import warn

    warn(message)


def without(request: Request, names: "set[str] | frozenset[str]") -> Request:
    """The request without some of its parameters."""
    kept = {name: value for name, value in request.parameters.items() if name not in names}
    return replace(request, parameters=kept)


def _without(name: str, provider: str) -> str:
    return f'Leave {name} out, or set unsupported = "warn" in providers.{provider} to go on without it.'


def check_inputs(request: Request, target: Target) -> None:
    """See that the model takes what is in the prompt.

    Raises:
        RequestError: it holds images, and the entry says that the model takes none.
    """
    from ...core.messages import images_in

    inputs = target.model.inputs
    if inputs is not None and "image" not in inputs and any(True for _ in images_in(request.messages)):
        raise RequestError(
            f"{target.model.label} takes no images (inputs in its entry)",
            hint='Ask a model that does, leave the images out, or add "image" to its inputs.',
        )
