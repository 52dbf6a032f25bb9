"""Tables of a configuration that stand alone, without labels: where the ledger and shared limits are kept."""

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, TypeVar
from urllib.parse import unquote, urlsplit

import msgspec
from msgspec import Struct

from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..core.secrets.secret import MASK, Secret
from ..core.settings.near_misses import OF_LIMITS
from ..core.text.suggest import near_hint
from .origins import Origins, placed

SINGLE_TABLES = ("ledger", "limits", "telemetry", "cache", "relay")
"""Tables without labels."""

POSTGRES = ("postgresql", "postgres")
REDIS = ("redis", "rediss", "unix")


class LedgerSettings(Struct, frozen=True, forbid_unknown_fields=True):
    """Where it is kept what calls have taken and cost.

    Attributes:
        store: a file of SQLite; a relative path is taken from the folder of the configuration. Or the address of a
            PostgreSQL database. That may hold a password, so neither is shown.
        keep_days: how long rows of single attempts are kept; sums of days stay. `None`: for ever.
        prompts: keep the questions as well; they may hold what is private.
    """

    store: Secret
    keep_days: int | None = None
    prompts: bool = False

    def __post_init__(self) -> None:
        store: object = self.store
        if isinstance(store, str):  # made in code
            msgspec.structs.force_setattr(self, "store", Secret(store))

    @property
    def path(self) -> Path | None:
        """The file of SQLite, where it is one."""
        store = self.store.reveal()
        return None if "://" in store else Path(store)


class LimitStore(Struct, frozen=True, forbid_unknown_fields=True):
    """Where limits are kept that several programs or machines share.

    Attributes:
        store: the address of a Redis server, which may hold a password; or a file of SQLite, for the programs of one
            machine: ``limits.sqlite``.
        lost: what to do while it is out of reach: ``local``: every program keeps the limits for itself; ``fail``: calls
            are refused.
    """

    store: Secret
    lost: Literal["local", "fail"] = "local"

    @property
    def path(self) -> Path | None:
        """The file of SQLite, where it is one."""
        store = self.store.reveal()
        return Path(store) if "://" not in store and store.endswith((".sqlite", ".sqlite3", ".db")) else None


class CacheSettings(Struct, frozen=True, forbid_unknown_fields=True):
    """Where answers are kept, so that equal questions are answered from there.

    Attributes:
        store: a file of SQLite; a relative path is taken from the folder of the configuration.
        keep_days: an older answer is asked again; `None`: however old.
        max_megabytes: once all answers are larger than that, the oldest go.
        always: whatever the temperature; otherwise only where it is 0, or a call says ``cache=True``.
    """

    store: str
    keep_days: float | None = 30.0
    max_megabytes: int = 500
    always: bool = False

    @property
    def path(self) -> Path:
        """The file."""
        return Path(self.store)


class TelemetrySettings(Struct, frozen=True, forbid_unknown_fields=True):
    """What is told to OpenTelemetry.

    Attributes:
        content: what is asked and answered, too; it may hold what is private.
    """

    content: bool = False


