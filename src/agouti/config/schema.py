"""The JSON Schema of ``agouti.toml``, made of the types of its entries and what they say of themselves."""

import inspect
import re
from collections.abc import Mapping
from datetime import date
from functools import cache
from importlib.resources import files
from pathlib import Path
from types import UnionType
from typing import Any, Literal, Union, get_args, get_origin

import msgspec
from msgspec import Struct

from ..core.canonical.parameters import PARAMETERS
from ..core.secrets.secret import Secret
from ..core.settings.declarations import Declaration
from ..credentials.sources import CommandKey, EnvKey, FileKey, Key, KeyringKey, OAuthKey, SignatureKey
from .budgets import Budget, Plan
from .entries import Model, Provider
from .tables import CacheSettings, LedgerSettings, LimitStore, RelaySettings, TelemetrySettings

FILE = "agouti.schema.json"
_TABLES: dict[str, type[Struct]] = {
    "providers": Provider,
    "models": Model,
    "dialects": Declaration,
    "budgets": Budget,
    "plans": Plan,
}
_SINGLE_TABLES: dict[str, type[Struct]] = {
    "ledger": LedgerSettings,
    "limits": LimitStore,
    "telemetry": TelemetrySettings,
    "cache": CacheSettings,
    "relay": RelaySettings,
}
_KEYS: tuple[type[Struct], ...] = (EnvKey, FileKey, KeyringKey, CommandKey, OAuthKey, SignatureKey)
_SIMPLE_TYPES: dict[Any, dict[str, Any]] = {
    str: {"type": "string"},
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: {"type": "number"},
    date: {"type": "string", "format": "date"},
    Any: {},
}
# What may be written in a shorter way than the type says.
_ALSO: dict[tuple[type[Struct], str], dict[str, Any]] = {(EnvKey, "env"): {"type": "string"}}
# A value of these may be a place where a secret lives.
_SECRET_TABLES = ("headers", "query", "values")


@cache
def schema() -> dict[str, Any]:
    """The whole schema, JSON Schema 2020-12.

    >>> sorted(schema()["properties"])[:3]
    ['budgets', 'cache', 'dialects']
    """
    schema = _Definitions()
    properties: dict[str, Any] = {
        name: {"type": "object", "additionalProperties": schema.of(entry)} for name, entry in _TABLES.items()
    }
    properties |= {name: schema.of(entry) for name, entry in _SINGLE_TABLES.items()}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "agouti.toml",
        "type": "object",
        "additionalProperties": False,
        "properties": dict(sorted(properties.items())),
        "$defs": dict(sorted(schema.definitions.items())),
    }


def text() -> str:
    """The schema as it ships with the package."""
    return files(__package__).joinpath(FILE).read_text(encoding="utf-8")


def address() -> str:
    """Where the schema lies on this machine, as an address."""
    return Path(str(files(__package__).joinpath(FILE))).as_uri()


