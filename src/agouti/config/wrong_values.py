"""What is wrong with a value of an entry, in words: which one, where it stands, and how it is written."""

from typing import Any, get_args

import msgspec

from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..core.settings.near_misses import OF_MODELS, OF_PROVIDERS
from ..core.text.suggest import near_hint
from ..credentials.sources import key_hook
from .origins import Origins, placed

MAY_HOLD_SECRETS = frozenset({"key", "headers", "query", "add", "address", "values", "send_key"})
"""Keys whose values are never shown."""

_MEANT = {"models": OF_MODELS, "providers": OF_PROVIDERS}


def what_is_wrong(
    kind: type[Any],
    table: str,
    label: str,
    values: dict[str, Json],
    origins: Origins,
    error: msgspec.ValidationError,
) -> ConfigError:
    """Find the one value that does not fit, for an error that names it and its place."""
    fields = {field.name: field for field in msgspec.structs.fields(kind) if field.name != "label"}
    for name, value in values.items():
        if name not in fields:
            hint = near_hint(name, fields, "key", _MEANT.get(table))
            if isinstance(value, dict) and not hint.startswith("Did you"):
                hint = f'A label with a dot stands in quotes: [{table}."{label}.{name}"]'
            return placed(
                ConfigError(f"unknown key {name!r} in [{table}.{label}]", hint=hint), origins.of(table, label, name)
            )
        try:
            msgspec.convert(value, fields[name].type, dec_hook=key_hook)
        except msgspec.ValidationError as problem:
            inner = value if isinstance(value, dict) else {}
            if unknown := _unknown_in(fields[name].type, inner):
                struct = _struct_in(fields[name].type)
                known = () if struct is None else struct.__struct_fields__
                return placed(
                    ConfigError(
                        f"unknown key {unknown!r} in {table}.{label}.{name}", hint=near_hint(unknown, known, "key")
                    ),
                    origins.of(table, label, name, unknown),
                )
            deeper = next((part for part in inner if f"`{part}`" in str(problem)), None)
            path = (table, label, name, deeper) if deeper else (table, label, name)
            value_text = "" if name in MAY_HOLD_SECRETS else f" = {value!r}"[:80]
            return placed(
                ConfigError(
                    f"{table}.{label}.{name}{value_text} is wrong: {_plain_message(str(problem))}",
                    hint=_type_hint(name, fields[name].type, _plain_message(str(problem))),
                ),
                origins.of(*path),
            )
    return placed(ConfigError(f"[{table}.{label}] is wrong: {_plain_message(str(error))}"), origins.of(table, label))


def _unknown_in(kind: Any, values: dict[str, Json]) -> str:
    """The first name in a table that its type does not have."""
    struct = _struct_in(kind)
    return "" if struct is None else next((name for name in values if name not in struct.__struct_fields__), "")


def _struct_in(kind: Any) -> type[msgspec.Struct] | None:
    """The struct that a type is, or may be."""
    return next(
        (each for each in (kind, *get_args(kind)) if isinstance(each, type) and issubclass(each, msgspec.Struct)), None
    )


def _plain_message(message: str) -> str:
    return message.replace("`", "").replace("Object contains", "holds").replace(" - at $", " at ")


_WRITTEN = {
    "fallback": 'fallback = ["LABEL"], a list of labels',
    "examples": 'examples = [["What is asked", "what is answered"]], a list of pairs',
    "context": "context = 8192, a number of tokens without quotes",
    "inputs": 'inputs = ["text", "image"]',
    "price": 'price = { input = 1.5, output = 2.0, currency = "USD" }',
    "limits": "limits = { requests_per_minute = 60 }",
}


def _type_hint(name: str, kind: Any, message: str) -> str:
    if name in _WRITTEN and ("at [" in message or " at " not in message):
        return f"Write {_WRITTEN[name]}."
    if name == "key":
        if "at .command" in message:
            return 'Write it as a list: key = { command = ["program", "argument"] }'
        return 'Write where the key lives: key = { env = "NAME" }'
    if kind is bool:
        return f"Write {name} = true or {name} = false, without quotes."
    if (struct := _struct_in(kind)) is not None:
        return f"Write {name} = {{ NAME = VALUE }}, with NAME of {', '.join(struct.__struct_fields__)}."
    if kind == dict[str, str]:
        return f'Write {name} = {{ "name" = "value" }}, values in quotes.'
    if kind is str or kind == (str | None):
        return f'Write {name} = "text", in quotes.'
    return f"See the entry types in the guide for what {name} takes."