class RelaySettings(Struct, frozen=True, forbid_unknown_fields=True):
    """How ``agouti relay`` and `agouti.relay.app` serve the models of the configuration.

    Attributes:
        tokens: the file with the hashes of access tokens; a relative path is taken from the folder of the
            configuration.
        origins: of web pages that may call it from a browser, such as ``["http://localhost:5173"]``; none otherwise.
        max_megabytes: a larger request is refused.
        read_seconds: how long a caller may take to send a request.
        write_seconds: how long a piece of an answer may wait until a caller takes it; then the provider is told to end.
        deadline: seconds that a whole call may take; that of the model's entry where not given.
        require_tokens: nobody is answered without an access token, also while there is none yet.
        connections: how many may be open in all.
        connections_each: how many may be open from one address.
        calls_each: how many calls of one token may be under way; a token may have a number of its own.
        calls_to_provider: how many calls may be under way to one provider.
        max_values: a request with more objects and lists in it is refused.
        quiet_seconds: after so long without a word of the provider, a stream begins, and comments keep it alive.
        drain_seconds: how long calls under way may take to end once the relay is told to stop.
        log: ``text``, ``json`` or ``off``.
        log_file: where to; standard error where not given.
        workers: processes that serve the same address; they share limits and budgets through ``[limits]`` and
            ``[ledger]``.
    """

    tokens: str = "relay-tokens.json"
    origins: tuple[str, ...] = ()
    max_megabytes: float = 32
    read_seconds: float = 30.0
    write_seconds: float = 30.0
    deadline: float | None = None
    require_tokens: bool = False
    connections: int = 4000
    connections_each: int = 1000
    calls_each: int = 200
    calls_to_provider: int = 250
    max_values: int = 200_000
    quiet_seconds: float = 10.0
    drain_seconds: float = 10.0
    log: Literal["text", "json", "off"] = "text"
    log_file: str = ""
    workers: int = 1

    def __post_init__(self) -> None:
        for name in ("max_megabytes", "read_seconds", "write_seconds", "deadline", "quiet_seconds", "drain_seconds"):
            value = getattr(self, name)
            if value is not None and not 0 < value < float("inf"):
                raise ValueError(f"{name} = {value} is out of range")
        for name in ("connections", "connections_each", "calls_each", "calls_to_provider", "max_values", "workers"):
            if getattr(self, name) < 1:
                raise ValueError(f"{name} = {getattr(self, name)} is out of range: it counts from 1")
        msgspec.structs.force_setattr(self, "origins", tuple(map(_origin, self.origins)))


def _origin(text: str) -> str:
    """An origin as browsers send it.

    >>> _origin("HTTP://Localhost:5173/"), _origin("https://club.example:443")
    ('http://localhost:5173', 'https://club.example')
    """
    try:
        parts = urlsplit(text.strip())
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port, parts = None, None, urlsplit("")
    if parts.scheme not in ("http", "https") or not host or parts.path not in ("", "/") or parts.query:
        raise ValueError(f'origins: {text!r} is no origin: write scheme and host, such as "http://localhost:5173"')
    host = f"[{host}]" if ":" in host else host
    default_port = {"http": 80, "https": 443}[parts.scheme]
    return f"{parts.scheme}://{host}" + (f":{port}" if port not in (None, default_port) else "")


# Words of addresses that may be told.
_HARMLESS_PARTS = frozenset(
    {"host", "port", "user", "password", "dbname", "options", "sslmode", "db", "postgres", "agouti"}
)

_S = TypeVar("_S", LedgerSettings, LimitStore)
_EXAMPLES = {"ledger": 'store = "usage.sqlite"', "limits": 'store = "redis://127.0.0.1:6379/0"'}


def ledger_of(merged: dict[str, Json], origins: Origins, variables: Mapping[str, str]) -> LedgerSettings | None:
    """The ledger's settings; `None` where there is no such table.

    Raises:
        ConfigError: they cannot be used.
    """
    settings = _table("ledger", LedgerSettings, POSTGRES, merged, origins, variables)
    if settings is None:
        return None
    if settings.keep_days is not None and settings.keep_days < 1:
        raise placed(
            ConfigError(f"[ledger] keep_days = {settings.keep_days} is out of range", hint="It counts days, from 1."),
            origins.of("ledger", "keep_days"),
        )
    if settings.path is None:
        return settings
    origin = origins.of("ledger", "store")
    folder = Path(origin.name).absolute().parent if origin.kind == "file" else Path.cwd()
    return msgspec.structs.replace(settings, store=Secret(str(folder / settings.path.expanduser())))


