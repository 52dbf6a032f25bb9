"""Which configuration entries a pasted command amounts to."""

import json
import re
import shlex
from typing import Any

from msgspec import Struct

from ..config.write import NewEntry
from ..core.address import Address, host_of, is_local
from ..core.chat import Json, Message, Request
from ..core.json_pointer import MISSING, take
from ..core.parameters import NAMES, PARAMETERS
from ..core.secret import Secret, looks_secret
from ..core.vectors import VectorsRequest
from ..dialects.base import Dialect, EntryOptions, Field
from ..dialects.registry import DEFAULT, dialect, parse_address
from .curl import Pasted

# Headers that every request has anyway.
_USUAL = frozenset({"content-type", "accept", "user-agent", "content-length", "accept-encoding", "connection", "host"})
_KEY_HEADERS = frozenset({"authorization", "x-api-key", "api-key"})
# Decided for each call, not by an entry.
_NOT_SETTINGS = frozenset({"tools", "tool_choice", "response_format"})
_VARIABLE = re.compile(r"\$env:(?P<a>\w+)|\$\{?(?P<b>\w+)\}?|%(?P<c>\w+)%")
_COMMAND = re.compile(r"\$\((.+)\)|`(.+)`")
_PLACEHOLDER = re.compile(
    r"^(<.*>|\[.*\]|\{.*\}|.*\.\.\.|[xX*]{4,}|\W*(your|my|insert|replace|paste)[\s_-].*|.*(_here|-here|api_key|api-key|YOUR_?KEY))$",
    re.IGNORECASE,
)
_COMMON_HOST_WORDS = frozenset({"api", "www", "inference", "gateway", "models", "ai", "llm", "chat", "v1", "eu", "us"})


class Adopted(Struct, frozen=True):
    """What a pasted command amounts to.

    Attributes:
        provider_label, provider: label and values of the provider's entry.
        model_label, model: the same of the model's entry; empty where no model is named.
        secrets: literal keys that were found, by the variable that is to hold them.
        notes: what was not taken over, or wants a look.
    """

    provider_label: str
    provider: dict[str, Json]
    model_label: str
    model: dict[str, Json]
    secrets: dict[str, Secret]
    notes: list[str]

    @property
    def entries(self) -> list[NewEntry]:
        """The entries that are to be written."""
        entries = [NewEntry("providers", self.provider_label, self.provider)]
        if self.model_label:
            entries.append(NewEntry("models", self.model_label, self.model))
        return entries


def adopt(pasted: Pasted, *, provider_label: str = "", model_label: str = "") -> Adopted:
    """The entries that a pasted command amounts to.

    Args:
        provider_label, model_label: your own names; made from host and model where not given.

    Raises:
        ConfigError: its address is none.
    """
    return _Adoption(pasted, provider_label, model_label).result()


