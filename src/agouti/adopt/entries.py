"""Which configuration entries a pasted command amounts to."""

import base64
import json
import re
import shlex
from typing import Any
from urllib.parse import parse_qsl

from msgspec import Struct

from ..config.write import NewEntry
from ..core.canonical.chat import Json, Message, Request
from ..core.canonical.parameters import NAMES, PARAMETERS
from ..core.canonical.vectors import VectorsRequest
from ..core.http.address import Address, host_of, is_local
from ..core.json.pointer import MISSING, remove_at
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Secret, looks_secret
from ..dialects.base import Dialect, EntryOptions, Field
from ..dialects.registry import DEFAULT, dialect, parse_address
from .curl import Pasted
from .shell import Expansion, expansions, literal_text, replaced, sole_expansion

# Headers that every request has anyway.
_COMMON_HEADERS = frozenset(
    {"content-type", "accept", "user-agent", "content-length", "accept-encoding", "connection", "host"}
)
_KEY_HEADERS = frozenset({"authorization", "x-api-key", "api-key"})
# Decided for each call, not by an entry.
_NOT_SETTINGS = frozenset({"tools", "tool_choice", "response_format"})
_PLACEHOLDER = re.compile(
    r"<.*>|\[.*\]|\{.*\}|.*\.\.\.|.*\u2026|[xX*\u2022]{4,}|\W*(?:your|my|insert|replace|paste)[\s_-].*|.*(?:_here|-here|api_key|api-key)"
    r"|.*your[-_ ]?.*key.*",
    re.IGNORECASE,
)
# Joins commands, or means something else that only a shell knows.
_FOR_SHELL = re.compile(r"[|;&<>*$~]")
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


def is_placeholder(value: str) -> bool:
    """Whether a value is only the place for one.

    >>> is_placeholder("<YOUR_KEY>"), is_placeholder("ACCESS_TOKEN"), is_placeholder("my-real-key-1234567890abcdef")
    (True, True, False)
    """
    bracketed = value[:1] in "<[{"
    if not bracketed and sum(letter.isdigit() for letter in value) >= 3:
        return False
    return bool(_PLACEHOLDER.fullmatch(value) or re.fullmatch(r"[A-Z]+(?:[_-][A-Z]+)*", value))


