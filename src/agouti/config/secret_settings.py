"""Settings that may hold a secret: literal ones are wrapped, so that nothing shows them; tables say where one lives.

What is wrapped is decided by name (``x-api-key``) and by value (long and random, or with a prefix that keys have).
"""

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import msgspec

from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..core.secrets.masking import looks_like_a_key
from ..core.secrets.secret import Secret, looks_secret
from ..credentials.sources import GivenKey, Key, is_key_table, parse_key

T = TypeVar("T")


def secret_texts(field: str, values: Mapping[str, Any]) -> dict[str, "str | Key"]:
    """Texts by name, the secret ones wrapped; ``{ env = "NAME" }`` and its like as key sources.

    Raises:
        ConfigError: a value is neither a text nor a place.
    """
    if not isinstance(values, Mapping):
        raise ConfigError(
            f"{field} takes a table, not {type(values).__name__}", hint=f'Write {field} = {{ "name" = "value" }}.'
        )
    return {name: _secret_text(field, name, value) for name, value in values.items()}


def _secret_text(field: str, name: str, value: Any) -> "str | Key":
    if isinstance(value, str):
        return _wrapped(name, value)
    if isinstance(value, Secret):
        return GivenKey(value)
    if isinstance(value, (Key, Mapping)):
        try:
            return parse_key(dict(value) if isinstance(value, Mapping) else value)
        except msgspec.ValidationError as error:
            raise ConfigError(
                f"{field}.{name} is wrong: {error}",
                hint=f'Write {name} = "value", or where it lives: {name} = {{ env = "NAME" }}.',
            ) from None
    raise ConfigError(
        f"{field}.{name} takes a text, not {type(value).__name__}",
        hint=f'Write {name} = "value", in quotes, or where it lives: {name} = {{ env = "NAME" }}.',
    )


def secret_fields(values: Json, name: str = "") -> Json:
    """Fields of a request body, the same done to them at any depth."""
    if isinstance(values, str):
        return _wrapped(name, values)
    if isinstance(values, Mapping):
        if name and is_key_table(values):
            return parse_key(dict(values))
        return {each: secret_fields(inner, each) for each, inner in values.items()}
    if isinstance(values, list):
        return [secret_fields(each, name) for each in values]
    return values


def without_places(values: T, of: Callable[[Key], str]) -> T:
    """The same values with a text for every key source."""
    if isinstance(values, Key):
        return of(values)  # type: ignore[return-value]
    if isinstance(values, Mapping):
        return {name: without_places(each, of) for name, each in values.items()}  # type: ignore[return-value]
    if isinstance(values, list):
        return [without_places(each, of) for each in values]  # type: ignore[return-value]
    return values


def without_secrets(values: "dict[str, Json]", user_values: "Mapping[str, Json]") -> "dict[str, Json]":
    """The values of an entry without secrets, but for those that ``user_values`` has itself."""
    remaining = {name: value for name, value in values.items() if name != "key" or "key" in user_values}
    address, _ = parted_address(str(remaining.get("address", "")))
    if "address" in remaining and "address" not in user_values:
        remaining["address"] = address
    for field in ("headers", "query", "values", "add"):
        table, user_table = remaining.get(field), user_values.get(field)
        if isinstance(table, dict):
            user_fields = user_table if isinstance(user_table, dict) else {}
            remaining[field] = {
                name: value for name, value in table.items() if name in user_fields or not _is_secret(name, value)
            }
    return remaining


def _is_secret(name: str, value: Json) -> bool:
    if isinstance(value, str):
        return looks_secret(name) or looks_like_a_key(value)
    if isinstance(value, Mapping):
        return is_key_table(value) or any(_is_secret(each, inner) for each, inner in value.items())
    return isinstance(value, (Key, Secret))


def places_in(values: Any) -> list[Key]:
    """The key sources in values that have to be fetched."""
    found: list[Key] = []

    def note(key: Key) -> str:
        if not isinstance(key, GivenKey) and key not in found:
            found.append(key)
        return ""

    without_places(values, note)
    return found


def parted_address(address: str) -> "tuple[str, dict[str, str]]":
    """An address without the secret parameters of its query, and those."""
    base, mark, query = address.partition("?")
    if not mark:
        return address, {}
    remaining, secret = [], {}
    for pair in query.split("&"):
        name, _, value = pair.partition("=")
        if value and "{" not in value and (looks_secret(name) or looks_like_a_key(value)):
            secret[name] = value
        else:
            remaining.append(pair)
    return (f"{base}?{'&'.join(remaining)}" if remaining else base), secret


def _wrapped(name: str, text: str) -> "str | Key":
    # A template ({token}) is none: what is put in for it may be.
    if text and "{" not in text and (looks_secret(name) or looks_like_a_key(text)):
        return GivenKey(Secret(text))
    return text
