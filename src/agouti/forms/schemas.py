"""JSON Schemas as forms: of every draft, references resolved within them and never fetched."""

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from fractions import Fraction
from functools import cache
from typing import Any

from ..core.canonical.chat import Json
from ..core.errors import ConfigError, RequestError
from ..core.schemas.fit import refs_in
from .form import Form, Misfit, formed
from .patterns import InTime, check_patterns, searches

_KEYWORDS = frozenset(
    """
    $ref $defs definitions type enum const properties required additionalProperties patternProperties items prefixItems
    anyOf oneOf allOf not if then else minimum maximum exclusiveMinimum exclusiveMaximum multipleOf minLength maxLength
    pattern format minItems maxItems uniqueItems contains minProperties maxProperties propertyNames dependentRequired
    """.split()  # noqa: SIM905 - a list of as many lines is read by nobody
)


def of_schema(schema: dict[str, Any]) -> Form:
    """The form of a JSON Schema.

    Raises:
        RequestError: it is none, or refers to what is not in it.
    """
    try:
        from jsonschema import SchemaError
        from jsonschema.validators import validator_for
        from referencing import Registry
        from referencing.exceptions import Unresolvable
    except ModuleNotFoundError:
        raise ConfigError(
            "values of a JSON Schema are checked by jsonschema, which is not installed",
            hint="Install it: pip install 'agouti-client[forms]'.",
        ) from None
    name, schema = _opened(schema)
    kind = validator_for(schema)
    try:
        kind.check_schema(schema)
    except SchemaError as error:
        path = "/".join(str(step) for step in error.absolute_path)
        raise RequestError(
            f"the JSON Schema is wrong at {path or 'its root'}: {error.message[:200]}", hint="Correct it there."
        ) from None
    except RecursionError:
        raise RequestError("the JSON Schema is nested too deeply", hint="Make it flatter.") from None
    if not schema:
        raise RequestError(
            "the JSON Schema is empty: it says nothing of the value", hint='Say its type: {"type": ...}.'
        )
    if _KEYWORDS.isdisjoint(schema):
        raise RequestError(
            f"this is no JSON Schema, it has none of its words: {', '.join(map(str, schema))[:80]}",
            hint='Write {"type": "object", "properties": {"name": {"type": "string"}}}, or pass a type.',
        )
    _check_references(schema)
    check_patterns(schema)
    # Nothing is fetched: the schema may be a stranger's.
    validator = _bounded(kind)(schema, registry=Registry(), format_checker=kind.FORMAT_CHECKER)

    def check(value: Json) -> Any:
        try:
            errors = [
                f"{'.'.join(str(step) for step in each.absolute_path)}: {each.message}".removeprefix(": ")[:300]
                for each in validator.iter_errors(value)
            ]
        except Unresolvable as error:
            raise Misfit((f"the schema refers to what is not in it: {error}",)) from None
        if errors:
            raise Misfit(tuple(errors))
        return value

    title = schema.get("title")
    if isinstance(title, str) and title:
        name = title
    return formed(re.sub(r"[^A-Za-z0-9_-]", "_", name or "answer")[:64], _in_one_form(schema), InTime(check), {})


@cache
def _bounded(kind: Any) -> Any:
    """A validator whose patterns end in time, and which reckons as people do: 0.3 is three times 0.1."""
    from jsonschema import ValidationError
    from jsonschema.validators import extend

    def pattern(validator: Any, expression: str, value: Json, schema: Json) -> Iterator[Any]:
        if isinstance(value, str) and not searches(expression, value):
            yield ValidationError(f"{value!r} does not match {expression!r}")

    def multiple_of(validator: Any, factor: Any, value: Json, schema: Json) -> Iterator[Any]:
        if isinstance(value, bool) or not isinstance(value, (int, float, Decimal)):
            return
        try:
            # As they are written: in binary 0.1 is a little more than a tenth.
            is_whole = (Fraction(str(value)) / Fraction(str(factor))).denominator == 1
        except (ValueError, ZeroDivisionError):
            is_whole = False
        if not is_whole:
            yield ValidationError(f"{value!r} is not a multiple of {factor!r}")

    return extend(kind, {"pattern": pattern, "multipleOf": multiple_of})


def _opened(schema: dict[str, Any]) -> tuple[str, dict[str, Any]]:
    """A schema out of the wrapping in which providers take it, and the name that it has there."""
    inner = schema.get("json_schema", schema)
    if isinstance(inner, Mapping) and isinstance(inner.get("schema"), Mapping) and "type" not in inner:
        return str(inner.get("name") or ""), dict(inner["schema"])
    return "", schema


