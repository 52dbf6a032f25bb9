"""Chat: a question asked of a model, plain or streamed."""

from collections.abc import Callable, Iterable, Mapping
from functools import partial

from msgspec.structs import replace

from ...core.canonical.chat import Completion, Json, Message, Request, is_unfinished
from ...core.canonical.parameters import CAPS, asks_nothing, is_neutral
from ...core.canonical.usage import Usage
from ...core.errors import AgoutiError, ParameterUnsupported, RequestError, RequestRefused
from ...core.messages.call_pairs import unique_calls
from ...dialects.wire import Fault, Outgoing, Pending
from ...replies.reply import Reply
from ..attempts.call_loop import Exchanged, exchange
from ..call import Call, Shape, request_for
from ..effects import RunCallable, Steps
from ..operation import CachedContext
from ..outcome import Answer, Answered
from ..providers.provider import Target
from ..question import Question
from .model_operation import ModelOperation

_ANY_MESSAGE = Message("user", "-")
# A request with more messages is put together in a thread, where there is an event loop.
_MANY = 300


def _has_path(fields: Mapping[str, Json], path: str) -> bool:
    """Whether there is a field at a path such as ``metadata.user_id``."""
    value: Json = fields
    for name in path.split("."):
        if not isinstance(value, Mapping) or value.get(name) is None:
            return False
        value = value[name]
    return True


def _without_paths(fields: Mapping[str, Json], paths: Iterable[str]) -> dict[str, Json]:
    """The fields without those at some paths."""
    remaining = dict(fields)
    for path in paths:
        if _has_path(remaining, path):
            outer, _, inner = path.partition(".")
            # None stands for a field that is not to be sent, whatever the dialect makes of the request.
            inside = _without_paths(remaining[outer], [inner]) if inner else {}
            remaining[outer] = {name: each for name, each in inside.items() if each is not None} or None
    return remaining


def _without_own(error: RequestRefused, request: Request, target: Target, path: str) -> Request | None:
    """The request without a field that the caller has said in its own form, where the entry allows that."""
    entry = target.provider.entry
    if path in request.refused:
        return None  # it did not help
    if entry.unsupported == "error":
        error.with_context(hint=_without(path, entry.label))
        return None
    target.state.refused_parameters.add(path)
    _warn(f"{target.model.label} ({entry.label}) does not take {path}; going on without it")
    return replace(request, refused=request.refused | {path})