class _Adoption:
    def __init__(self, pasted: Pasted, provider_label: str, model_label: str) -> None:
        self._pasted = pasted
        self._model_label = model_label
        variables = _VARIABLE.sub(lambda variable_match: "{" + _name(variable_match).lower() + "}", pasted.address)
        self._address: Address = parse_address(variables)
        self._dialect = _dialect(self._address)
        self._label = provider_label or _label_of(self._address.base)
        self._variable = re.sub(r"\W", "_", self._label).upper() + "_KEY"
        self._provider: dict[str, Json] = {"address": self._address.base}
        self._secrets: dict[str, Secret] = {}
        self._notes: list[str] = []

    def result(self) -> Adopted:
        address = self._address
        if address.dialect and address.dialect != DEFAULT:
            self._provider["dialect"] = address.dialect
        if address.path:
            self._provider["paths"] = {address.operation: address.path}
        if address.query:
            self._provider["query"] = dict(address.query)
        for name in re.findall(r"\{(\w+)\}", address.base):
            self._notes.append(f'{{{name}}} in the address wants a value: values = {{ {name} = "..." }}')
        self._key()
        self._headers()
        if self._pasted.insecure:
            self._notes.append("-k was left out: point SSL_CERT_FILE at the certificate of the server's own CA instead")
        model = self._model()
        name = model.get("name", "")
        label = self._model_label or (_slug(name) if name else self._label) if model else ""
        if not name:
            self._notes.append("no model is named in it: agouti check shows what the provider offers")
            if model:
                model["name"] = label
                self._notes.append(f"{label} stands for its name: correct it where the provider has several models")
        return Adopted(self._label, self._provider, label, model, self._secrets, self._notes)

    def _key(self) -> None:
        pasted, address = self._pasted, self._address
        headers = {name.lower(): value for name, value in pasted.headers.items()}
        if pasted.signature:
            self._signed(pasted)
        elif address.key_name is not None and address.key is not None:
            raw = _VARIABLE.search(pasted.address)
            self._place(raw[0] if raw and raw[0] in pasted.address.partition("?")[2] else address.key)
            self._provider["send_key"] = f"query:{address.key_name}"
        elif (sent := headers.get("authorization")) is not None:
            way, _, value = sent.partition(" ")
            if way.lower() == "bearer":
                self._place(value.strip())
            else:
                self._place(sent)
                self._provider["send_key"] = "header:authorization"
        elif pasted.user:
            self._place(pasted.user)
            self._provider["send_key"] = "basic"
        else:
            name = next((name for name in headers if name in _KEY_HEADERS), None) or next(
                (name for name in headers if name not in _USUAL and looks_secret(name)), None
            )
            if name is not None:
                self._place(headers[name])
                self._provider["send_key"] = f"header:{name}"

    def _place(self, value: str) -> None:
        """Say where the key lives; a literal one is to be moved there."""
        printed = _COMMAND.search(value)
        if printed:
            self._provider["key"] = {"command": shlex.split(printed[1] or printed[2])}
            return
        named = _VARIABLE.search(value)
        if named:
            self._provider["key"] = {"env": _name(named)}
            return
        self._provider["key"] = {"env": self._variable}
        if _PLACEHOLDER.match(value) or not value:
            self._notes.append(f"the key in it is a placeholder: set {self._variable}")
        else:
            self._secrets[self._variable] = Secret(value)

    def _signed(self, pasted: Pasted) -> None:
        parts = pasted.signature.split(":")
        region, service = (parts[2], parts[3]) if len(parts) >= 4 else ("", "")
        prefix = self._variable.removesuffix("_KEY")
        names = (f"{prefix}_ACCESS_KEY", f"{prefix}_SECRET_KEY")
        user, _, secret = pasted.user.partition(":")
        for index, (name, value) in enumerate(zip(names, (user, secret), strict=True)):
            variable_match = _VARIABLE.search(value)
            if variable_match:
                names = (_name(variable_match), names[1]) if index == 0 else (names[0], _name(variable_match))
            elif value and not _PLACEHOLDER.match(value):
                self._secrets[name] = Secret(value)
        self._provider["key"] = {
            "signature": "v4",
            "region": region,
            "service": service,
            "access_key": {"env": names[0]},
            "secret_key": {"env": names[1]},
        }
        if not region or not service:
            self._notes.append("fill in region and service of the signature")

    def _headers(self) -> None:
        sent_key = str(self._provider.get("send_key", "bearer")).partition(":")[2] or "authorization"
        kept: dict[str, str] = {}
        for name, value in self._pasted.headers.items():
            folded = name.lower()
            if folded in _USUAL or folded == sent_key:
                continue
            variable_match = _VARIABLE.fullmatch(value)
            if variable_match:
                slot = _name(variable_match)
                kept[folded] = "{" + slot.lower() + "}"
                self._notes.append(f'{{{slot.lower()}}} in header {folded} wants a value: values = {{ ... = "..." }}')
            elif looks_secret(folded):
                self._notes.append(f"header {folded} looks like a second key and was left out")
            else:
                kept[folded] = value
        if kept:
            self._provider["headers"] = kept

    def _model(self) -> dict[str, Json]:
        body = self._body()
        self._provider |= self._dialect.adopted(body)
        name = self._address.model or body.get("model") or ""
        name = name if isinstance(name, str) else ""
        system = self._dialect.pasted_system(body)
        parameters = self._parameters(body)
        question = _question(self._dialect)
        for container in _containers(self._dialect):
            known, inner = question.get(container), body.get(container)
            self._notes += [
                f"{field} was left out: pass it with extra={{...}} where it is wanted"
                for field in (inner if isinstance(inner, dict) else ())
                if not isinstance(known, dict) or field not in known
            ]
        plain = _question(self._dialect, settings=False)
        self._notes += [
            f"{field} was left out: see the table of parameters in the guide to dialects"
            for field in body
            if field in question and field not in plain and field not in _NOT_SETTINGS | set(_containers(self._dialect))
        ]
        added = {field: value for field, value in body.items() if field not in question.keys() | _NOT_SETTINGS}
        if added:
            self._provider["add"] = added
            self._notes.append(f"{', '.join(added)} goes into every request of this provider (add)")
        if not (name or parameters or system):
            return {}
        model: dict[str, Json] = {
            "provider": self._label,
            "name": name.removeprefix(self._dialect.abilities.model_prefix),
        }
        if system:
            model["system"] = system
        if parameters:
            model["parameters"] = parameters
        return model

    def _parameters(self, body: dict[str, Any]) -> dict[str, Json]:
        """The parameters in a body, taken out of it."""
        table = self._dialect.abilities.parameters or {name: Field(name) for name in NAMES}
        parameters: dict[str, Json] = {}
        for name, write in table.items():
            if isinstance(write, Field) and name not in _NOT_SETTINGS:
                value = take(body, "/" + write.path)
                if value is not MISSING and PARAMETERS[name].allows(value):
                    parameters[name] = value
                elif value is not MISSING:
                    self._notes.append(f"{write.path.replace('/', '.')} = {value!r} was left out")
        return parameters

    def _body(self) -> dict[str, Any]:
        text = self._pasted.body.strip()
        if not text:
            return {}
        try:
            body = json.loads(text)
        except ValueError:
            # Pages print example bodies with comments and commas too many: the name is worth having all the same.
            named = re.search(r'"model"\s*:\s*"([^"]+)"', text)
            self._notes.append(
                "the data is not valid JSON; only the model's name was taken from it"
                if named
                else "the data is not valid JSON"
            )
            return {"model": named[1]} if named else {}
        return body if isinstance(body, dict) else {}


