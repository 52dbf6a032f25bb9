"""The request that would be sent for a label, and where each setting came from. Nothing is sent, no key is fetched."""

import json
from collections.abc import Coroutine
from typing import TYPE_CHECKING, Any, Unpack, cast, overload

import msgspec
from msgspec import Struct

from ..calls.arguments import split_tools
from ..calls.calls import Calls, calls_of
from ..config.entries import Model, Provider
from ..config.origins import DEFAULT, Origin
from ..config.secret_settings import without_places
from ..core.canonical.chat import Json
from ..core.secrets.secret import MASK, Secret, SecretText, looks_secret
from ..credentials.credential import Credential
from ..credentials.sources import GivenKey, Key, SignatureKey
from ..engine.call import request_for
from ..engine.effects import Steps
from ..engine.operations.chat import expressible
from ..engine.operations.inputs import check_inputs
from . import run

if TYPE_CHECKING:
    from ..calls.options import AskOptions, Prompt
    from ..client.async_client import AsyncClient
    from ..client.client import Client


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


@overload
def explain(client: "Client", label: str, prompt: "Prompt" = "...", **options: "Unpack[AskOptions]") -> Explained: ...
@overload
def explain(
    client: "AsyncClient", label: str, prompt: "Prompt" = "...", **options: "Unpack[AskOptions]"
) -> Coroutine[Any, Any, Explained]: ...
def explain(
    client: "Client | AsyncClient", label: str, prompt: "Prompt" = "...", **options: "Unpack[AskOptions]"
) -> Explained | Coroutine[Any, Any, Explained]:
    """Show what `Client.ask` would send, masked, and where each setting came from.

    Args:
        label: a label, or ``NAME@PROVIDER``.
        prompt: as for `Client.ask`.
        options: as for `Client.ask`.

    Raises:
        LabelUnknown: there is no such model.
        RequestError: something in the call is wrong, or the dialect cannot express it.

    Example:
        >>> import agouti
        >>> with agouti.Client({"providers": {"shed": {"address": "localhost:8080/v1"}}}) as client:
        ...     print(agouti.explain(client, "loam-2b@shed", "Peas?", temperature=0).address)
        http://localhost:8080/v1/chat/completions
    """
    return run(client, _explained(calls_of(client), label, prompt, options))


def _explained(calls: Calls, label: str, prompt: "Prompt", options: "AskOptions") -> Steps[Explained]:
    yield from ()
    call = calls.chat(label, prompt, split_tools(options)[0])
    target = call.targets[0]
    provider = target.provider
    request = expressible(request_for(call.question, target), target)
    check_inputs(request, target)
    key = provider.key
    stand_in = None if key is None or isinstance(key, SignatureKey) else Credential(Secret(MASK), "")
    http = provider.request(provider.dialect.encode_chat(request), target.model.name, stand_in)
    headers = {name: _display(name, value) for name, value in http.headers.items()}
    if isinstance(key, SignatureKey):
        headers["authorization"] = f"{MASK} (signature {key.signature}, {key.region}, {key.service})"
    options_given = cast("dict[str, Any]", options)
    settings = [
        *_settings(calls, "models", target.model, Model(""), options_given),
        *_settings(calls, "providers", provider.entry, Provider(""), {}),
    ]
    body = json.loads(provider.masker(None).mask_bytes(http.body)) if http.body else None
    return Explained(http.method, http.url, headers, body, tuple(settings))


def _display(name: str, value: str) -> str:
    if isinstance(value, SecretText):
        scheme, space, _ = value.reveal().partition(" ")
        return f"{scheme} {MASK}" if space and scheme in ("Bearer", "Basic") else MASK
    return MASK if looks_secret(name) else value


def _settings(calls: Calls, table: str, entry: Any, default: Any, options_given: dict[str, Any]) -> list[Setting]:
    settings = []
    for field in msgspec.structs.fields(type(entry)):
        value, default_value = getattr(entry, field.name), getattr(default, field.name)
        if field.name == "label" or (value == default_value and field.name not in options_given):
            continue
        for name, inner in _leaves(field.name, value):
            origin = _origin(calls, table, entry.label, name)
            settings.append(Setting(f"{table}.{entry.label}.{name}", _text(name, inner), str(origin)))
    for name, value in options_given.items():
        if name != "system" and value is not None:
            settings += [Setting(inner, _text(inner, each), "argument") for inner, each in _leaves(name, value)]
    return settings


def _leaves(name: str, value: Any) -> list[tuple[str, Any]]:
    if isinstance(value, dict) and value:
        return [(f"{name}.{inner}", each) for inner, each in value.items()]
    return [(name, value)]


def _origin(calls: Calls, table: str, label: str, name: str) -> Origin:
    origins = calls.config.origins
    if origins is None:
        return DEFAULT
    path = name.split(".", 1)
    while True:
        origin = origins.of(table, label, *path)
        parent = calls.config.models[label].extends if table == "models" and label in calls.config.models else ""
        if origin is not DEFAULT or not parent:
            return origin
        label = parent  # inherited: the entry that it is like has set it


def _text(name: str, value: Any) -> str:
    if isinstance(value, GivenKey):
        return MASK
    if isinstance(value, Key):
        return value.describe()
    value = without_places(value, lambda source: MASK if isinstance(source, GivenKey) else source.describe())
    if isinstance(value, Struct):
        fields = {name: each for name, each in msgspec.structs.asdict(value).items() if each is not None}
        return ", ".join(f"{name} = {each}" for name, each in fields.items())
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