def limit_store_of(merged: dict[str, Json], origins: Origins, variables: Mapping[str, str]) -> LimitStore | None:
    """Where limits are shared; `None` where there is no such table.

    Raises:
        ConfigError: it cannot be used.
    """
    settings = _table("limits", LimitStore, REDIS, merged, origins, variables)
    if settings is None or "://" in settings.store.reveal():
        return settings
    if settings.path is None:
        raise _no_store("limits", settings.store.reveal().rpartition("@")[2], origins)
    origin = origins.of("limits", "store")
    folder = Path(origin.name).absolute().parent if origin.kind == "file" else Path.cwd()
    return msgspec.structs.replace(settings, store=Secret(str(folder / settings.path.expanduser())))


def telemetry_of(merged: dict[str, Json], origins: Origins) -> TelemetrySettings | None:
    """What is told to OpenTelemetry; `None` where there is no such table.

    Raises:
        ConfigError: it cannot be used.
    """
    values: Any = merged.get("telemetry")
    if values is None:
        return None
    try:
        return msgspec.convert(values, TelemetrySettings)
    except msgspec.ValidationError as error:
        raise placed(
            ConfigError(
                f"[telemetry] is wrong: {str(error).replace('`', '')}",
                hint="Write [telemetry], and content = true below it only where prompts may be told.",
            ),
            origins.of("telemetry"),
        ) from None


def cache_of(merged: dict[str, Json], origins: Origins) -> CacheSettings | None:
    """Where answers are kept; `None` where there is no such table.

    Raises:
        ConfigError: it cannot be used.
    """
    values: Any = merged.get("cache")
    if values is None:
        return None
    _check_names("cache", values, CacheSettings, origins)
    try:
        settings = msgspec.convert(values, CacheSettings)
        for name in ("keep_days", "max_megabytes"):
            value = getattr(settings, name)
            if value is not None and not 0 < value < float("inf"):
                raise msgspec.ValidationError(f"{name} = {value} is out of range")
        if not settings.store.strip() or "://" in settings.store:
            raise msgspec.ValidationError(f"store = {settings.store!r} is no file")
    except msgspec.ValidationError as error:
        raise placed(
            ConfigError(f"[cache] is wrong: {str(error).replace('`', '')}", hint='Write store = "answers.sqlite".'),
            origins.of("cache"),
        ) from None
    origin = origins.of("cache", "store")
    folder = Path(origin.name).absolute().parent if origin.kind == "file" else Path.cwd()
    return msgspec.structs.replace(settings, store=str(folder / settings.path.expanduser()))


def relay_of(merged: dict[str, Json], origins: Origins, files: Sequence[str]) -> RelaySettings:
    """How models are served to others; the usual where there is no such table.

    Args:
        files: of the configuration, the nearest one last.

    Raises:
        ConfigError: it cannot be used.
    """
    values: Any = merged.get("relay") or {}
    _check_names("relay", values, RelaySettings, origins)
    try:
        settings = msgspec.convert(values, RelaySettings)
    except msgspec.ValidationError as error:
        raise placed(
            ConfigError(
                f"[relay] is wrong: {str(error).replace('`', '')}",
                hint='Write origins = ["http://localhost:5173"], max_megabytes = 32 and the like below [relay].',
            ),
            origins.of("relay"),
        ) from None
    origin = origins.of("relay", "tokens")
    nearest = origin.name if origin.kind == "file" else files[-1] if files else ""
    folder = Path(nearest).absolute().parent if nearest else Path.cwd()
    return msgspec.structs.replace(settings, tokens=str(folder / Path(settings.tokens).expanduser()))


def _check_names(table: str, values: Any, kind: type[Struct], origins: Origins) -> None:
    """See that a table has no key that there is not."""
    names = kind.__struct_fields__
    for name in values if isinstance(values, dict) else ():
        if name not in names:
            raise placed(
                ConfigError(
                    f"unknown key {name!r} in [{table}]",
                    hint=near_hint(name, names, "key", OF_LIMITS if table == "limits" else None),
                ),
                origins.of(table, name),
            )


