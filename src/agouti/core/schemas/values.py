"""Values of a schema: exact numbers where it takes them as texts, and other readings of a value that does not fit."""

import re
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any

from ..canonical.chat import Json
from ..json.extract import json_in
from ..json.repair import LongNumber
from .fit import accepts, branch_of, resolved

Schema = Mapping[str, Any]
Names = Mapping[frozenset[Any], Mapping[str, Json]]
"""The names of the choices of an enumeration, by the set of its values."""


def without_long_numbers(value: Json, schema: Schema, root: Schema) -> Json:
    """The value without numbers that have too many digits: as texts where the schema takes decimals so.

    >>> decimal = {"anyOf": [{"type": "number"}, {"type": "string"}]}
    >>> without_long_numbers(LongNumber("12345678901234567.89"), decimal, decimal)
    '12345678901234567.89'
    >>> without_long_numbers(LongNumber("0.1234567890123456789"), {}, {})
    0.12345678901234568
    """
    if isinstance(value, LongNumber):
        return value.text if _is_decimal(schema, root) else float(value)
    if isinstance(value, list) and value:
        return _walked(value, schema, root, lambda each, inner: without_long_numbers(each, inner, root))
    if isinstance(value, dict):
        return _walked(value, schema, root, lambda each, inner: without_long_numbers(each, inner, root))
    if isinstance(value, float) and _is_decimal(schema, root):
        return repr(value)
    return value


def _is_decimal(schema: Schema, root: Schema) -> bool:
    schema = resolved(schema, root)
    if schema.get("format") == "decimal":
        return True
    branches = [resolved(each, root) for each in schema.get("anyOf", ()) if isinstance(each, Mapping)]
    kinds = [each.get("type") for each in branches]
    return any(each.get("format") == "decimal" for each in branches) or ("number" in kinds and "string" in kinds)


def _walked(value: Any, schema: Schema, root: Schema, do: Callable[[Json, Schema], Json]) -> Json:
    """A list or an object with something done to each of its parts, and to what the schema says of it."""
    schema = resolved(schema, root)
    if isinstance(value, list):
        schema = next((each for each in _branches(schema, root) if "items" in each or "prefixItems" in each), schema)
        first, items = schema.get("prefixItems", ()), schema.get("items", {})
        return [do(each, _as_schema(first[index] if index < len(first) else items)) for index, each in enumerate(value)]
    schema = branch_of(value, schema, root)
    if "properties" not in schema:
        schema = next((each for each in _branches(schema, root) if "properties" in each), schema)
    properties, further_properties = schema.get("properties", {}), _as_schema(schema.get("additionalProperties"))
    return {name: do(each, _as_schema(properties.get(name, further_properties))) for name, each in value.items()}


def _branches(schema: Schema, root: Schema) -> list[Schema]:
    return [schema, *(resolved(each, root) for name in ("anyOf", "oneOf") for each in schema.get(name, ()))]


def _as_schema(schema: Any) -> Schema:
    return schema if isinstance(schema, Mapping) else {}


def readings(value: Json, schema: Schema, names: Names) -> Iterator[tuple[Json, str]]:
    """Other readings of a value that does not fit, the nearest first, each with what was done in words.

    >>> [each for each, _ in readings([{"a": 1}], {"type": "object", "properties": {"a": {}}}, {})][0]
    {'a': 1}
    """
    inner = schema.get("properties", {})
    is_wrapped = set(inner) == {"value"}
    if is_wrapped and isinstance(value, dict) and value.keys() == {"value"}:
        value = value["value"]
    if isinstance(value, str):
        found = json_in(value)
        if len(found.values) == 1 and isinstance(found.values[0], (dict, list)):
            yield found.values[0], "JSON in a text"
        if is_wrapped:
            text = value.strip().strip("\"'`.*").strip()
            if text != value:
                yield text, "a bare word"
                if (chosen := _chosen(names)(text, _as_schema(inner.get("value")), schema)) != text:
                    yield chosen, "a bare word"
            if re.fullmatch(r"\d{1,2}:\d{2}", text):
                yield f"{text:0>5}:00", "a time without seconds"
    if isinstance(value, dict):
        if is_wrapped and "value" in value and len(value) > 1:
            yield value["value"], "more than was asked"
        if len(value) == 1:
            (name, only), *_ = value.items()
            if name not in inner or is_wrapped:
                yield only, f"wrapped in {name!r}"
    if isinstance(value, list) and len(value) == 1:
        yield value[0], "a list of one"
    target = _as_schema(inner.get("value")) if is_wrapped else schema
    if isinstance(value, dict) and accepts("array", target, schema) and not accepts("object", target, schema):
        yield [value], "one where a list is asked"
    for reading, note in ((_unpacked, "JSON in a text"), (_chosen(names), "the name of a choice")):
        changed = reading(value, target, schema)
        if changed != value:
            yield changed, note


