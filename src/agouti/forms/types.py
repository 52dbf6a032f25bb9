"""Types of an application as JSON Schemas, in the order and in the words in which they were written.

pydantic says all of that itself. For what msgspec reads (dataclasses, TypedDict, NamedTuple, attrs, Enum, Literal) it
is added here: the order of fields and choices, descriptions from ``Annotated``, ``field(metadata=...)`` and the
docstring's attributes, the names of an enumeration's values.
"""

import dataclasses
import enum
import inspect
import sys
import types
import typing
from collections.abc import Iterator, Mapping
from contextlib import suppress
from typing import Any, Literal, get_args, get_origin

from ..core.canonical.chat import Json


def types_in(kind: Any) -> list[Any]:
    """The types that a type is made of, itself first; each once."""
    found: list[Any] = []
    ahead = [kind]
    while ahead:
        each = ahead.pop(0)
        if any(each is second for second in found):
            continue
        found.append(each)
        if get_origin(each) is not Literal:
            ahead += [inner for inner in get_args(each) if not isinstance(inner, (str, bytes, int, float))]
        if isinstance(each, type) and get_origin(each) is None and not issubclass(each, enum.Enum):
            ahead += [hint for hint in hints_of(each).values() if not isinstance(hint, str)]
    return found


def hints_of(kind: Any) -> dict[str, Any]:
    """The annotations of a class, with what stands in texts put in where that can be found."""
    if not isinstance(kind, type) or kind.__module__ == "builtins":
        return {}
    try:
        return typing.get_type_hints(kind, include_extras=True)
    except Exception:  # forward references of all kinds: whoever reads the type says what is wrong with it
        return dict(getattr(kind, "__annotations__", {}))


def resolve_local(kind: Any) -> None:
    """Put types in the place of their names where a class was made within a function.

    ``from __future__ import annotations`` leaves names, and nobody looks for them among the variables of a function.
    The frames that called are looked through; a class whose names cannot be found stays as it is.
    """
    for each in types_in(kind):
        annotations = inspect.get_annotations(each) if isinstance(each, type) else None
        if (
            not annotations
            or not any(isinstance(hint, str) for hint in annotations.values())
            or "<locals>" not in each.__qualname__
        ):
            continue
        names: dict[str, Any] = {}
        frame: types.FrameType | None = sys._getframe()
        while frame is not None:
            for name, value in frame.f_locals.items():
                names.setdefault(name, value)
            frame = frame.f_back
        resolved: dict[str, Any] = {}
        with suppress(Exception):  # whoever reads the type says what is wrong with it
            resolved = typing.get_type_hints(each, None, names, include_extras=True)
        each.__annotations__.update({name: resolved[name] for name in annotations if name in resolved})
        for field in getattr(each, "__dataclass_fields__", {}).values():
            field.type = resolved.get(field.name, field.type)


def as_written(schema: dict[str, Any], kind: Any) -> dict[str, Any]:
    """The schema with fields and choices in their order, and with what is said of them."""
    every = types_in(kind)
    orders = [hints_of(each) for each in every if _is_record(each)]
    documented_fields = [(hints_of(each).keys(), _words_of(each)) for each in every if _is_record(each)]
    hidden = [(set(hints_of(each)), not_given(each)) for each in every if dataclasses.is_dataclass(each)]
    choices = [list(values) for values in _choices(every)]
    named = names_of(kind)
    documented = {
        text: _summary(each.__doc__)
        for each in every
        if _has_attributes(each)
        for text in (inspect.cleandoc(each.__doc__), each.__doc__.strip())
    }

    def walk(node: Any) -> Any:
        if isinstance(node, list):
            return [walk(each) for each in node]
        if not isinstance(node, dict):
            return node
        walked = {name: each if name in ("enum", "const", "default") else walk(each) for name, each in node.items()}
        if isinstance(properties := walked.get("properties"), dict):
            walked["properties"] = properties = _fields(properties, walked, orders, documented_fields, hidden)
            if "required" in walked:
                walked["required"] = [name for name in properties if name in walked["required"]]
        if (text := walked.get("description")) in documented:
            walked["description"] = documented[text]
        if isinstance(allowed := walked.get("enum"), list):
            walked["enum"] = next((each for each in choices if _same(each, allowed)), allowed)
            names = named.get(_key(allowed), {})
            if any(str(value).casefold() != name.casefold() for name, value in names.items()):
                listed = ", ".join(f"{name} = {value!r}" for name, value in names.items())
                walked["description"] = ". ".join(filter(None, [walked.get("description", ""), listed]))
        return walked

    walked: dict[str, Any] = walk(schema)
    return walked