class Chat(ModelOperation[Request, Completion]):
    """A question, answered whole.

    Args:
        shape: makes more of the request.
    """

    name = "chat"

    def __init__(self, question: Question, shape: Shape | None = None) -> None:
        self._question = question
        self._shape = shape

    def heavy(self, request: Request) -> bool:
        return len(request.messages) > _MANY

    def prepare(self, call: Call, target: Target) -> Steps[Request]:
        if len(self._question.messages) > _MANY:  # others, in the same event loop, go on meanwhile
            request: Request = yield RunCallable(partial(self._prepared, target))
        else:
            request = self._prepared(target)
        if target.model.inputs is not None or request.fetch != "no":
            from .inputs import with_images_fetched

            fetched = yield from with_images_fetched(request, call, target)
            if fetched is not request:
                request = with_media_ready(fetched, target, fetched=True)
        return request

    def _prepared(self, target: Target) -> Request:
        request = request_for(self._question, target)
        if self._shape is not None:
            from ..sealed import readable

            request = self._shape(request, target)
            request = replace(request, messages=unique_calls(readable(request.messages, target.provider)))
        if (own_form := self._question.own) is not None:
            from .reasoning_effort import with_effort

            request = with_effort(request, target, own_form.dialect)
        return expressible(request, target, media=own_form is None or not self.speaks_for_itself(target))

    def encode(self, request: Request, target: Target) -> Outgoing:
        outgoing = self._encoded(request, target)
        if request.extra:
            from ..outgoing import check_overrides

            encoded = self._encoded(replace(request, extra={}), target)
            outgoing = check_overrides(outgoing, encoded, request.extra, target)
        if request.extra or target.provider.entry.add:  # what is put in beside our own fields may contradict them
            from ..outgoing import caps_in

            caps_in(target.provider.body_of(outgoing), target)
        return outgoing

    def speaks_for_itself(self, target: Target) -> bool:
        own_form = self._question.own
        named = own_form is not None and own_form.dialect == target.provider.dialect.name
        return named and not target.model.examples and self._shape is None

    def _encoded(self, request: Request, target: Target) -> Outgoing:
        dialect, own_form = target.provider.dialect, self._question.own
        if own_form is None or not self.speaks_for_itself(target):
            return encoded(request, target, dialect.encode_chat)
        if own_form.whole:
            # What is said stands in the fields: of ours only the entry's system text may be wanted.
            system = [each for each in request.messages if each.role in ("system", "developer")]
            request = replace(request, messages=(*system, _ANY_MESSAGE))
        outgoing = encoded(without(request, own_form.says), target, dialect.encode_chat)
        refused = request.refused | target.state.refused_parameters
        fields = _without_paths(own_form.fields, refused) if refused else own_form.fields
        body = {**(outgoing.body or {}), **fields}
        return replace(
            outgoing,
            body={name: value for name, value in body.items() if value is not None},
            query="&".join(filter(None, (outgoing.query, own_form.query))),
            headers=(*outgoing.headers, *own_form.headers),
        )

    def decode(self, body: bytes, request: Request, target: Target) -> Completion | Fault | Pending:
        completion = target.provider.dialect.decode_chat(body)
        if (tag := target.model.reasoning_tag) and isinstance(completion, Completion):
            from ...core.messages.tagged_reasoning import split_choice

            completion = replace(completion, choices=tuple([split_choice(each, tag) for each in completion.choices]))
        if isinstance(completion, Completion) and (reason := self.reason_by_cap(completion, request)) is not None:
            choice = replace(completion.choices[0], finish_reason=reason)
            return replace(completion, choices=(choice,))
        return completion

    def reason_by_cap(self, completion: Completion, request: Request) -> str | None:
        """The reason for the end where the format gives none: as many tokens as the cap allows mean that it cut."""
        choices, usage = completion.choices, completion.usage
        if len(choices) != 1 or choices[0].finish_reason is not None or usage is None:
            return None
        cap = next((request.parameters[name] for name in CAPS if name in request.parameters), None)
        return "length" if cap is not None and usage.output_tokens is not None and usage.output_tokens >= cap else None

    def reduced(self, error: AgoutiError, request: Request, target: Target) -> Request | None:
        """The request without what the provider does not know, where the entry allows that, or it has another name."""
        if not isinstance(error, RequestRefused) or error.parameter is None:
            return None
        entry, abilities, refused = target.provider.entry, target.provider.dialect.abilities, error.parameter
        if refused in abilities.adds and refused not in request.refused:
            target.state.refused_parameters.add(refused)
            return replace(request, refused=request.refused | {refused})
        name = next((own_name for own_name, wire_name in entry.rename.items() if wire_name == refused), refused)
        own_form = self._question.own
        if own_form is not None and self.speaks_for_itself(target) and _has_path(own_form.fields, refused):
            return _without_own(error, request, target, refused)
        if name not in request.parameters:
            name = abilities.ours(name)
        if name not in request.parameters:
            name = name.partition(".")[0]
        if name not in request.parameters:
            return None
        if name in CAPS and (twin := CAPS[1 - CAPS.index(name)]) in (error.provider_message or ""):
            if twin in request.refused:
                # It refuses both, each for the other: nothing is learnt of that, or the cap would be lost unsaid.
                target.state.refused_parameters -= set(CAPS)
                return None
            # The provider names the one that it takes: the cap stays.
            target.state.refused_parameters.add(name)
            return replace(_with_cap(request, name, twin), refused=request.refused | {name})
        if entry.unsupported == "error":
            error.with_context(hint=_without(name, entry.label))
            return None
        target.state.refused_parameters.add(name)
        _warn(f"{target.model.label} ({entry.label}) does not take {name}; going on without it")
        return without(request, {name})

    def receive_cached(self, value: Completion, context: CachedContext) -> Steps[Answered[Completion]]:
        yield from ()
        return Answered(Answer(replace(value, body=b""), 0, {}, value.body, cached=True))

    def usage(self, value: Completion) -> Usage | None:
        return value.usage


def ask(call: Call, shape: Shape | None = None) -> Steps[Reply]:
    """Get the whole reply to a call's question."""
    exchanged = yield from exchange(call, Chat(call.question, shape))
    if is_unfinished(exchanged.answer.value):
        from .continued_turns import continued

        exchanged = yield from continued(call, exchanged, shape, partial(Chat, call.question))
    return reply_of(call, exchanged)


def reply_of(call: Call, exchanged: Exchanged[Completion], first_token: float | None = None) -> Reply:
    """The reply that an exchange has ended with."""
    answer, target = exchanged.answer, exchanged.target
    return Reply.of(
        answer.value,
        label=call.targets[0].model.label,
        provider=target.provider.label,
        price=target.price,
        elapsed=exchanged.elapsed,
        attempts=exchanged.attempts,
        body=answer.body,
        headers=answer.headers,
        first_token=first_token,
        images=images_of(call.question) if target.price is not None else 0,
        cached=answer.cached,
    )