def _check_references(schema: dict[str, Any]) -> None:
    known = _identifiers(schema)
    for ref in sorted(_dynamic_references(schema)):
        base, _, fragment = ref.partition("#")
        exists = f"#{fragment}" in known if not fragment.startswith("/") else _is_there(schema, fragment)
        if base or (fragment and not exists):
            raise RequestError(
                f"the JSON Schema refers to {ref[:100]}, which is not in it", hint="Add it, or correct the reference."
            )
    for ref in sorted(refs_in(schema)):
        base, _, fragment = ref.partition("#")
        if base and ref not in known and base not in known:
            raise RequestError(
                f"the JSON Schema refers to {ref[:100]}, which is not in it",
                hint="References are not fetched: put it into $defs and write #/$defs/NAME.",
            )
        if not base and fragment.startswith("/") and not _is_there(schema, fragment):
            raise RequestError(
                f"the JSON Schema refers to {ref[:100]}, which is not in it", hint="Add it, or correct the reference."
            )
        if not base and fragment and not fragment.startswith("/") and f"#{fragment}" not in known:
            raise RequestError(
                f"the JSON Schema refers to {ref[:100]}, which is not in it", hint="Add it, or correct the reference."
            )


def _dynamic_references(schema: Any) -> set[str]:
    found: set[str] = set()
    ahead = [schema]
    while ahead:
        each = ahead.pop()
        if isinstance(each, Mapping):
            found |= {each[name] for name in ("$dynamicRef", "$recursiveRef") if isinstance(each.get(name), str)}
            ahead += [inner for name, inner in each.items() if name not in ("enum", "const", "default")]
        elif isinstance(each, list):
            ahead += each
    return found


def _identifiers(schema: Any) -> set[str]:
    """What parts of a schema can be referred to by name."""
    found: set[str] = set()
    ahead = [schema]
    while ahead:
        each = ahead.pop()
        if isinstance(each, Mapping):
            for name in ("$id", "id", "$anchor", "$dynamicAnchor"):
                if isinstance(each.get(name), str):
                    found.add(each[name].rstrip("#") if name in ("$id", "id") else f"#{each[name]}")
            ahead += [inner for name, inner in each.items() if name not in ("enum", "const", "default")]
        elif isinstance(each, list):
            ahead += each
    return found


def _is_there(schema: Any, pointer: str) -> bool:
    from urllib.parse import unquote

    for step in unquote(pointer).split("/")[1:]:
        step = step.replace("~1", "/").replace("~0", "~")
        if isinstance(schema, Mapping) and step in schema:
            schema = schema[step]
        elif isinstance(schema, list) and step.isdigit() and int(step) < len(schema):
            schema = schema[int(step)]
        else:
            return False
    return True


def _in_one_form(schema: dict[str, Any]) -> dict[str, Any]:
    """The schema with its definitions in ``$defs``, where references find them however it is wrapped."""
    defs: dict[str, Any] = {**schema.get("definitions", {}), **schema.get("$defs", {})}
    renamed = _renamed(
        {name: each for name, each in schema.items() if name not in ("definitions", "$defs")}, defs, schema
    )
    done: dict[str, Any] = {}
    while len(done) < len(defs):
        for name in [each for each in defs if each not in done]:
            done[name] = _renamed(defs[name], defs, schema)
    return {**renamed, "$defs": done} if done else renamed


def _renamed(value: Any, defs: dict[str, Any], root: dict[str, Any]) -> Any:
    if isinstance(value, list):
        return [_renamed(each, defs, root) for each in value]
    if not isinstance(value, Mapping):
        return value
    merged: dict[str, Any] = {}
    for name, each in value.items():
        if name == "$ref" and isinstance(each, str):
            merged[name] = _reference(each, defs, root)
        else:
            merged[name] = each if name in ("enum", "const", "default") else _renamed(each, defs, root)
    return merged


def _reference(ref: str, defs: dict[str, Any], root: dict[str, Any]) -> str:
    """The same reference into ``$defs``; what else is pointed at gets an entry there."""
    for start in ("#/definitions/", "#/$defs/"):
        if ref.startswith(start) and "/" not in ref[len(start) :]:
            return f"#/$defs/{ref[len(start) :]}"
    if ref == "#":
        # The root refers to itself: as an entry it can be wrapped.
        defs.setdefault("root", {name: each for name, each in root.items() if name not in ("$defs", "definitions")})
        return "#/$defs/root"
    if not ref.startswith("#/"):
        return ref
    target: Any = root
    for step in ref[2:].split("/"):
        step = step.replace("~1", "/").replace("~0", "~")
        target = target[int(step)] if isinstance(target, list) else target[step]
    name = re.sub(r"\W+", "_", ref[2:])
    defs.setdefault(name, target)
    return f"#/$defs/{name}"