def _dialect(address: Address) -> Dialect:
    options = EntryOptions(chat_path=address.path or "" if address.operation == "chat" else "")
    return dialect(address.dialect or DEFAULT).configured(options)


def _question(like: Dialect, *, settings: bool = True) -> dict[str, Any]:
    """A body with all that holds a question, or is decided for each call: what it has is no setting of an entry.

    Args:
        settings: with every parameter that the dialect knows.
    """
    table = like.abilities.parameters
    names = [name for name in NAMES if (table is None or name in table) and name != "max_completion_tokens"]
    messages = (Message("system", "Brief."), Message("user", "Hi"))
    body: dict[str, Any] = {"model": "", "stream": True, "stream_options": {}}
    for name in ("", *names) if settings else ("",):  # each by itself: not all of them go together
        parameters = {name: PARAMETERS[name].sample} if name else {}
        if name in ("tool_choice", "parallel_tool_calls"):
            parameters["tools"] = PARAMETERS["tools"].sample
        _merge(body, like.encode_chat(Request("m/m", messages, parameters, stream=True)).body or {})
    if like.abilities.vectors is not None:
        body |= like.encode_vectors(VectorsRequest("m", ["Hi"], 8, base64=True)).body or {}
    return body


def _merge(body: dict[str, Any], more: dict[str, Any]) -> None:
    for name, value in more.items():
        if isinstance(value, dict) and isinstance(body.get(name), dict):
            _merge(body[name], value)
        else:
            body[name] = value


def _containers(like: Dialect) -> list[str]:
    """The fields of a body that hold parameters of their own."""
    paths = [write.path.split("/") for write in (like.abilities.parameters or {}).values() if isinstance(write, Field)]
    return list(dict.fromkeys(outer for outer, *inner in paths if inner))


def _name(variable: re.Match[str]) -> str:
    return next(name for name in variable.groups() if name)


def _label_of(base: str) -> str:
    host = host_of(base)
    if is_local(host) or re.fullmatch(r"[\d.]+|.*:.*", host):
        return "local" if is_local(host) else "server"
    words = [word for word in host.split(".")[:-1] if word not in _COMMON_HOST_WORDS and "{" not in word]
    return _slug(words[-1] if words else host.split(".")[0])


def _slug(name: str) -> str:
    last = name.rstrip("/").rpartition("/")[2]
    return re.sub(r"[^a-z0-9.]+", "-", last.lower()).strip("-.") or "model"
