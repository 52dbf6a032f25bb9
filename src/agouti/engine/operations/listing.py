"""Lists of models: what a provider offers; costs no tokens, and shows whether address and key are right."""

from msgspec import Struct
from msgspec.structs import replace

from ...config.entries import Model
from ...core.attempt import Attempt
from ...core.canonical.chat import Message, Request
from ...core.errors import AddressWrong, AgoutiError, ModelUnknown
from ...core.http.exchange import Timeouts
from ...core.settings.retries import Retries
from ...core.text.suggest import similar_names
from ...dialects.wire import Fault, ListedModel, Outgoing
from ..attempts.call_loop import exchange
from ..call import Call
from ..effects import Steps
from ..operation import unsupported_feature
from ..providers.provider import Target
from ..receiving.whole_reply import WholeReply

TIMEOUTS = Timeouts(connect=5.0, first_byte=15.0, between_chunks=15.0)
# A list that is only wanted for a better error message must not keep anybody waiting.
_LIST_TIMEOUTS = Timeouts(connect=2.0, first_byte=5.0, between_chunks=5.0)
_SECONDS = 10.0
_ONCE = Retries(max=0)


class Listing(Struct, frozen=True, kw_only=True):
    """A provider's list.

    Attributes:
        models: what it offers.
        date: the reply's own date, as sent; empty where it has none.
        attempt: how long it took.
        whole: whether its last page came: what is not among the models is not offered.
    """

    models: tuple[ListedModel, ...]
    date: str
    attempt: Attempt
    whole: bool = True


# No provider has as many pages; one that always names a next one is not followed for ever.
_PAGES = 100


class Page(Struct, frozen=True):
    """A page of a list, and the request for the one behind it."""

    models: tuple[ListedModel, ...]
    more: Outgoing | None


class Models(WholeReply[None, Page]):
    """A page of the list of models of a provider.

    Args:
        page: what to send for it; `None`: for the first one.
        keyless: send no key, only to see whether anybody answers.
    """

    name = "models"

    def __init__(self, *, page: Outgoing | None = None, keyless: bool = False) -> None:
        self.sends_key = not keyless
        self._page = page

    def prepare(self, call: Call, target: Target) -> Steps[None]:
        yield from ()

    def encode(self, request: None, target: Target) -> Outgoing:
        outgoing = self._page or target.provider.dialect.encode_models()
        if outgoing is None:
            raise unsupported_feature(target, "list of models", "See the names on the provider's pages.")
        return outgoing

    def decode(self, body: bytes, request: None, target: Target) -> Page | Fault:
        dialect = target.provider.dialect
        return Page(dialect.decode_models(body), dialect.encode_more_models(body))


def listing(call: Call, *, keyless: bool = False) -> Steps[Listing]:
    """Get the list of the provider of the call's first target.

    Raises:
        RequestError: the dialect has no list.
        AgoutiError: it cannot be had.
    """
    call = replace(call, timeouts=call.timeouts or TIMEOUTS, retries=call.retries or _ONCE)
    exchanged = yield from exchange(call, Models(keyless=keyless))
    first = exchanged
    models = list(exchanged.answer.value.models)
    queries: set[str] = set()
    while (
        (next_page := exchanged.answer.value.more) is not None
        and next_page.query not in queries
        and len(queries) < _PAGES
    ):
        queries.add(next_page.query)
        exchanged = yield from exchange(call, Models(page=next_page, keyless=keyless))
        models += exchanged.answer.value.models
    return Listing(
        models=tuple(dict.fromkeys(models)),
        date=first.answer.headers.get("date", ""),
        attempt=first.attempts[-1],
        whole=next_page is None,
    )


class Reach(WholeReply[None, None]):
    """Whether anybody answers at the provider's bare address; any answer will do, a 404 too."""

    name = "reach"

    def prepare(self, call: Call, target: Target) -> Steps[None]:
        yield from ()

    def encode(self, request: None, target: Target) -> Outgoing:
        return Outgoing("follow", "", None, "GET", "*/*")

    def decode(self, body: bytes, request: None, target: Target) -> None:
        return None


class Refusing(WholeReply[str, None]):
    """Whether the path of the dialect is there: a request without anything in it is refused there, and costs nothing.

    Args:
        model: what a path names that names one.
    """

    name = "path"

    def __init__(self, model: str) -> None:
        self._model = model

    def prepare(self, call: Call, target: Target) -> Steps[str]:
        yield from ()
        return self._model

    def encode(self, request: str, target: Target) -> Outgoing:
        question = Request(request, (Message("user", "Hi"),))
        outgoing = target.provider.dialect.encode_chat(question)
        return replace(outgoing, body={})

    def decode(self, body: bytes, request: str, target: Target) -> None:
        return None


def path_is_there(call: Call, model: str) -> Steps[AddressWrong | None]:
    """The error where nothing is found at the path to which the dialect sends its questions."""
    target = Target(Model("", call.targets[0].provider.label, model), call.targets[0].provider)
    limits = {"timeouts": call.timeouts or TIMEOUTS, "retries": call.retries or _ONCE}
    try:
        yield from exchange(replace(call, targets=(target,), **limits), Refusing(model))
    except AddressWrong as error:
        return error if error.status in (404, 405) else None
    except AgoutiError:
        return None
    return None


def reaching(call: Call) -> Steps[Attempt]:
    """See whether anybody answers at the provider's address, and whether the key is turned away there.

    For formats without a list of models. It costs no tokens.

    Raises:
        AgoutiError: nobody answers, or the key is refused.
    """
    call = replace(call, timeouts=call.timeouts or TIMEOUTS, retries=call.retries or _ONCE)
    try:
        exchanged = yield from exchange(call, Reach())
    except AgoutiError as error:
        if error.status is None or error.status in (401, 403):
            raise
        return error.attempts[-1]
    return exchanged.attempts[-1]


def name_near_models(error: ModelUnknown, call: Call, target: Target) -> Steps[None]:
    """Ask for the provider's list, to name the models that look like the unknown one."""
    end_at = call.clocks.clock() + _SECONDS  # for all pages
    until = end_at if call.until is None else min(end_at, call.until)
    call = replace(call, targets=(target,), timeouts=_LIST_TIMEOUTS, retries=_ONCE, hooks=(), until=until)
    try:
        listed = yield from listing(call)
    except (AddressWrong, ModelUnknown):
        # Where not even the list is found, the path may be wrong rather than the name.
        label = target.provider.label
        error.with_context(
            hint=f"{error.hint}. Its list is not there either: check the path in providers.{label}.address."
        )
        return
    except AgoutiError:
        return  # the error at hand says more than why its list could not be had
    names = [model.name for model in listed.models]
    if not names:
        return
    name = target.model.name
    similar = similar_names(name, names)
    some = ", ".join(similar or sorted(names)[:5])
    error.with_near(similar, f"{'Near names' if similar else 'It has'}: {some}. Correct name = {name!r} in the entry.")


def has_list(target: Target) -> bool:
    """Whether the provider's dialect has a list of models."""
    return target.provider.dialect.encode_models() is not None
