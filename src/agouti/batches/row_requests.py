"""What is asked of a row: an answer, a value of a form, or a request of its own; one call each."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Protocol, cast

from msgspec.structs import replace

from ..calls.arguments import split_fill
from ..calls.calls import Calls
from ..core.canonical.chat import Json
from ..core.canonical.usage import Usage
from ..core.errors import RequestError
from ..engine.call import Call, request_for
from ..engine.effects import Steps
from ..engine.operations.chat import ask, expressible
from ..engine.operations.inputs import check_inputs
from ..forms.plain_values import plain_value
from ..replies.filled import FilledAnswer
from ..replies.reply import Reply
from ..tables.row_files import Row
from .acceptance import Accept, accepted
from .prompts import NothingToAsk, RowPrompt, RowPrompts

if TYPE_CHECKING:
    from ..calls.options import FillOptions, Options, Prompt
    from ..engine.operations.structured import FormCall


class RowAsker(Protocol):
    """Asks what a row is asked."""

    def prompt(self, row: Row) -> RowPrompt:
        """What is asked of a row.

        Raises:
            RequestError: nothing can be asked of it.
        """

    def call(self, prompt: RowPrompt) -> Call:
        """The call that asks it, before anything is sent.

        Raises:
            AgoutiError: the model does not take it.
        """

    def answer_of(self, prompt: RowPrompt) -> Steps[dict[str, Any]]:
        """What came, as facts of a result, and ``attempts``.

        Raises:
            AgoutiError: nothing did.
        """


class Answers:
    """A text in answer to each row."""

    def __init__(
        self,
        calls: Calls,
        label: str,
        prompts: RowPrompts,
        options: Mapping[str, Any],
        accept: "Accept | None" = None,
    ) -> None:
        self._calls = calls
        self._label = label
        self._prompts = prompts
        self._options = options
        self._accept = accept

    def prompt(self, row: Row) -> RowPrompt:
        return self._prompts.of(row)

    def call(self, prompt: RowPrompt) -> Call:
        return self._calls.chat(self._label, prompt.text, cast("Options", with_media(self._options, prompt)))

    def answer_of(self, prompt: RowPrompt) -> Steps[dict[str, Any]]:
        reply = yield from ask(self.call(prompt))
        if self._accept is not None:
            yield from accepted(self._accept, reply.text, (FilledAnswer(output_method="prompt", reply=reply),))
        return {"answer": reply.text, **facts_of(reply), "attempts": reply.attempts}


class Values:
    """A value of a form from each row."""

    def __init__(
        self,
        calls: Calls,
        label: str,
        prompts: RowPrompts,
        form: Any,
        options: Mapping[str, Any],
        accept: "Accept | None" = None,
    ) -> None:
        self._accept = accept
        self._calls = calls
        self._label = label
        self._prompts = prompts
        self.form = form
        self._options = options
        self._chat_options = split_fill(cast("FillOptions", options))[0]

    def prompt(self, row: Row) -> RowPrompt:
        return self._prompts.of(row)

    def call(self, prompt: RowPrompt) -> Call:
        return self._calls.chat(self._label, prompt.text, cast("Options", with_media(self._chat_options, prompt)))

    def form_call(self, prompt: RowPrompt) -> "FormCall":
        """The call that fills the form."""
        options = cast("FillOptions", with_media(self._options, prompt))
        return self._calls.form(self._label, self.form, prompt.text, options)[0]

    def answer_of(self, prompt: RowPrompt) -> Steps[dict[str, Any]]:
        filled = yield from self.form_call(prompt).steps()
        if self._accept is not None:
            yield from accepted(self._accept, filled.value, filled.answers)
        facts = facts_of(filled.reply, filled.usage, filled.cost)
        if filled.repairs_applied:
            facts["mended"] = list(filled.repairs_applied)
        attempts = [attempt for answer in filled.answers for attempt in answer.reply.attempts]
        return {"value": plain_value(filled.value), **facts, "attempts": attempts}


class Requests:
    """What each row asks itself: a line of an OpenAI-compatible batch, its ``body`` a whole request."""

    def __init__(self, calls: Calls, label: str, options: Mapping[str, Any]) -> None:
        self._calls = calls
        self._label = label
        self._options = options

    def prompt(self, row: Row) -> RowPrompt:
        import msgspec

        try:
            return RowPrompt(msgspec.json.encode(row.columns.get("body"), enc_hook=str).decode())
        except (msgspec.MsgspecError, UnicodeError, TypeError, OverflowError) as error:
            raise NothingToAsk(f"its body cannot be sent ({error})") from None

    def call(self, prompt: RowPrompt) -> Call:
        import msgspec

        from ..core.messages.json_form import chat_arguments

        body = msgspec.json.decode(prompt.text)
        if not isinstance(body, dict):
            raise RequestError("its body is no request", hint='Write "body": {"messages": [...]}.')
        request = chat_arguments({**body, "model": self._label})
        options = {**request.options, **self._options}
        return self._calls.chat(self._label, cast("Prompt", request.messages), cast("Options", options))

    def answer_of(self, prompt: RowPrompt) -> Steps[dict[str, Any]]:
        reply = yield from ask(self.call(prompt))
        response: dict[str, Json] = {
            "status_code": 200,
            "request_id": reply.request_id,
            "body": self.exchanged(reply),
        }
        return {"answer": reply.text, "response": response, **facts_of(reply), "attempts": reply.attempts}

    def exchanged(self, reply: Reply) -> dict[str, Json]:
        """A reply in the canonical form."""
        return self._calls.exchanged(reply)


def with_media(options: Mapping[str, Any], prompt: RowPrompt) -> dict[str, Any]:
    """The options of a call with the images and files of its row."""
    arguments = dict(options)
    if prompt.images:
        arguments["images"] = [*_several(options.get("images")), *prompt.images]
    if prompt.files:
        arguments["files"] = [*_several(options.get("files")), *prompt.files]
    return arguments


def _several(value: Any) -> list[Any]:
    return [] if value is None else list(value) if isinstance(value, (list, tuple)) else [value]


def facts_of(reply: Reply, usage: Usage | None = None, cost: float | None = None) -> dict[str, Any]:
    """What a result has of a reply besides what was wanted."""
    usage = usage or reply.usage
    cost = reply.cost if cost is None else cost
    facts: dict[str, Any] = {
        "finish_reason": reply.finish_reason,
        "model": reply.model,
        "input_tokens": usage.input_tokens,
        "output_tokens": usage.output_tokens,
        "cost": cost,
        "currency": reply.price.currency if reply.price is not None and cost is not None else None,
        "seconds": round(reply.elapsed, 3),
        "cached": reply.cached or None,
    }
    return {name: value for name, value in facts.items() if value is not None}


def refusals_in(attempts: Any) -> bool:
    """Whether a provider has refused one of the attempts because it had too much to do."""
    return any(each.outcome in ("RateLimited", "Overloaded") for each in attempts)


def check_call(call: Call) -> None:
    """See that the model takes what is asked, before the first row is.

    Raises:
        AgoutiError: it does not.
    """
    target = call.targets[0]
    request = expressible(request_for(call.question, target), target)
    check_inputs(replace(request, fetch="no"), target)
