"""Token counts of a prompt: the provider's own where its format counts, an estimate otherwise."""

from msgspec import Struct
from msgspec.structs import replace

from ...core.canonical.chat import Request
from ...dialects.wire import Fault, Outgoing
from ..attempts.call_loop import exchange
from ..call import Call, request_for
from ..effects import Steps
from ..providers.provider import Target
from ..question import Question
from .chat import encoded, expressible
from .inputs import check_inputs
from .model_operation import ModelOperation


class TokenCount(Struct, frozen=True):
    """The number of tokens of a prompt, with its system text, examples and tools.

    Attributes:
        tokens: how many.
        exact: the provider has counted them; otherwise they are estimated.

    >>> int(TokenCount(12, exact=False))
    12
    """

    tokens: int
    exact: bool

    def __int__(self) -> int:
        return self.tokens


_COUNTED = (
    "messages", "system", "tools", "tool_choice", "thinking", "output_config", "context_management", "mcp_servers",
)  # fmt: skip


class Count(ModelOperation[Request, int]):
    """The provider's own count of a question."""

    name = "count"

    def __init__(self, question: Question) -> None:
        self._question = question

    def prepare(self, call: Call, target: Target) -> Steps[Request]:
        yield from ()
        request = expressible(request_for(self._question, target), target)
        check_inputs(request, target)
        return request

    def encode(self, request: Request, target: Target) -> Outgoing:
        outgoing = encoded(request, target, target.provider.dialect.encode_count)
        own_form = self._question.own
        if own_form is None or own_form.dialect != target.provider.dialect.name or target.model.examples:
            return outgoing
        # What the caller has said itself is what is counted, as far as it is counted at all.
        counted = {name: own_form.fields[name] for name in _COUNTED if own_form.fields.get(name) is not None}
        query = "&".join(filter(None, (outgoing.query, own_form.query)))
        headers = (*outgoing.headers, *own_form.headers)
        return replace(outgoing, body={**(outgoing.body or {}), **counted}, query=query, headers=headers)

    def decode(self, body: bytes, request: Request, target: Target) -> int | Fault:
        return target.provider.dialect.decode_count(body)


def count(call: Call) -> Steps[TokenCount]:
    """Count the tokens of a call's question; nothing is sent where the format does not count."""
    target = call.targets[0]
    if not target.provider.dialect.abilities.counts_tokens:
        from ..outgoing import OutgoingRequest
        from .chat import Chat

        question = call.question
        outgoing = OutgoingRequest(Chat(question), expressible(request_for(question, target), target), target)
        return TokenCount(outgoing.expected, exact=False)
    exchanged = yield from exchange(call, Count(call.question))
    return TokenCount(exchanged.answer.value, exact=True)