def _table(
    table: str,
    kind: type[_S],
    schemes: tuple[str, ...],
    merged: dict[str, Json],
    origins: Origins,
    variables: Mapping[str, str],
) -> _S | None:
    values: Any = merged.get(table)
    if values is None:
        return None
    origin, example = origins.of(table), _EXAMPLES[table]
    if not isinstance(values, dict):
        raise placed(ConfigError(f"{table} is not a table", hint=f"Write [{table}] and {example} below it."), origin)
    _check_names(table, values, kind, origins)
    store = values.get("store")
    text = _store_error(table, store, origins, variables)
    try:
        settings = msgspec.convert({**values, "store": "" if text is None else text}, kind, dec_hook=_secret)
        if text is None:
            raise msgspec.ValidationError(
                "store is missing" if store is None else f"store takes a text, not {type(store).__name__}"
            )
    except msgspec.ValidationError as error:
        raise placed(
            ConfigError(f"[{table}] is wrong: {str(error).replace('`', '')}", hint=f"Write {example}."), origin
        ) from None
    scheme, mark, _ = text.partition("://")
    if not text.strip() or (mark and scheme.lower() not in schemes):
        raise _no_store(table, f"{scheme}://..." if mark else text, origins)
    return settings


def _secret(kind: type, value: Any) -> Any:
    return Secret(value)


def _store_error(table: str, store: Any, origins: Origins, variables: Mapping[str, str]) -> str | None:
    """The store as it is written, or as the variable says that it names; `None`: it is neither."""
    if not isinstance(store, dict):
        return store if isinstance(store, str) else None
    name = store.get("env")
    if list(store) != ["env"] or not isinstance(name, str):
        return None
    if not (text := variables.get(name, "")):
        raise placed(
            ConfigError(
                f"[{table}] store is in the variable {name}, and there is none",
                hint=f"Set {name}, in the environment or in .env beside the configuration.",
            ),
            origins.of(table, "store"),
        )
    return text


def _no_store(table: str, message: str, origins: Origins) -> ConfigError:
    return placed(
        ConfigError(
            f"[{table}] store = {message!r} is no store",
            hint=(
                'Write a file, store = "usage.sqlite", or a database, "postgresql://USER@HOST/NAME".'
                if table == "ledger"
                else 'Write a file, store = "limits.sqlite", or the address of a Redis server, "redis://127.0.0.1:6379/0".'
            ),
        ),
        origins.of(table, "store"),
    )


def shown_store(store: Secret) -> str:
    """A store as it may be shown: without user and password.

    >>> shown_store(Secret("redis://:pw@club.example:6379/0?protocol=3"))
    'redis://club.example:6379/0'
    """
    scheme, mark, remainder = store.reveal().partition("://")
    if not mark:
        return scheme
    return f"{scheme}://{remainder.partition('?')[0].rpartition('@')[2]}"


def has_password(store: Secret) -> bool:
    """Whether a store is an address with a password in it.

    >>> has_password(Secret("redis://:pw@club.example")), has_password(Secret("postgresql://club@db.example/usage"))
    (True, False)
    """
    user, at, remainder = store.reveal().partition("://")[2].rpartition("@")
    return bool(at and user.partition(":")[2]) or "password=" in remainder.partition("?")[2]


def redact_store(store: Secret, error: Exception) -> str:
    """What an error says of a store, in one line; of what stands before the host, and behind a question mark, nothing.

    >>> redact_store(Secret("redis://:pw/51c2@club.example"), ValueError("no port: 'pw'"))
    "no port: '***'"
    """
    message = " ".join(str(error).split())[:300]
    user, at, remainder = store.reveal().partition("://")[2].rpartition("@")
    query = remainder.partition("?")[2]
    secret_parts = {user, *re.split("[:/]", user), *re.split("[=&]", query)} if at or query else set()
    for secret_part in sorted(secret_parts, key=len, reverse=True):
        if len(secret_part) > 1 and secret_part not in _HARMLESS_PARTS:
            message = message.replace(secret_part, MASK).replace(unquote(secret_part), MASK)
    return message
