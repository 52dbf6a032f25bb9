"""What the endpoints of a relay see of it."""

from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from ..client.async_client import AsyncClient
    from ..config.entries import Config
    from .access_control import AccessControl
    from .access_tokens import AccessToken
    from .http_exchange import Exchange
    from .recent_calls import CallsSeen


class RelayState(Protocol):
    """A relay: see `Relay`.

    Attributes:
        exact: endpoints by method and path.
    """

    config: "Config"
    access_control: "AccessControl"
    recent_calls: "CallsSeen"
    active: "set[Exchange]"
    stopping: bool
    exact: dict[tuple[str, str], Any]
    routes: list[Any]

    @property
    def client(self) -> "AsyncClient":
        """Asks the models."""

    def sees_all(self, token: "AccessToken") -> bool:
        """Whether a token may see the calls of all."""

    def refused(self, to: "Exchange", seconds: float) -> None:
        """Write down a request that has reached no operation."""