def _unpacked(value: Json, schema: Schema, root: Schema) -> Json:
    """The value with objects and lists in the place of texts that hold them as JSON."""
    if isinstance(value, str) and value[:1] in "{[" and value:
        if not accepts("string", schema, root) and (accepts("object", schema, root) or accepts("array", schema, root)):
            found = json_in(value)
            return found.values[0] if len(found.values) == 1 else value
        return value
    if isinstance(value, (dict, list)):
        return _walked(value, schema, root, lambda each, inner: _unpacked(each, inner, root))
    return value


def _chosen(names: Names) -> Callable[[Json, Schema, Schema], Json]:
    """Puts the values of choices in the place of their names, and of words that differ in case only."""

    def choose(value: Json, schema: Schema, root: Schema) -> Json:
        if isinstance(value, str):
            for each in _branches(resolved(schema, root), root):
                allowed = each.get("enum")
                if isinstance(allowed, list) and value not in allowed:
                    named = names.get(_frozen(allowed), {})
                    if value in named:
                        return named[value]
                    folded = [one for one in allowed if isinstance(one, str) and one.casefold() == value.casefold()]
                    named_so = [one for name, one in named.items() if name.casefold() == value.casefold()]
                    if len(folded or named_so) == 1:
                        return (folded or named_so)[0]
            return value
        if isinstance(value, (dict, list)):
            return _walked(value, schema, root, lambda each, inner: choose(each, inner, root))
        return value

    return choose


def _frozen(values: list[Any]) -> frozenset[Any]:
    try:
        return frozenset(values)
    except TypeError:
        return frozenset()


def texts_at_once(schema: Schema) -> Callable[[tuple[str | None, ...]], bool] | None:
    """Whether the text at a place means nothing until it is whole: a choice, a date. `None` where none is.

    >>> at_once = texts_at_once({"properties": {"when": {"enum": ["early", "late"]}, "note": {"type": "string"}}})
    >>> at_once(("when",)), at_once(("note",))
    (True, False)
    """
    if not _has_texts_at_once(schema):
        return None
    named = schema.get("properties", {})
    wrapped = named["value"] if set(named) == {"value"} else None

    @lru_cache(512)
    def is_final_text(path: tuple[str | None, ...]) -> bool:
        found = [schema if wrapped is None or path[:1] == ("value",) else wrapped]
        try:
            for key in path:
                found = [inner for each in found for leaf in leaves(each, schema) for inner in inside(leaf, key)]
            texts = [leaf for each in found for leaf in leaves(each, schema) if accepts("string", leaf, schema)]
        except RecursionError:
            return False  # a union that has itself among its choices
        return bool(texts) and all(_is_at_once(each) for each in texts)

    return is_final_text


_FINAL_FORMATS = frozenset({"date", "time", "date-time", "duration", "uuid", "email", "ipv4", "ipv6"})


def _is_at_once(schema: Schema) -> bool:
    form = schema.get("format")  # a schema, where this is a table of properties
    return "enum" in schema or "const" in schema or (isinstance(form, str) and form in _FINAL_FORMATS)


def _has_texts_at_once(schema: Any) -> bool:
    if isinstance(schema, Mapping):
        return _is_at_once(schema) or any(map(_has_texts_at_once, schema.values()))
    return isinstance(schema, list) and any(map(_has_texts_at_once, schema))


def leaves(schema: Schema, root: Schema) -> list[Schema]:
    """A schema without its unions: each of what it may be."""
    schema = resolved(schema, root)
    unions = [each for name in ("anyOf", "oneOf") for each in schema.get(name, ())]
    return [leaf for each in unions for leaf in leaves(_as_schema(each), root)] or [schema]


def inside(schema: Schema, key: str | None) -> list[Schema]:
    """What a schema says of the value at a key, or of all items where that is `None`."""
    if key is None:
        return [_as_schema(each) for each in (*schema.get("prefixItems", ()), schema.get("items")) if each is not None]
    return [_as_schema(schema.get("properties", {}).get(key, schema.get("additionalProperties")))]
