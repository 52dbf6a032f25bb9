"""Services: functions of the package that take a client and own one job each.

With a `Client` they return their result; with an `AsyncClient` they are awaited.
"""

from collections.abc import Coroutine
from typing import TYPE_CHECKING, Any, TypeVar, overload

if TYPE_CHECKING:
    from ..client.async_client import AsyncClient
    from ..client.client import Client
    from ..engine.effects import Steps

T = TypeVar("T")


@overload
def run(client: "Client", steps: "Steps[T]") -> T: ...
@overload
def run(client: "AsyncClient", steps: "Steps[T]") -> Coroutine[Any, Any, T]: ...
@overload
def run(client: "Client | AsyncClient", steps: "Steps[T]") -> T | Coroutine[Any, Any, T]: ...
def run(client: "Client | AsyncClient", steps: "Steps[T]") -> T | Coroutine[Any, Any, T]:
    """Take the steps of a service to their end, as the client does it."""
    return client._run(steps)