class _Adoption:
    def __init__(self, pasted: Pasted, provider_label: str, model_label: str) -> None:
        self._pasted = pasted
        self._model_label = model_label
        self._slots: dict[str, Json] = {}
        self._secrets: dict[str, Secret] = {}
        self._notes: list[str] = [*pasted.notes]
        base, mark, query = pasted.address.partition("?")
        self._address: Address = parse_address(f"{self._templated(base)}{mark}{query}")
        self._dialect = _dialect(self._address)
        self._label = provider_label or _label_of(self._address.base)
        self._prefix = re.sub(r"\W", "_", self._label).upper()
        self._provider: dict[str, Json] = {"address": self._address.base}

    def result(self) -> Adopted:
        address = self._address
        if address.dialect and address.dialect != DEFAULT:
            self._provider["dialect"] = address.dialect
        self._provider["address"] = self._without_secret_folders(address.base)
        if address.path:
            self._provider["paths"] = {address.operation: address.path}
        self._key()
        self._query()
        self._headers()
        if self._pasted.insecure:
            self._notes.append("-k was left out: point SSL_CERT_FILE at the certificate of the server's own CA instead")
        model = self._model()
        if self._slots:
            self._provider["values"] = self._slots
        for name in re.findall(r"\{(\w+)\}", address.base):
            if name not in self._slots:
                self._notes.append(f'{{{name}}} in the address wants a value: values = {{ {name} = "..." }}')
        name = model.get("name", "")
        label = self._model_label or (_slug(name) if name else self._label) if model else ""
        if not name:
            self._notes.append("no model is named in it: agouti check shows what the provider offers")
            if model:
                model["name"] = label
                self._notes.append(f"{label} stands for its name: correct it where the provider has several models")
        return Adopted(self._label, self._provider, label, model, self._secrets, self._notes)

    def _templated(self, text: str) -> str:
        """A text with ``{name}`` where a shell would put something in."""

        def slot(each: Expansion) -> str:
            if each.kind == "command":
                self._notes.append("what a command prints was left out of the address")
                return "{output}"
            if each.default and not looks_like_a_key(each.default):
                self._slots[each.text.lower()] = each.default
            return "{" + each.text.lower() + "}"

        return replaced(text, slot)

    def _without_secret_folders(self, base: str) -> str:
        """The base address with a slot for a folder that looks like a key."""
        scheme, mark, remainder = base.partition("://")
        host, *folders = remainder.split("/")
        for position, folder in enumerate(folders):
            if looks_like_a_key(folder):
                self._slots["folder"] = self._unplaced("FOLDER", folder)
                folders[position] = "{folder}"
        return f"{scheme}{mark}{'/'.join([host, *folders])}"

    def _unplaced(self, name: str, value: str) -> dict[str, Json]:
        """The place for a secret that stands in the command; it goes to a variable of that name."""
        name_part = re.sub(r"\W+", "_", name).strip("_").upper() or "KEY"
        name_part = name_part.removeprefix("X_") if len(name_part) > 3 else name_part
        variable, number = f"{self._prefix}_{name_part}", 1
        while variable in self._secrets and self._secrets[variable].reveal() != value:
            number += 1
            variable = f"{self._prefix}_{name_part}_{number}"
        if is_placeholder(value) or not value:
            self._notes.append(f"the value for {variable} is a placeholder: set it")
        else:
            self._secrets[variable] = Secret(value)
        return {"env": variable}

    def _place_of(self, name: str, value: str) -> dict[str, Json]:
        """Where a secret lives: in a variable or a command that is named, else in a variable of ours."""
        inner = expansions(value)
        if len(inner) == 1 and sole_expansion(value) is not None:
            each = inner[0]
            if each.kind == "variable":
                if each.default and not is_placeholder(each.default):
                    self._secrets[each.text] = Secret(literal_text(each.default))
                return {"env": each.text}
            printed = _command(each.text)
            if isinstance(printed, str):
                return self._unplaced(name, printed)
            if any(
                looks_like_a_key(name_part.rpartition(":")[2]) or looks_like_a_key(name_part) for name_part in printed
            ):
                self._notes.append(
                    "the command that gives the key has a key in itself: put it into a script, then name it"
                )
                return {"env": f"{self._prefix}_{name}"}
            return {"command": printed}
        if inner:
            self._notes.append(f"the key is put together from {', '.join(each.text for each in inner)}: set it whole")
            return {"env": f"{self._prefix}_{name}"}
        # In single quotes a shell puts nothing in; pages write so all the same.
        named = re.fullmatch(r"\$\{?([A-Za-z_]\w*)\}?", value)
        if named is not None:
            return {"env": named[1]}
        return self._unplaced(name, value)

    def _key(self) -> None:
        pasted = self._pasted
        headers = {name.lower(): value for name, value in pasted.headers.items()}
        if pasted.signature:
            self._signed(pasted)
            return
        found: tuple[str, str] | None = None  # value, and how it travels
        if (sent := headers.get("authorization")) is not None:
            scheme, _, value = sent.partition(" ")
            found = (value.strip(), "bearer") if scheme.lower() == "bearer" else (sent, "header:authorization")
            if scheme.lower() == "basic" and value and not expansions(value):
                found = (_decoded(value.strip()), "basic")
        elif pasted.user:
            found = pasted.user, "basic"
        elif (name := self._key_header(headers)) is not None:
            found = headers[name], f"header:{name}"
        elif (name := self._key_parameter()) is not None:
            found = self._parameters_of_address()[name], f"query:{name}"
        if found is None:
            return
        self._provider["key"] = self._place_of("KEY", found[0])
        if found[1] != "bearer":
            self._provider["send_key"] = found[1]

    def _key_header(self, headers: dict[str, str]) -> str | None:
        """The header that carries the key: by its name, else by what it holds."""
        custom = [name for name in headers if name not in _COMMON_HEADERS]
        return next(
            (name for name in custom if name in _KEY_HEADERS),
            next((name for name in custom if looks_secret(name)), None)
            or next((name for name in custom if looks_like_a_key(literal_text(headers[name]))), None),
        )

    def _parameters_of_address(self) -> dict[str, str]:
        address = self._address
        key = {address.key_name: address.key} if address.key_name is not None and address.key is not None else {}
        return {**key, **address.query}

    def _key_parameter(self) -> str | None:
        query = self._parameters_of_address()
        if self._address.key_name is not None:
            return self._address.key_name
        return next((name for name, value in query.items() if looks_secret(name) or looks_like_a_key(value)), None)

    def _query(self) -> None:
        sent = str(self._provider.get("send_key", ""))
        changed: dict[str, Json] = {}
        for name, value in self._parameters_of_address().items():
            if sent == f"query:{name}":
                continue
            secret = looks_secret(name) or looks_like_a_key(value)
            changed[name] = self._place_of(name, value) if secret else self._templated(value)
        if changed:
            self._provider["query"] = changed

    def _signed(self, pasted: Pasted) -> None:
        parts = pasted.signature.split(":")
        region, service = (parts[2], parts[3]) if len(parts) >= 4 else ("", "")
        user, _, secret = pasted.user.partition(":")
        self._provider["key"] = {
            "signature": "v4",
            "region": region,
            "service": service,
            "access_key": self._place_of("ACCESS_KEY", user),
            "secret_key": self._place_of("SECRET_KEY", secret),
        }
        if not region or not service:
            self._notes.append("fill in region and service of the signature")

    def _headers(self) -> None:
        sent_key = str(self._provider.get("send_key", "bearer")).partition(":")[2] or "authorization"
        changed: dict[str, Json] = {}
        for name, value in self._pasted.headers.items():
            folded = name.lower()
            if folded in _COMMON_HEADERS or folded == sent_key:
                continue
            if looks_secret(folded) or (looks_like_a_key(value) and not expansions(value)):
                changed[folded] = self._place_of(folded, value)
                continue
            changed[folded] = self._templated(value)
            for each in expansions(value):
                if each.text.lower() not in self._slots:
                    slot = each.text.lower()
                    self._notes.append(f'{{{slot}}} in header {folded} wants a value: values = {{ {slot} = "..." }}')
        if changed:
            self._provider["headers"] = changed

    def _former(self, value: Json, name: str = "") -> Json:
        """A field of the body, with a place instead of every secret in it."""
        if isinstance(value, dict):
            return {each: self._former(inner, each) for each, inner in value.items()}
        if isinstance(value, list):
            return [self._former(each, name) for each in value]
        if isinstance(value, str) and value:
            if (looks_secret(name) and " " not in value) or looks_like_a_key(value):
                return self._place_of(name, value)
            return literal_text(value)
        return value

    def _model(self) -> dict[str, Json]:
        body = self._body()
        self._provider |= self._dialect.adopted(body)
        name = self._address.model or body.get("model") or ""
        name = name if isinstance(name, str) else ""
        if expansions(name):
            self._notes.append(f"the model's name is {literal_text(name)} in it: write what that stands for")
            name = ""
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
        without_settings = _question(self._dialect, settings=False)
        self._notes += [
            f"{field} was left out: see the table of parameters in the guide to dialects"
            for field in body
            if field in question
            and field not in without_settings
            and field not in _NOT_SETTINGS | set(_containers(self._dialect))
        ]
        added = {field: value for field, value in body.items() if field not in question.keys() | _NOT_SETTINGS}
        if added:
            self._provider["add"] = self._former(added)
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
                value = remove_at(body, "/" + write.path)
                if value is not MISSING and PARAMETERS[name].allows(value):
                    parameters[name] = value
                elif value is not MISSING:
                    self._notes.append(f"{write.path.replace('/', '.')} = {value!r} was left out")
        return parameters

    def _body(self) -> dict[str, Any]:
        text = self._pasted.body.strip()
        if not text:
            return {}
        body: Any = None
        for form in (text, text.replace('\\"', '"')):  # one shell leaves the backslashes in
            try:
                body = json.loads(form)
                break
            except (ValueError, RecursionError):
                continue
        if body is None and re.match(r"[\w.-]+=", text):
            body = {name: _scalar(value) for name, value in parse_qsl(text)}
        if body is None:
            # Pages print example bodies with comments and commas too many: the name is worth having all the same.
            named = re.search(r'"model"\s*:\s*"([^"]+)"', text)
            self._notes.append(
                "the data is not valid JSON; only the model's name was taken from it"
                if named
                else "the data is not valid JSON"
            )
            return {"model": named[1]} if named else {}
        return body if isinstance(body, dict) else {}


