"""Access tokens of the relay: made once, shown once, kept as hashes; each with what it may do."""

import hashlib
import hmac
import json
import os
import secrets
import time
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import force_setattr

from ..config.budgets import Budget
from ..core.errors import ConfigError
from ..core.text.suggest import near_hint
from ..runtime.atomic_files import alone_in, write_whole

# No clock gets so far: the year 2500.
_MAX_TIME = 16.7e9
# What a token begins with: somebody who finds one in a log knows what it opens.
_PREFIX = "agouti-"


class AccessToken(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Who may call the relay, and what with.

    Attributes:
        name: who has it; ``usage --by tag:token`` tells what it has spent.
        hash: of the token, SHA-256 in hexadecimal: it is long and made by chance, so that nobody can guess it.
        created: seconds since the epoch.
        labels: the models that it may ask; every one where not given.
        requests_per_minute: never more in any minute.
        budget, currency, per: what it may spend in a ``day``, a ``week`` or a ``month``.
        expires: seconds since the epoch; never where not given.
        sees_all: it sees the calls of all tokens, on the page and in the metrics; any other sees its own alone.
        tokens_per_minute: once so many tokens of prompts and answers went through it in a minute, the next call waits.
        calls_at_once: how many of its calls may be under way; as the relay's settings say where not given.
    """

    name: str
    hash: str
    created: float
    labels: tuple[str, ...] | None = None
    requests_per_minute: int | None = None
    budget: float | None = None
    currency: str = "USD"
    per: str = "month"
    expires: float | None = None
    sees_all: bool = False
    tokens_per_minute: int | None = None
    calls_at_once: int | None = None

    def __post_init__(self) -> None:
        force_setattr(self, "currency", self.currency.strip().upper())  # one spelling, as prices have it

    @property
    def as_budget(self) -> Budget | None:
        """Its budget, as the configuration would say it."""
        if self.budget is None:
            return None
        return msgspec.convert(
            {
                "label": f"of token {self.name}",
                "amount": self.budget,
                "currency": self.currency,
                "per": self.per,
                "tags": {"token": self.name},
            },
            Budget,
        )

    def may_ask(self, label: str) -> bool:
        """Whether it may ask a model."""
        return self.labels is None or label in self.labels


def hashed(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).hexdigest()


class TokenFile:
    """The file of access tokens; read again when it has changed.

    Args:
        path: where it is; none is there before the first token.
    """

    def __init__(self, path: Path, clock: Callable[[], float] = time.monotonic) -> None:
        self.path = path
        self._clock = clock
        self._checked_at = -1e9
        self._signature: tuple[int, int, int] | None = None
        self._tokens: tuple[AccessToken, ...] = ()

    @property
    def is_required(self) -> bool:
        """Whether a token is wanted: once there was one, the door does not open because the last one was removed."""
        self.tokens()
        return self._signature is not None

    def tokens(self) -> tuple[AccessToken, ...]:
        """All tokens, as the file has them now; looked at once a second at most.

        Raises:
            ConfigError: it cannot be read: nobody is let in then.
        """
        now = self._clock()
        if now - self._checked_at < 1.0:
            return self._tokens
        try:
            facts = self.path.stat()
            if facts.st_mode & 0o022 and os.name == "posix":
                raise ConfigError(
                    f"the file of access tokens can be written by others: {self.path}",
                    hint=f"They could let themselves in: chmod 600 {self.path}",
                )
            signature = (facts.st_mtime_ns, facts.st_size, facts.st_ino)
        except FileNotFoundError:
            if self._signature is not None:
                raise ConfigError(
                    f"the file of access tokens is gone: {self.path}",
                    hint="Put it back, or start the relay again.",
                ) from None
            self._checked_at = now
            return ()
        except OSError as error:
            raise _unreadable(self.path, error.strerror or str(error)) from None
        if signature != self._signature:
            self._tokens = _read(self.path)
            self._signature = signature
        self._checked_at = now
        return self._tokens

    def of(self, token: str) -> AccessToken | None:
        """Whose token it is; every one is compared to its end, so that the time tells nothing."""
        digest, found = hashed(token), None
        for each in self.tokens():
            if hmac.compare_digest(each.hash, digest):
                found = each
        return found

    def add(self, token: AccessToken) -> None:
        """Keep a token.

        Raises:
            ConfigError: there is one of that name, or the file cannot be written.
        """
        self._change(lambda tokens: [*_without(tokens, token.name, must_exist=False), token])

    def remove(self, name: str) -> None:
        """Forget a token; a relay that runs lets it in no more within a second.

        Raises:
            ConfigError: there is none of that name, or the file cannot be written.
        """
        self._change(lambda tokens: _without(tokens, name, must_exist=True))

    def rotate(self, name: str) -> str:
        """A new secret for a token, everything else as it was; the old one opens nothing from now on.

        Raises:
            ConfigError: there is none of that name, or the file cannot be written.
        """
        text = _PREFIX + secrets.token_urlsafe(32)

        def change(tokens: tuple[AccessToken, ...]) -> list[AccessToken]:
            _without(tokens, name, must_exist=True)
            fresh = {"hash": hashed(text), "created": time.time()}
            return [msgspec.structs.replace(each, **fresh) if each.name == name else each for each in tokens]

        self._change(change)
        return text

    def _change(self, change: Callable[[tuple[AccessToken, ...]], list[AccessToken]]) -> None:
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with alone_in(self.path.parent):
                tokens = change(_read(self.path) if self.path.exists() else ())
                stored = [msgspec.to_builtins(each) for each in tokens]
                write_whole(self.path, json.dumps({"tokens": stored}, indent=1) + "\n", mode=0o600)
        except OSError as error:
            raise ConfigError(
                f"the file of access tokens cannot be written: {self.path} ({error.strerror or error})",
                hint="Make room or give yourself the right to write there; nothing has changed.",
            ) from None
        self._checked_at = -1e9


def new_token(
    name: str,
    *,
    labels: Iterable[str] | None = None,
    requests_per_minute: int | None = None,
    budget: float | None = None,
    currency: str = "USD",
    per: str = "month",
    expires: float | None = None,
    sees_all: bool = False,
    tokens_per_minute: int | None = None,
    calls_at_once: int | None = None,
) -> tuple[str, AccessToken]:
    """A new token: the text that is shown once, and what is kept of it.

    Raises:
        ConfigError: the name is none, or something is out of range.
    """
    if not name.strip() or not name.isprintable() or len(name) > 100:
        raise ConfigError(f"{name!r} is no name for a token", hint="Take a word for whoever will have it.")
    text = _PREFIX + secrets.token_urlsafe(32)
    token = AccessToken(
        name=name,
        hash=hashed(text),
        created=time.time(),
        labels=None if labels is None else tuple(labels),
        requests_per_minute=requests_per_minute,
        budget=budget,
        currency=currency,
        per=per,
        expires=expires,
        sees_all=sees_all,
        tokens_per_minute=tokens_per_minute,
        calls_at_once=calls_at_once,
    )
    _checked(token)
    return text, token


def _checked(token: AccessToken) -> AccessToken:
    for field in ("requests_per_minute", "tokens_per_minute", "calls_at_once"):
        value = getattr(token, field)
        if value is not None and value < 1:
            raise ConfigError(f"{field} = {value} is out of range", hint="It takes a whole number from 1.")
    if token.labels is not None and not token.labels:
        raise ConfigError(f"token {token.name} may ask no model", hint="Name some, or leave labels out for all.")
    if token.expires is not None and not abs(token.expires) < _MAX_TIME:
        raise ConfigError(f"expires = {token.expires} is no time", hint="Write a day of this century.")
    if token.per not in ("day", "week", "month"):
        raise ConfigError(f"per = {token.per!r} is out of range", hint="Take day, week or month.")
    try:
        _ = token.as_budget
    except (ConfigError, msgspec.ValidationError) as error:
        raise ConfigError(f"the budget of token {token.name}: {error}", hint="Give an amount above 0.") from None
    return token


def _without(tokens: Iterable[AccessToken], name: str, *, must_exist: bool) -> list[AccessToken]:
    names = [each.name for each in tokens]
    if (name in names) is not must_exist:
        if must_exist:
            raise ConfigError(f"there is no token {name!r}", hint=near_hint(name, names, "token"))
        raise ConfigError(f"there is a token {name!r} already", hint="Take another name, or remove that one first.")
    return [each for each in tokens if each.name != name]


class _File(Struct, forbid_unknown_fields=True):
    tokens: list[AccessToken]


def _read(path: Path) -> tuple[AccessToken, ...]:
    try:
        tokens = msgspec.json.decode(path.read_bytes(), type=_File).tokens
        return tuple([_checked(each) for each in tokens])
    except OSError as error:
        raise _unreadable(path, error.strerror or str(error)) from None
    except (ValueError, RecursionError, ConfigError) as error:
        raise _unreadable(path, str(error).replace("`", "")) from None


def _unreadable(path: Path, reason: str) -> ConfigError:
    return ConfigError(
        f"the file of access tokens cannot be read: {path} ({reason})",
        hint="Put it right, or move it away and make new tokens: agouti relay token NAME",
    )


TAG = "token"
"""The tag under which calls of a token stand in the ledger."""