class _Definitions:
    """The schemas of structs, each once."""

    def __init__(self) -> None:
        self.definitions: dict[str, Any] = {}

    def of(self, kind: type[Struct]) -> dict[str, Any]:
        """A reference to the schema of a struct."""
        name = kind.__name__
        if name not in self.definitions:
            self.definitions[name] = {}  # it may refer to itself
            self.definitions[name] = self._struct(kind)
        return {"$ref": f"#/$defs/{name}"}

    def _struct(self, kind: type[Struct]) -> dict[str, Any]:
        text = _texts_of(kind)
        properties: dict[str, Any] = {}
        required = []
        for field in msgspec.structs.fields(kind):
            if field.name == "label":
                continue  # it is the name of the table
            shown_schema = self._field(kind, field.name, field.type)
            if field.name in text:
                shown_schema = {"description": text[field.name], **shown_schema}
            properties[field.name] = shown_schema
            if field.required:
                required.append(field.name)
        if kind in _KEYS:
            required = [field.name for field in msgspec.structs.fields(kind) if field.required]
        schema: dict[str, Any] = {"type": "object", "properties": properties, "additionalProperties": False}
        summary = (inspect.getdoc(kind) or "").partition("\n\n")[0]
        return {"description": _plain_text(summary), **schema, **({"required": required} if required else {})}

    def _field(self, kind: type[Struct], name: str, declared: Any) -> dict[str, Any]:
        if kind is Model and name == "parameters":
            return {"type": "object", "properties": _parameters(), "additionalProperties": False}
        if kind is Budget and name == "notify":
            return {"anyOf": [{"type": "string"}, self.schema(Key)]}
        if kind is Provider and name in _SECRET_TABLES:
            key_schema = {"anyOf": [{"type": "string"}, self.schema(Key)]}
            return {"type": "object", "additionalProperties": key_schema}
        schema = self.schema(declared)
        also = _ALSO.get((kind, name))
        return schema if also is None else {"anyOf": [also, schema]}

    def schema(self, declared: Any) -> dict[str, Any]:
        """The schema of a type."""
        if declared in _SIMPLE_TYPES:
            return dict(_SIMPLE_TYPES[declared])
        origin, inner = get_origin(declared), get_args(declared)
        if origin is Literal:
            return {"enum": list(inner)}
        if origin in (Union, UnionType):
            options = [self.schema(each) for each in inner if each is not type(None)]
            return options[0] if len(options) == 1 else {"anyOf": options}
        if origin is tuple:
            if inner[-1] is Ellipsis:
                return {"type": "array", "items": self.schema(inner[0])}
            items = [self.schema(each) for each in inner]
            return {"type": "array", "prefixItems": items, "minItems": len(items), "maxItems": len(items)}
        if origin is dict:
            return {"type": "object", "additionalProperties": self.schema(inner[1])}
        return self._named(declared)

    def _named(self, declared: Any) -> dict[str, Any]:
        if declared is Secret:
            env_schema = {"type": "object", "properties": {"env": {"type": "string"}}, "required": ["env"]}
            return {"anyOf": [{"type": "string"}, {**env_schema, "additionalProperties": False}]}
        if declared is Key:
            if "Key" not in self.definitions:
                self.definitions["Key"] = {}
                one = [self.of(each) for each in _KEYS]
                several = {"type": "array", "items": {"anyOf": one}, "minItems": 1}
                self.definitions["Key"] = {"description": "Where a key lives, never the key.", "anyOf": [*one, several]}
            return {"$ref": "#/$defs/Key"}
        if isinstance(declared, type) and issubclass(declared, Struct):
            return self.of(declared)
        raise TypeError(f"there is no schema of {declared!r}")


def _parameters() -> dict[str, Any]:
    names = {dict: "object", list: "array", tuple: "array", str: "string", bool: "boolean", int: "integer"}
    schema: dict[str, Any] = {}
    for name, row in PARAMETERS.items():
        kinds = {"number" if kind is float else names[kind] for kind in row.kinds}
        kinds = kinds - {"integer"} if "number" in kinds else kinds
        shown_schema: dict[str, Any] = {"description": f"Takes {row.words}.", "type": sorted(kinds)}
        if len(kinds) == 1:
            shown_schema["type"] = next(iter(kinds))
        if shown_schema["type"] in ("integer", "number"):
            low = -1 if "-1" in row.words else row.low
            shown_schema |= {
                key: value for key, value in (("minimum", low), ("maximum", row.high)) if value is not None
            }
        schema[name] = shown_schema
    return schema


def _texts_of(kind: type[Struct]) -> Mapping[str, str]:
    """What a type says of each of its fields, in the section ``Attributes`` of its words."""
    section = (inspect.getdoc(kind) or "").partition("Attributes:\n")[2].partition("\n\n")[0]
    found: dict[str, str] = {}
    names: list[str] = []
    for line in section.splitlines():
        match = re.match(r"    ([a-z_]+(?:, [a-z_]+)*): (.*)", line)
        if match is not None:
            names = match[1].split(", ")
            found |= dict.fromkeys(names, match[2])
        elif line.startswith("        "):
            found |= {name: f"{found[name]} {line.strip()}" for name in names}
    return {name: _plain_text(text) for name, text in found.items()}


def _plain_text(text: str) -> str:
    return " ".join(text.split()).replace("``", "").replace("`", "")
