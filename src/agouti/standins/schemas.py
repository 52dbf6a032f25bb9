"""What strict providers demand of a schema."""

from collections.abc import Mapping
from typing import Any

# The client has a list of its own: the two are written apart, so that an error in one is seen by the other.
_KEYWORDS = frozenset(
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


def strict_complaint(schema: Any, place: str = "") -> str | None:
    """What a strict provider has against a schema: open objects, optional fields, keywords that it does not know.

    >>> strict_complaint({"type": "object", "properties": {"a": {}}, "additionalProperties": False})
    "In context=(), 'required' is required to be supplied and to be an array including every key in properties."
    """
    if not isinstance(schema, Mapping):
        return f"In context=({place}), a schema must be an object."
    if unknown := schema.keys() - _KEYWORDS:
        return f"In context=({place}), {min(unknown)!r} is not permitted."
    if "$ref" in schema and len(schema) > 1 and not schema.keys() <= {"$ref", "$defs"}:
        return f"In context=({place}), $ref cannot have keywords beside it."
    if not place and (schema.get("type") != "object" and "$ref" not in schema):
        return "schema must be an object at its root."
    if schema.get("type") == "object" or "properties" in schema:
        if schema.get("additionalProperties") is not False:
            return f"In context=({place}), 'additionalProperties' is required to be supplied and to be false."
        if set(schema.get("required", ())) != set(schema.get("properties", {})):
            return (
                f"In context=({place}), 'required' is required to be supplied and to be an array "
                "including every key in properties."
            )
    inner = [(name, each) for key in ("properties", "$defs") for name, each in schema.get(key, {}).items()]
    inner += [("items", schema["items"])] if "items" in schema else []
    inner += [(f"anyOf/{number}", each) for number, each in enumerate(schema.get("anyOf", ()))]
    return next((found for name, each in inner if (found := strict_complaint(each, f"{place}/{name}"))), None)
