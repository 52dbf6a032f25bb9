"""What dialects make and read: requests that go out, faults, pending jobs, listed models."""

from typing import Any, Literal, TypeAlias, get_args

from msgspec import Struct

from ..core.errors import AgoutiError

OperationName: TypeAlias = Literal["chat", "stream", "models", "embeddings", "embeddings_batch", "count", "follow"]
"""What is asked of a provider; ``stream`` and ``embeddings_batch`` only where a format has a path of their own for
them. ``follow`` is a request to an address that a reply has named."""


PATHS: tuple[str, ...] = get_args(OperationName)[:-1]
"""The operations whose path an entry may change."""


class Fault(Struct, frozen=True):
    """What a provider's error reply means.

    Attributes:
        kind: the class of the error to raise.
        message: the provider's own words.
        parameter: the request field at fault, where the provider names it.
        wait: seconds to wait before another try, where the provider says so.
        code: the provider's own word for it.
    """

    kind: type[AgoutiError]
    message: str = ""
    parameter: str | None = None
    wait: float | None = None
    code: str | None = None


class Outgoing(Struct, frozen=True, gc=False):
    """A request of a dialect, before the provider's address, headers, key and peculiarities are added.

    Attributes:
        operation: an entry may give it another path.
        path: the dialect's own path, after the base address; ``{model}`` stands for the model's name.
        body: the fields of the JSON body; the engine may change this dict.
        headers: headers that belong to this one operation; the entry's own win over them.
        query: the query of this one request (where a page begins), behind that of the address.
        raw: the body where it is no JSON.
        keeps: fields that the caller may set although the entry sets them too (``override``).
    """

    operation: OperationName
    path: str
    body: dict[str, Any] | None = None
    method: str = "POST"
    accept: str = "application/json"
    headers: tuple[tuple[str, str], ...] = ()
    query: str = ""
    raw: bytes | None = None
    keeps: frozenset[str] = frozenset()


class Pending(Struct, frozen=True, gc=False):
    """The provider has taken the work, and will tell about it at other addresses.

    Attributes:
        poll: where to ask how far it is; the answer is decoded like the first one.
        cancel: where to say that it is no longer wanted (``POST``); empty where there is none.
        stream: where its events are; empty where there are none.
    """

    poll: str
    cancel: str = ""
    stream: str = ""


class ListedModel(Struct, frozen=True, kw_only=True):
    """One model of a provider's list; `None` where the provider does not say.

    Attributes:
        name: exactly what is sent as the model's name.
        context: tokens of prompt and answer together.
        input_price, output_price: dollars per million tokens.
        inputs: what it takes: ``text``, ``image``, ...
        outputs: what it gives: ``text``, ``image``, ...
        owner: who has made it, in the provider's word.
    """

    name: str
    context: int | None = None
    input_price: float | None = None
    output_price: float | None = None
    inputs: tuple[str, ...] | None = None
    outputs: tuple[str, ...] | None = None
    owner: str | None = None


State: TypeAlias = Literal["waiting", "ended", "failed"]


class Handed(Struct, frozen=True, kw_only=True):
    """A batch that a provider has taken.

    Attributes:
        name: its identifier.
        state: ``waiting``; ``ended``: what came of it can be had; ``failed``: nothing will.
        done, total: requests.
        results: what to fetch, as paths or addresses.
        mark: what it was marked with; empty where the format has no place for it.
        begun: when it was begun, as the provider writes it.
        why: why it has failed.
        file: the file of its requests, where there is one.
    """

    name: str
    state: State
    done: int = 0
    total: int = 0
    results: tuple[str, ...] = ()
    mark: str = ""
    begun: str = ""
    why: str = ""
    file: str = ""


class LineResult(Struct, frozen=True):
    """What came of one request.

    Attributes:
        name: its identifier; empty where the line cannot be read.
        status: HTTP status, or 0 where it was not tried.
        body: the reply, or the error.
    """

    name: str
    status: int
    body: bytes