def images_of(question: Question) -> int:
    """How many images a question has."""
    if not any(isinstance(message.content, list) for message in question.messages):
        return 0
    from ...core.messages.messages import media_in

    return sum(kind == "image" for kind, _ in media_in(question.messages))


def with_media_ready(request: Request, target: Target, *, fetched: bool) -> Request:
    """The request with its images, files and sounds as the dialect can take them.

    Raises:
        RequestError: it does not take them, or one of them is none.
    """
    if all(type(message.content) is not list for message in request.messages):
        return request
    from ...core.messages.parts import media_ready

    dialect = target.provider.dialect
    inputs = dialect.abilities.inputs
    return replace(request, messages=media_ready(request.messages, inputs, dialect.name, fetched=fetched))


def expressible(request: Request, target: Target, *, media: bool = True) -> Request:
    """The request as far as dialect and model can take it; what they lack is an error, or said once and left out.

    Args:
        media: images and files are looked at too; not those of a body that goes out as it came.

    Raises:
        ParameterUnsupported: the dialect has no such parameter, and the entry does not allow to go on without.
        RequestError: the dialect does not take its images or files.
    """
    if media:
        request = with_media_ready(request, target, fetched=request.fetch == "no")
    refused, accepted = target.state.refused_parameters, target.provider.accepted
    if refused:
        request = _as_learned(request, refused, target)
    parameters = request.parameters
    if accepted is None:
        unsupported = target.provider.unsupported
        if unsupported.isdisjoint(parameters):
            return request
        rejected = {name for name in unsupported & parameters.keys() if not asks_nothing(name, parameters[name])}
        request = without(request, unsupported - rejected)
    else:
        # What asks for nothing is done by every format.
        empty = {name for name, value in parameters.items() if _is_empty(name, value, accepted)}
        if empty:
            request = without(request, empty)
        rejected = request.parameters.keys() - accepted
    if not rejected:
        return request
    name, entry = min(rejected), target.provider.entry
    if entry.unsupported == "error":
        raise ParameterUnsupported(
            f"dialect {target.provider.dialect.name} (provider {entry.label}) has no parameter {name}",
            parameter=name,
            hint=_without(name, entry.label),
        )
    refused |= rejected
    _warn(f"{target.model.label} ({entry.label}) does not take {', '.join(sorted(rejected))}; going on without")
    return without(request, rejected)


def _is_empty(name: str, value: Json, accepted: frozenset[str]) -> bool:
    # How chunks look is nothing that a model is asked.
    return is_neutral(name, value) or (name not in accepted and (name == "stream_options" or asks_nothing(name, value)))


def _as_learned(request: Request, refused: set[str], target: Target) -> Request:
    """The request without what the model has refused before; a cap goes by its other name."""
    for name, twin in (CAPS, CAPS[::-1]):
        if name in refused and twin not in refused and name in request.parameters:
            request = _with_cap(request, name, twin)
    added = target.provider.dialect.abilities.adds & refused
    if added:
        request = replace(request, refused=frozenset(added))
    return request if refused.isdisjoint(request.parameters) else without(request, refused)


def _with_cap(request: Request, name: str, twin: str) -> Request:
    parameters = {twin if each == name else each: value for each, value in request.parameters.items()}
    return replace(request, parameters=parameters)


def encoded(request: Request, target: Target, encode: Callable[[Request], Outgoing]) -> Outgoing:
    """The request in the dialect's words, without parameters that it cannot combine where the entry allows that.

    Raises:
        ParameterUnsupported: the dialect cannot express a value, or not together with another parameter.
        RequestError: something in the request is of a type that it cannot be of.
    """
    while True:
        try:
            return encode(request)
        except ParameterUnsupported as error:
            name, entry = error.parameter, target.provider.entry
            if entry.unsupported == "error" or name not in request.parameters:
                raise
            _warn(f"{target.model.label} ({entry.label}): {error.message}; going on without {name}")
            request = without(request, {name})
        except AgoutiError:
            raise
        except (TypeError, ValueError, AttributeError, LookupError) as error:
            # Something deep in a message, a tool or a schema is of another type than anybody would think of.
            raise RequestError(
                f"the request cannot be said in dialect {target.provider.dialect.name} ({error})",
                hint="Look at the types of what is in messages, tools and response_format.",
            ) from error


def _warn(message: str) -> None:
    from ...core.warn import warn

    warn(message)


def without(request: Request, names: "set[str] | frozenset[str]") -> Request:
    """The request without some of its parameters."""
    parameters = {name: value for name, value in request.parameters.items() if name not in names}
    return replace(request, parameters=parameters)


def _without(name: str, provider: str) -> str:
    return f'Leave {name} out, or set unsupported = "warn" in providers.{provider} to go on without it.'