def _fields(
    properties: dict[str, Any], node: dict[str, Any], orders: Any, documented_fields: Any, hidden: Any
) -> dict[str, Any]:
    annotations = set(properties)
    for fields, left_out in hidden:
        if left_out and annotations <= fields | left_out and annotations & left_out and annotations >= left_out:
            properties = {name: each for name, each in properties.items() if name not in left_out}
            annotations = set(properties)
    order = next((hints for hints in orders if annotations <= hints.keys()), None)
    if order is not None:
        properties = {name: properties[name] for name in order if name in properties}
    for fields, words_of_field in documented_fields:
        if annotations <= set(fields):
            for name, text in words_of_field.items():
                inner = properties.get(name)
                if isinstance(inner, dict) and not inner.get("description"):
                    properties[name] = {**inner, "description": text}
            break
    return properties


def _is_record(kind: Any) -> bool:
    return isinstance(kind, type) and not issubclass(kind, enum.Enum) and bool(hints_of(kind))


def not_given(kind: Any) -> set[str]:
    """The fields of a dataclass that its constructor does not take."""
    return {field.name for field in dataclasses.fields(kind) if not field.init}


def without_hidden(value: Json, kind: Any) -> Json:
    """A value without what its dataclasses do not take: fields that are not asked for are not set either."""
    if isinstance(value, dict) and dataclasses.is_dataclass(kind):
        hints, left_out = hints_of(kind), not_given(kind)
        return {name: without_hidden(each, hints.get(name)) for name, each in value.items() if name not in left_out}
    inner = get_args(kind)
    if isinstance(value, dict) and isinstance(kind, type) and get_origin(kind) is None:
        hints = hints_of(kind)
        return {name: without_hidden(each, hints.get(name)) for name, each in value.items()}
    if isinstance(value, dict) and get_origin(kind) is dict:
        return {name: without_hidden(each, inner[1]) for name, each in value.items()}
    if isinstance(value, list) and get_origin(kind) in (list, set, frozenset, tuple) and inner:
        return [
            without_hidden(each, inner[min(at, len(inner) - 1)])
            if inner[-1] is not ...
            else without_hidden(each, inner[0])
            for at, each in enumerate(value)
        ]
    records = [each for each in inner if _is_record(each) or get_args(each)]
    return without_hidden(value, records[0]) if len(records) == 1 and not isinstance(value, str) else value


def _words_of(kind: Any) -> dict[str, str]:
    """What is said of each field."""
    attribute_texts = _attributes(inspect.getdoc(kind) or "") if "__doc__" in vars(kind) else {}
    for name, hint in hints_of(kind).items():
        for note in getattr(hint, "__metadata__", ()):
            if isinstance(note, str) and note:
                attribute_texts[name] = note
    if dataclasses.is_dataclass(kind):
        for field in dataclasses.fields(kind):
            text = field.metadata.get("description") or field.metadata.get("doc")
            if isinstance(text, str):
                attribute_texts[field.name] = text
    return attribute_texts


def _attributes(text: str) -> dict[str, str]:
    if not text:
        return {}
    try:
        from docstring_parser import ParseError, parse
    except ModuleNotFoundError:
        return {}
    try:
        return {each.arg_name: " ".join((each.description or "").split()) for each in parse(text).params}
    except ParseError:
        return {}


def _has_attributes(kind: Any) -> bool:
    return _is_record(kind) and "Attributes:" in (kind.__doc__ or "")


def _summary(text: str) -> str:
    """What a docstring says before it goes through the attributes, which are said where they stand."""
    return inspect.cleandoc(text).partition("Attributes:")[0].strip()


def _choices(every: list[Any]) -> Iterator[tuple[Json, ...]]:
    for each in every:
        if get_origin(each) is Literal:
            yield get_args(each)
        elif isinstance(each, type) and issubclass(each, enum.Enum):
            yield tuple(member.value for member in each)
        elif isinstance(each, types.UnionType) or get_origin(each) is typing.Union:
            literals = [inner for inner in get_args(each) if get_origin(inner) is Literal]
            if len(literals) > 1:
                yield tuple(value for inner in literals for value in get_args(inner))


def names_of(kind: Any) -> dict[frozenset[Any], Mapping[str, Json]]:
    """The names of the choices of every enumeration in a type, by the set of its values."""
    found: dict[frozenset[Any], Mapping[str, Json]] = {}
    for each in types_in(kind):
        if isinstance(each, type) and issubclass(each, enum.Enum):
            names = {name: member.value for name, member in each.__members__.items()}
            found[_key(list(names.values()))] = names
    return found


def _key(values: list[Any]) -> frozenset[Any]:
    try:
        return frozenset(values)
    except TypeError:
        return frozenset()


def _same(one: list[Any], second: list[Any]) -> bool:
    return len(one) == len(second) and _key(one) == _key(second) and bool(_key(one))
