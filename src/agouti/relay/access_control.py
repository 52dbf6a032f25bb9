"""The door of the relay: who comes in, with which token, from which page, and how often."""

import logging
import secrets
import time
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from ipaddress import ip_address
from typing import TYPE_CHECKING, Any

from ..core.errors import ConfigError
from ..core.text.suggest import near_hint
from ..limits.local_schedule import SlidingWindow
from .access_tokens import AccessToken, TokenFile, hashed
from .error_responses import Refused

if TYPE_CHECKING:
    from ..config.entries import Config
    from ..config.tables import RelaySettings

log = logging.getLogger("agouti.relay")
_MINUTE = 60.0
_LONGEST = 300  # characters of the name of a model
# A session of the page ends after a working day.
_SESSION = 12 * 3600.0
_SESSIONS = 1000
COOKIE = "agouti_page"

NO_TOKEN = AccessToken(name="", hash="", created=0.0)
"""Who comes in where there are no tokens: a program on this machine."""


class AccessControl:
    """Lets callers in.

    Args:
        config: which models there are.
        settings: which pages may call.
        tokens: who may.

    Attributes:
        share: how many processes there are: each gives out its share of what a token may do in a minute.
    """

    def __init__(self, config: "Config", settings: "RelaySettings", tokens: TokenFile) -> None:
        self._config = config
        self._origins = frozenset(settings.origins)
        self.tokens = tokens
        self._required = settings.require_tokens
        self._most_calls = settings.calls_each
        self._most_to_provider = settings.calls_to_provider
        self._windows: dict[tuple[str, str], SlidingWindow] = {}
        self._under_way: Counter[tuple[str, str]] = Counter()
        self._warned = ""
        self.share = 1
        self._sessions: dict[str, tuple[str, float]] = {}

    def origin(self, headers: Mapping[str, str]) -> str | None:
        """The origin of the page that calls, where it is listed; `None` where no other page does.

        Raises:
            Refused: it is not listed: no page on the net may spend what is here.
        """
        origin = headers.get("origin")
        if origin is None:
            return None
        if origin in self._origins:
            return origin
        if origin.partition("://")[2] == headers.get("host", ""):
            return None  # its own page; whether TLS is before it, the relay does not know
        raise Refused(
            403, f"pages of {origin[:100]} may not call this relay: list it in [relay] origins", "origin_not_allowed"
        )

    def enter(self, scope: Mapping[str, Any], headers: Mapping[str, str], *, page: bool = False) -> AccessToken:
        """Who is calling.

        Args:
            page: a session of the page will do as well.

        Raises:
            Refused: nobody who may.
        """
        if self.problem():
            raise Refused(503, "the relay cannot read its access tokens, and lets nobody in")
        known, required = self.tokens.tokens(), self.tokens.is_required or self._required
        presented = _presented(headers)
        if not required:
            if not is_own(scope, headers):
                raise Refused(403, "without an access token the relay answers programs on its own machine alone")
            return NO_TOKEN
        token = self.tokens.of(presented) if presented else self._of_session(headers, known) if page else None
        if token is None:
            problem = "is unknown" if presented else "is missing: send Authorization: Bearer TOKEN, or x-api-key"
            raise Refused(401, f"the access token {problem}", "invalid_api_key")
        if token.expires is not None and token.expires <= time.time():
            raise Refused(401, f"the access token {token.name} has expired", "invalid_api_key")
        return token

    def goes_on(self, before: "AccessControl") -> None:
        """Another one has counted until now: the minute and the calls under way are the same."""
        self._windows, self._under_way = before._windows, before._under_way

    def problem(self) -> str:
        """Why nobody is let in; empty where all is well. What is new is in the log."""
        try:
            self.tokens.tokens()
            problem = ""
        except ConfigError as error:
            problem = f"{error.message}. {error.hint}"
        if problem != self._warned:
            self._warned = problem
            log.error("nobody is let in: %s", problem) if problem else log.info("access tokens can be read again")
        return problem

    def count(self, token: AccessToken) -> None:
        """Count a request against the limits of a token.

        Raises:
            Refused: one is reached.
        """
        for noun, limit in (("requests", token.requests_per_minute), ("tokens", token.tokens_per_minute)):
            if limit is None:
                continue
            window, now = self._window(token, noun, limit), time.monotonic()
            free = window.free_at(1, now)
            if free is None or free > now:
                wait = _MINUTE if free is None else free - now
                raise Refused(
                    429,
                    f"token {token.name} may have {limit} {noun} a minute: wait {wait:.0f} s",
                    "rate_limit_exceeded",
                    wait=wait,
                )
        if token.requests_per_minute is not None:
            self._window(token, "requests", token.requests_per_minute).add(1).counted = time.monotonic()

    def took(self, token: AccessToken, tokens: int) -> None:
        """A call of a token has taken so many tokens."""
        if token.tokens_per_minute is not None and tokens > 0:
            self._window(token, "tokens", token.tokens_per_minute).add(tokens).counted = time.monotonic()

    def _window(self, token: AccessToken, noun: str, limit: int) -> SlidingWindow:
        limit = max(1, limit // self.share)
        window = self._windows.get((token.name, noun))
        if window is None or window.limit != limit:
            window = self._windows[token.name, noun] = SlidingWindow(limit, _MINUTE)
        return window

    @contextmanager
    def under_way(self, token: AccessToken, provider: str = "") -> Iterator[None]:
        """A call of a token, or one to a provider, is under way.

        Raises:
            Refused: there are as many as there may be.
        """
        if provider:
            key, limit = ("provider", provider), self._most_to_provider
            status, message = 503, f"{limit} calls to the provider of this model are under way: try again"
        else:
            key, limit = ("token", token.name), token.calls_at_once or self._most_calls
            owner = f"token {token.name}" if token.name else "this machine"
            status, message = 429, f"{limit} calls of {owner} are under way: try again"
        if self._under_way[key] >= limit:
            raise Refused(status, message, "rate_limit_exceeded", wait=1.0)
        self._under_way[key] += 1
        try:
            yield
        finally:
            self._under_way[key] -= 1
            if not self._under_way[key]:
                del self._under_way[key]

    def label(self, token: AccessToken, label: str) -> str:
        """See that a token may ask a model.

        Raises:
            Refused: it may not, or there is none.
        """
        if len(label) > _LONGEST:
            raise Refused(400, f"the model is no label: it is {len(label)} characters long", "model_not_found")
        models = self._config.models
        known = [each for each in models if token.may_ask(each)]
        name, at, provider = label.rpartition("@")
        if token.may_ask(label):
            if label in models:
                return label
            if at and name and provider in self._config.providers:
                if {".", ".."} & set(name.split("/")):
                    raise Refused(400, f"{name!r} is no name of a model", "model_not_found")
                return label
        elif label in models or (at and token.labels is not None):
            raise Refused(403, f"token {token.name} may not ask {label[:100]}", "model_not_allowed")
        raise Refused(
            404, f"there is no model {label[:100]!r}. {near_hint(label[:100], known, 'label')}", "model_not_found"
        )

    def session(self, token: AccessToken) -> str:
        """A session of the page for whoever has shown a token: the text of its cookie."""
        now = time.monotonic()
        self._sessions = {key: each for key, each in self._sessions.items() if each[1] > now}
        while len(self._sessions) >= _SESSIONS:
            del self._sessions[next(iter(self._sessions))]
        text = secrets.token_urlsafe(24)
        self._sessions[hashed(text)] = (token.hash, now + _SESSION)
        return text

    def _of_session(self, headers: Mapping[str, str], known: tuple[AccessToken, ...]) -> AccessToken | None:
        for pair in headers.get("cookie", "").split(";"):
            name, _, value = pair.strip().partition("=")
            if name == COOKIE:
                owner, until = self._sessions.get(hashed(value), ("", 0.0))
                if until > time.monotonic():
                    return next((each for each in known if each.hash == owner), None)
        return None


def _presented(headers: Mapping[str, str]) -> str | None:
    """The token that a caller sends: as a bearer, or as some formats send a key."""
    kind, _, token = headers.get("authorization", "").partition(" ")
    if kind.lower() == "bearer" and token.strip():
        return token.strip()
    return headers.get("x-api-key", "").strip() or None


def is_own(scope: Mapping[str, Any], headers: Mapping[str, str]) -> bool:
    """Whether a program on this machine calls, by a name of this machine."""
    # What a server before the relay passes on may come from anywhere.
    if any(name in headers for name in ("x-forwarded-for", "x-real-ip", "forwarded", "via")):
        return False
    client = scope.get("client")
    if client and client[0] == "testclient":  # an application that calls itself, over no network
        return True
    return _is_here(scope) and _names_this_machine(headers.get("host", ""))


def _is_here(scope: Mapping[str, Any]) -> bool:
    """Whether a caller is on this machine."""
    client = scope.get("client")
    if not client:
        return True  # a socket of this machine's own
    try:
        address = ip_address(client[0])
    except ValueError:
        return client[0] in ("", "localhost")
    mapped = getattr(address, "ipv4_mapped", None)
    return (mapped or address).is_loopback


def _names_this_machine(host: str) -> bool:
    """Whether a caller knows this machine by a name of its own: a page that has its name point here does not.

    >>> _names_this_machine("127.0.0.1:8300"), _names_this_machine("[::1]"), _names_this_machine("far.example:8300")
    (True, True, False)
    """
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() else host
    name = name.strip("[]").lower()
    if name in ("localhost", ""):
        return True
    try:
        return ip_address(name).is_loopback
    except ValueError:
        return name.endswith(".localhost")