def _command(text: str) -> list[str] | str:
    """A command that prints a key, as a list; the key itself where all that it does is to print it."""
    try:
        name_parts = shlex.split(text)
    except ValueError:
        name_parts = []
    if len(name_parts) == 2 and name_parts[0] in ("echo", "printf"):
        return name_parts[1]
    if not name_parts or _FOR_SHELL.search(text):
        return ["sh", "-c", text]
    return name_parts


def _decoded(value: str) -> str:
    """User and password of a header that has them in base64."""
    try:
        return base64.b64decode(value, validate=True).decode()
    except ValueError:
        return value


def _scalar(text: str) -> Json:
    """A value of a form as a value of JSON."""
    try:
        value = json.loads(text)
    except ValueError:
        return text
    return text if isinstance(value, (dict, list)) else value


def _dialect(address: Address) -> Dialect:
    options = EntryOptions(chat_path=address.path or "" if address.operation == "chat" else "")
    return dialect(address.dialect or DEFAULT).configured(options)


def _question(dialect: Dialect, *, settings: bool = True) -> dict[str, Any]:
    """A body with all that holds a question, or is decided for each call: what it has is no setting of an entry.

    Args:
        settings: with every parameter that the dialect knows.
    """
    table = dialect.abilities.parameters
    names = [name for name in NAMES if (table is None or name in table) and name != "max_completion_tokens"]
    messages = (Message("system", "Brief."), Message("user", "Hi"))
    body: dict[str, Any] = {"model": "", "stream": True, "stream_options": {}}
    for name in ("", *names) if settings else ("",):  # each by itself: not all of them go together
        parameters = {name: PARAMETERS[name].sample} if name else {}
        if name in ("tool_choice", "parallel_tool_calls"):
            parameters["tools"] = PARAMETERS["tools"].sample
        _merge(body, dialect.encode_chat(Request("m/m", messages, parameters, stream=True)).body or {})
    if dialect.abilities.vectors is not None:
        body |= dialect.encode_vectors(VectorsRequest("m", ["Hi"], 8, base64=True)).body or {}
    return body


def _merge(body: dict[str, Any], addition: dict[str, Any]) -> None:
    for name, value in addition.items():
        if isinstance(value, dict) and isinstance(body.get(name), dict):
            _merge(body[name], value)
        else:
            body[name] = value


def _containers(dialect: Dialect) -> list[str]:
    """The fields of a body that hold parameters of their own."""
    paths = [
        write.path.split("/") for write in (dialect.abilities.parameters or {}).values() if isinstance(write, Field)
    ]
    return list(dict.fromkeys(outer for outer, *inner in paths if inner))


def _label_of(base: str) -> str:
    host = host_of(base)
    if is_local(host) or re.fullmatch(r"[\d.]+|.*:.*", host):
        return "local" if is_local(host) else "server"
    name_parts = [
        name_part for name_part in host.split(".")[:-1] if name_part not in _COMMON_HOST_WORDS and "{" not in name_part
    ]
    return _slug(name_parts[-1] if name_parts else host.split(".")[0])


def _slug(name: str) -> str:
    last = name.rstrip("/").rpartition("/")[2]
    return re.sub(r"[^a-z0-9.]+", "-", last.lower()).strip("-.") or "model"
