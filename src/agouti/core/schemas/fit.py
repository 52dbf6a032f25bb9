"""JSON Schemas fitted to what a provider takes, and values fitted back to what was meant.

Four styles: ``closed`` (every object closed, every property required, only keywords that strict providers
know), ``bare`` (the same without bounds of numbers and lists), ``inlined`` (no references but those that go in
a circle) and ``open`` (as it is). What a style cannot say as a keyword it says in the description, so that the
model still reads it.
"""

from collections.abc import Mapping
from typing import Any, Literal, TypeAlias

import msgspec

from ..canonical.chat import Json

Style: TypeAlias = Literal["closed", "bare", "inlined", "open"]
Schema: TypeAlias = dict[str, Any]

# What the strict form of JSON Schema has. The stand-ins have their own list, which is a second opinion.
_STRICT = frozenset(
    [
        "type",
        "properties",
        "required",
        "additionalProperties",
        "items",
        "enum",
        "const",
        "anyOf",
        "$ref",
        "$defs",
        "description",
        "title",
        "pattern",
        "format",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "multipleOf",
        "minItems",
        "maxItems",
    ]
)
_FORMATS = frozenset(["date-time", "time", "date", "duration", "email", "hostname", "ipv4", "ipv6", "uuid"])
_BOUNDS = frozenset(["minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "maxItems"])
# Said of the schema, not of the value.
_NOTES = frozenset(["$schema", "$id", "$anchor", "$comment", "discriminator", "examples", "readOnly", "writeOnly"])
_UNIONS = ("anyOf", "oneOf")


def fitted(schema: Mapping[str, Any], style: Style) -> tuple[Schema, bool]:
    """The schema in a style, and whether it could be made so in full.

    A schema that a strict provider cannot take (open tables, values of any kind) comes back as it is, with `False`.

    >>> schema = {"type": "object", "properties": {"crop": {"type": "string", "minLength": 2}}}
    >>> fitted(schema, "closed")[0]["properties"]["crop"]
    {'anyOf': [{'type': 'string', 'description': 'minLength: 2'}, {'type': 'null'}]}
    """
    core_schema = _without_notes(dict(schema))
    if style == "open":
        return core_schema, True
    inlined = _inlined(core_schema, core_schema, ())
    if style == "inlined":
        circular = _circular(core_schema)
        reduced = {
            name: _inlined(each, core_schema, ())
            for name, each in core_schema.get("$defs", {}).items()
            if f"#/$defs/{name}" in circular
        }
        return ({**inlined, "$defs": reduced} if reduced and refs_in(inlined) else inlined), True
    try:
        closed = _closed(core_schema, core_schema)
    except _NotClosed:
        return core_schema, False
    if closed.get("type") != "object":
        return core_schema, False
    return (_without_siblings(closed) if style == "bare" else closed), True


def restored(value: Json, schema: Mapping[str, Any], root: Mapping[str, Any] | None = None) -> Json:
    """A value without the nulls that a closed schema had demanded where the real one has an optional property.

    >>> restored({"crop": None, "seeds": 3}, {"type": "object", "properties": {"crop": {"type": "string"}}})
    {'seeds': 3}
    """
    root = schema if root is None else root
    schema = resolved(schema, root)
    if isinstance(value, list):
        first = schema.get("prefixItems", ())
        items = schema.get("items", {})
        return [
            restored(each, _dict(first[index] if index < len(first) else items), root)
            for index, each in enumerate(value)
        ]
    if not isinstance(value, dict):
        return value
    schema = branch_of(value, schema, root)
    properties, required = schema.get("properties", {}), schema.get("required", ())
    further_properties = _dict(schema.get("additionalProperties"))
    result = {}
    for name, each in value.items():
        inner = _dict(properties.get(name, further_properties))
        if each is None and name not in required and name in properties and not _takes_null(inner, root):
            continue
        result[name] = restored(each, inner, root)
    return result


def branch_of(value: Mapping[str, Any], schema: Mapping[str, Any], root: Mapping[str, Any]) -> Mapping[str, Any]:
    """The branch of a union that an object is of: by its constants first, by the names of its properties then."""
    branches = [resolved(_dict(each), root) for union in _UNIONS for each in schema.get(union, ())]
    if not branches:
        return schema
    decided = [each for each in branches if each.get("properties") and _has_constants(value, each, root)]
    fitting = [each for each in decided or branches if value.keys() <= each.get("properties", {}).keys()]
    return (fitting or decided or [schema])[0]


def _has_constants(value: Mapping[str, Any], schema: Mapping[str, Any], root: Mapping[str, Any]) -> bool:
    """Whether an object has what tells this branch from the others, and nothing that speaks against it."""
    found = False
    for name, each in schema["properties"].items():
        inner = resolved(_dict(each), root)
        allowed = [inner["const"]] if "const" in inner else inner.get("enum")
        if allowed is not None and name in value:
            if value[name] not in allowed:
                return False
            found = True
    return found


class _NotClosed(Exception):
    """It has an object whose properties are not known."""


def _dict(schema: Any) -> Mapping[str, Any]:
    return schema if isinstance(schema, Mapping) else {}


def _without_notes(schema: Any) -> Any:
    if isinstance(schema, list):
        return [_without_notes(each) for each in schema]
    if not isinstance(schema, dict):
        return schema
    reduced: Schema = {}
    for name, each in schema.items():
        if name in ("properties", "$defs", "definitions", "patternProperties"):
            inner = {key: _without_notes(value) for key, value in each.items()}
            reduced["$defs" if name == "definitions" else name] = inner
        elif name in ("enum", "const", "default", "required"):
            reduced[name] = each
        elif name == "$ref":
            reduced[name] = str(each).replace("#/definitions/", "#/$defs/")
        elif name not in _NOTES:
            reduced[name] = _without_notes(each)
    return reduced


def resolved(schema: Mapping[str, Any], root: Mapping[str, Any]) -> Mapping[str, Any]:
    """What a reference points at, with what stands beside it; parts that all hold as one."""
    for _ in range(50):
        if "$ref" in schema:
            target = _target(str(schema["$ref"]), root)
            schema = {**target, **{name: each for name, each in schema.items() if name != "$ref"}}
        elif "allOf" in schema:
            schema = _merged(schema, root)
        else:
            break
    return schema


def _target(ref: str, root: Mapping[str, Any]) -> Mapping[str, Any]:
    index: Any = root
    for step in ref.lstrip("#").split("/")[1:]:
        index = _dict(index).get(step.replace("~1", "/").replace("~0", "~"), {})
    return _dict(index)


def _merged(schema: Mapping[str, Any], root: Mapping[str, Any]) -> Schema:
    result: Schema = {name: each for name, each in schema.items() if name != "allOf"}
    for part in schema["allOf"]:
        part = resolved(_dict(part), root)
        properties = {**part.get("properties", {}), **result.get("properties", {})}
        required = [*part.get("required", []), *result.get("required", [])]
        result = {**part, **result}
        if properties:
            result |= {"properties": properties, "required": list(dict.fromkeys(required))}
    return result


def _inlined(schema: Any, root: Mapping[str, Any], inside: tuple[str, ...]) -> Any:
    """References replaced by what they point at; those that lead back into themselves stay."""
    if isinstance(schema, list):
        return [_inlined(each, root, inside) for each in schema]
    if not isinstance(schema, Mapping):
        return schema
    ref = schema.get("$ref")
    if ref is not None:
        if ref in inside or ref in _circular(root):
            return dict(schema)
        siblings = {name: each for name, each in schema.items() if name != "$ref"}
        return _inlined({**_target(ref, root), **siblings}, root, (*inside, ref))
    result = {}
    for name, each in schema.items():
        if name == "$defs":
            continue
        if name in ("properties", "patternProperties"):
            result[name] = {key: _inlined(value, root, inside) for key, value in each.items()}
        else:
            result[name] = each if name in ("enum", "const", "default") else _inlined(each, root, inside)
    return result


def _circular(root: Mapping[str, Any]) -> set[str]:
    """The references that lead back into themselves."""
    edges = {f"#/$defs/{name}": refs_in(each) for name, each in root.get("$defs", {}).items()}
    if "#" in refs_in(root):
        edges["#"] = refs_in(root)
    result = set()
    for start in edges:
        visited: set[str] = set()
        ahead = list(edges[start])
        while ahead:
            each = ahead.pop()
            if each not in visited:
                visited.add(each)
                ahead += edges.get(each, ())
        if start in visited:
            result.add(start)
    return result


def refs_in(schema: Any) -> set[str]:
    """The references in a schema."""
    if isinstance(schema, Mapping):
        own_references = {schema["$ref"]} if isinstance(schema.get("$ref"), str) else set()
        return own_references.union(
            *(refs_in(each) for name, each in schema.items() if name not in ("enum", "const", "default"))
        )
    return set().union(*(refs_in(each) for each in schema)) if isinstance(schema, list) else set()


def _closed(schema: Mapping[str, Any], root: Mapping[str, Any]) -> Schema:
    """One schema in the style of strict providers."""
    if "$ref" in schema:
        siblings = schema.keys() - {"$ref", "$defs", "description", "title", "default"}
        result: Schema = {"$ref": schema["$ref"]} if not siblings else _closed(resolved(schema, root), root)
    else:
        result = _closed_here(resolved(schema, root), root)
    if "$defs" in schema:
        result["$defs"] = {name: _closed(_dict(each), root) for name, each in schema["$defs"].items()}
        if "$ref" in result:
            # The root has to be an object itself.
            result = {**_closed_here(resolved({"$ref": result["$ref"]}, root), root), "$defs": result["$defs"]}
    return result


def _closed_here(schema: Mapping[str, Any], root: Mapping[str, Any]) -> Schema:
    if "properties" in schema and isinstance(kinds := schema.get("type"), list) and "null" in kinds:
        return {"anyOf": [_closed_here({**schema, "type": "object"}, root), {"type": "null"}]}
    notes = []
    result: Schema = {}
    for name, each in schema.items():
        if name == "$defs" or (name == "default" and each is None):
            continue
        if name in _UNIONS:
            result["anyOf"] = [_closed(_dict(branch), root) for branch in each]
        elif name == "properties":
            result["properties"] = _closed_properties(schema, root)
        elif name == "items":
            if each in (True, {}) or (isinstance(each, dict) and not each.keys() - {"title", "description"}):
                raise _NotClosed  # of any kind
            result["items"] = _closed(_dict(each), root)
        elif name == "additionalProperties":
            if each is not False and (isinstance(each, Mapping) or "properties" not in schema):
                raise _NotClosed
        elif name in ("patternProperties", "prefixItems", "not", "if"):
            raise _NotClosed
        elif name in _STRICT and (name != "format" or each in _FORMATS):
            result[name] = each
        else:
            notes.append(f"{name}: {msgspec.json.encode(each).decode()}")
    if "enum" in result and "type" not in result and (kinds := {type(each) for each in result["enum"]}):
        # Strict providers want the kind said as well.
        if kinds <= {str}:
            result["type"] = "string"
        elif kinds <= {int}:
            result["type"] = "integer"
    if result.get("type") == "object" or "properties" in result:
        if "properties" not in result and schema.get("additionalProperties") is not False:
            raise _NotClosed
        result.setdefault("properties", {})
        result |= {"type": "object", "additionalProperties": False, "required": list(result["properties"])}
    elif not result.keys() & {"type", "anyOf", "enum", "const", "$ref"}:
        raise _NotClosed  # a value of any kind
    elif result.get("type") == "array" and "items" not in result:
        raise _NotClosed  # a list of any kind
    return _with_words(result, notes)


def _with_words(schema: Schema, notes: list[str]) -> Schema:
    if notes:
        schema["description"] = ". ".join(filter(None, [schema.get("description", ""), *notes]))
    return schema


def _without_siblings(schema: Schema) -> Schema:
    """A closed schema whose bounds are words of its descriptions."""
    result: Schema = {}
    notes = []
    for name, each in schema.items():
        if name in _BOUNDS or (name == "minItems" and each not in (0, 1)):
            notes.append(f"{name}: {msgspec.json.encode(each).decode()}")
        elif name in ("properties", "$defs"):
            result[name] = {key: _without_siblings(inner) for key, inner in each.items()}
        elif name == "anyOf":
            result[name] = [_without_siblings(branch) for branch in each]
        elif name == "items" and isinstance(each, dict):
            result[name] = _without_siblings(each)
        else:
            result[name] = each
    return _with_words(result, notes)


def _closed_properties(schema: Mapping[str, Any], root: Mapping[str, Any]) -> Schema:
    required = schema.get("required", ())
    result = {}
    for name, each in schema["properties"].items():
        inner = _closed(_dict(each), root)
        if name not in required and not _takes_null(_dict(each), root):
            inner = {"anyOf": [inner, {"type": "null"}]}
        result[name] = inner
    return result


def accepts(kind: str, schema: Mapping[str, Any], root: Mapping[str, Any]) -> bool:
    """Whether a schema takes values of a kind of JSON, as far as it says.

    >>> accepts("array", {"anyOf": [{"type": "array"}, {"type": "null"}]}, {}), accepts("array", {"type": "object"}, {})
    (True, False)
    """
    schema = resolved(schema, root)
    types = schema.get("type")
    if types is not None:
        return types == kind or (isinstance(types, list) and kind in types)
    branches = [each for union in _UNIONS for each in schema.get(union, ())]
    if branches:
        return any(accepts(kind, _dict(each), root) for each in branches)
    allowed = [schema["const"]] if "const" in schema else schema.get("enum")
    if allowed is not None:
        return any(isinstance(each, _KINDS.get(kind, ())) for each in allowed)
    return True


_KINDS: dict[str, Any] = {"string": str, "object": dict, "array": list, "boolean": bool, "number": (int, float)}


def _takes_null(schema: Mapping[str, Any], root: Mapping[str, Any]) -> bool:
    schema = resolved(schema, root)
    kind = schema.get("type")
    if kind == "null" or (isinstance(kind, list) and "null" in kind) or None in schema.get("enum", ()):
        return True
    if not schema.keys() - {"title", "description", "default"}:
        return True  # a value of any kind
    return any(_takes_null(_dict(branch), root) for union in _UNIONS for branch in schema.get(union, ()))
