"""A model entry made ready for calls: everything about a request that is the same every time, done once."""

from collections.abc import Callable
from typing import Any

from ..config.entries import Config, Model, Provider
from ..core import address as addresses
from ..core.chat import Message
from ..core.http import HttpRequest, Timeouts
from ..core.secret import SecretText
from ..credentials.fetch import Credential
from ..dialects.base import Dialect, Outgoing
from ..dialects.registry import dialect

USER_AGENT = "agouti"


class Endpoint:
    """A provider made ready, shared by all its models."""

    def __init__(self, provider: Provider) -> None:
        address = addresses.parse(provider.address)
        self.provider = provider
        self.base = address.base
        self.dialect: Dialect = dialect(provider.dialect or address.dialect or "chat")
        self.timeouts = Timeouts()
        self.credential: Credential | None = None
        self._headers: dict[str, dict[str, str]] = {}

    def request(self, outgoing: Outgoing) -> HttpRequest:
        """The request as it is sent, key and all."""
        headers = self._headers.get(outgoing.accept)
        if headers is None:
            headers = self._headers[outgoing.accept] = self._new_headers(outgoing)
        return HttpRequest(outgoing.method, self.base + outgoing.path, headers, outgoing.body)

    def use(self, credential: Credential) -> None:
        """Send this key from now on."""
        self.credential = credential
        self._headers = {}

    def _new_headers(self, outgoing: Outgoing) -> dict[str, str]:
        headers = {"user-agent": USER_AGENT, "accept-encoding": "identity"}
        if outgoing.body is not None:
            headers["content-type"] = "application/json"
        if outgoing.accept:
            headers["accept"] = outgoing.accept
        headers.update(self.provider.headers)
        if self.credential is not None:
            headers["authorization"] = SecretText(f"Bearer {self.credential.secret.reveal()}")
        return headers


class Target:
    """A model entry made ready."""

    def __init__(self, model: Model, endpoint: Endpoint) -> None:
        self.model = model
        self.endpoint = endpoint
        self.before: list[Message | dict[str, Any]] = [Message("system", model.system)] if model.system else []


class Targets:
    """The targets of a configuration, made when first asked for."""

    def __init__(self, config: Config) -> None:
        self.config = config
        self._targets: dict[str, Target] = {}
        self._endpoints: dict[str, Endpoint] = {}

    def of(self, label: str) -> Target:
        """The target of a label.

        Raises:
            LabelUnknown: there is no such model.
        """
        target = self._targets.get(label)
        if target is None:
            model = self.config.model(label)
            target = self._targets[label] = Target(model, self._endpoint(model.provider))
        return target

    def _endpoint(self, label: str) -> Endpoint:
        # setdefault: two threads that come first together must share one endpoint, and so its key.
        return self._endpoints.get(label) or self._endpoints.setdefault(label, Endpoint(self.config.provider(label)))


Clock = Callable[[], float]
