"""The request that would be sent for a label, and where each setting came from. Nothing is sent, no key is fetched."""

import json
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from .config.entries import Model, Provider
from .config.origins import DEFAULT, Origin
from .core.chat import Json
from .core.secret import MASK, Secret, SecretText, looks_secret
from .credentials.credential import Credential
from .credentials.sources import GivenKey, Key, SignatureKey

if TYPE_CHECKING:
    from .client import Client


class Setting(Struct, frozen=True):
    """One setting: its value as it can be shown, and where it came from."""

    name: str
    value: str
    origin: str


class Explained(Struct, frozen=True):
    """A request that would be sent, masked."""

    method: str
    address: str
    headers: dict[str, str]
    body: Json
    settings: tuple[Setting, ...]


def explain(client: "Client", label: str, prompt: str = "...", **options: Any) -> Explained:
    """What `client.ask` would send.

    Raises:
        LabelUnknown: there is no such model.
        RequestError: a parameter is wrong.

    >>> import agouti
    >>> client = agouti.Client({"providers": {"shed": {"address": "localhost:8080/v1"}}})
    >>> explain(client, "loam-2b@shed", "Peas?", temperature=0).address
    'http://localhost:8080/v1/chat/completions'
    """
    call = client.prepare(label, prompt, **options)
    target = call.targets[0]
    endpoint = target.endpoint
    key = endpoint.key
    stand_in = None if key is None or isinstance(key, SignatureKey) else Credential(Secret(MASK), "")
    request = endpoint.request(endpoint.dialect.encode_chat(call.build(target)), target.model.name, stand_in)
    headers = {name: _shown(name, value) for name, value in request.headers.items()}
    if isinstance(key, SignatureKey):
        headers["authorization"] = f"{MASK} (signature {key.signature}, {key.region}, {key.service})"
    query = request.secret_query
    address = (
        request.url if query is None else f"{request.url}{'&' if '?' in request.url else '?'}{_masked_query(query)}"
    )
    settings = [
        *_settings(client, "models", target.model, Model(""), options),
        *_settings(client, "providers", endpoint.provider, Provider(""), {}),
    ]
    body = json.loads(request.body) if request.body else None
    return Explained(request.method, address, headers, body, tuple(settings))


def _masked_query(query: SecretText) -> str:
    return f"{query.reveal().partition('=')[0]}={MASK}"


def _shown(name: str, value: str) -> str:
    if isinstance(value, SecretText):
        way, space, _ = value.reveal().partition(" ")
        return f"{way} {MASK}" if space and way in ("Bearer", "Basic") else MASK
    return MASK if looks_secret(name) else value


def _settings(client: "Client", table: str, entry: Any, default: Any, given: dict[str, Any]) -> list[Setting]:
    found = []
    for field in msgspec.structs.fields(type(entry)):
        value, usual = getattr(entry, field.name), getattr(default, field.name)
        if field.name == "label" or (value == usual and field.name not in given):
            continue
        for name, inner in _leaves(field.name, value):
            origin = _origin(client, table, entry.label, name)
            found.append(Setting(f"{table}.{entry.label}.{name}", _text(name, inner), str(origin)))
    for name, value in given.items():
        if name != "system":
            found.append(Setting(name, _text(name, value), "argument"))
    return found


def _leaves(name: str, value: Any) -> list[tuple[str, Any]]:
    if isinstance(value, dict) and value:
        return [(f"{name}.{inner}", each) for inner, each in value.items()]
    return [(name, value)]


def _origin(client: "Client", table: str, label: str, name: str) -> Origin:
    origins = client.config.origins
    if origins is None:
        return DEFAULT
    path = name.split(".", 1)
    while True:
        origin = origins.of(table, label, *path)
        like = client.config.models[label].like if table == "models" and label in client.config.models else ""
        if origin is not DEFAULT or not like:
            return origin
        label = like  # inherited: the entry that it is like has set it


def _text(name: str, value: Any) -> str:
    if isinstance(value, GivenKey):
        return MASK
    if isinstance(value, Key):
        return value.places()
    if name == "address":
        return str(value).partition("?")[0]
    if looks_secret(name.rpartition(".")[2]) and name.startswith(("headers", "query")):
        return MASK
    if isinstance(value, Struct):
        told = {name: each for name, each in msgspec.structs.asdict(value).items() if each is not None}
        return ", ".join(f"{name} = {each}" for name, each in told.items())
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
