"""A made-up model's way with forms: a value that fits a JSON Schema, its facts taken from a text where they are there."""

import hashlib
import random
import re
from collections.abc import Mapping
from datetime import date
from typing import Any

from . import patterns

_DEEP = 6
_MONTHS = ("january", "february", "march", "april", "may", "june", "july", "august", "september", "october",
           "november", "december")  # fmt: skip
_DATE = re.compile(rf"\b(\d{{1,2}})(?:st|nd|rd|th)?\s+({'|'.join(_MONTHS)})\b", re.IGNORECASE)
_NUMBER = re.compile(r"(?<![\w.])-?\d+(?:\.\d+)?")
_RATIO = re.compile(r"(\d+)\s+(?:of|out of|from)\s+(\d+)")
_CROPS = ("broad bean", "runner bean", "climbing bean", "french bean", "tomato", "carrot", "lettuce", "garlic", "onion",
          "beetroot", "parsnip", "leek", "kale", "chard", "radish", "pea", "bean")  # fmt: skip
_ROOM = "additionalProperties"


class Form:
    """Fills one form.

    Args:
        schema: what is wanted.
        text: where its facts are.
        seed: decides what the text does not.
    """

    def __init__(self, schema: Mapping[str, Any], text: str, seed: int | str = 1) -> None:
        self._root = schema
        self._chance = random.Random(hashlib.sha256(f"{seed}/{text}".encode()).digest())
        self.value = self._filled(schema, "", text, 0)

    def _filled(self, schema: Any, name: str, text: str, depth: int) -> Any:
        if not isinstance(schema, Mapping):
            return "anything"
        schema = self._resolved(schema)
        schema = {**_told(schema.get("description")), **schema}
        if "const" in schema:
            return schema["const"]
        if "enum" in schema:
            return self._chosen(schema["enum"], name, text)
        for union in ("anyOf", "oneOf"):
            if union in schema:
                return self._filled(self._branch(schema[union], name, text, depth), name, text, depth)
        kind = schema.get("type")
        if isinstance(kind, list):
            kind = next((each for each in kind if each != "null"), "null")
        if kind is None:
            kind = "object" if "properties" in schema else "array" if "items" in schema else "string"
        return getattr(self, f"_{str(kind).lower()}")(schema, name, text, depth)

    def _resolved(self, schema: Mapping[str, Any]) -> Mapping[str, Any]:
        for _ in range(20):
            if "$ref" in schema:
                target: Any = self._root
                for step in str(schema["$ref"]).lstrip("#/").split("/"):
                    target = target[step.replace("~1", "/").replace("~0", "~")]
                schema = {**target, **{key: value for key, value in schema.items() if key != "$ref"}}
            elif "allOf" in schema:
                merged: dict[str, Any] = {key: value for key, value in schema.items() if key != "allOf"}
                for part in schema["allOf"]:
                    part = self._resolved(part)
                    properties = {**merged.get("properties", {}), **part.get("properties", {})}
                    required = [*merged.get("required", []), *part.get("required", [])]
                    merged = {**merged, **part}
                    if properties:
                        merged |= {"properties": properties, "required": required}
                schema = merged
            else:
                return schema
        return schema

    def _branch(self, branches: list[Any], name: str, text: str, depth: int) -> Any:
        """The branch that fits what the text knows best; null where nothing of it is there and it may be."""
        resolved = [self._resolved(branch) for branch in branches]
        nulls = [branch for branch in resolved if branch.get("type") == "null"]
        others = [branch for branch in resolved if branch.get("type") != "null"]
        if not others or (nulls and (depth >= _DEEP or not self._known(others[0], name, text))):
            return nulls[0] if nulls else resolved[0]
        plain = [branch for branch in others if branch.get("type") not in ("object", "array")]
        if depth >= _DEEP and plain:
            return plain[0]
        found = [branch for branch in others if self._const_in(branch, text)]
        return (found or others)[0]

    def _known(self, schema: Mapping[str, Any], name: str, text: str) -> bool:
        kind = schema.get("type")
        if "enum" in schema:
            return any(_plain(value) in _plain(text) for value in schema["enum"])
        if kind in ("integer", "number"):
            return self._number_in(name, text) is not None
        if kind == "string" and schema.get("format") == "date":
            return bool(_DATE.search(text))
        return True

    def _const_in(self, branch: Mapping[str, Any], text: str) -> bool:
        consts = [self._resolved(each).get("const") for each in branch.get("properties", {}).values()]
        return any(isinstance(const, str) and _plain(const) in _plain(text) for const in consts)

    def _chosen(self, values: list[Any], name: str, text: str) -> Any:
        said = self._said(name, text)
        for source in (said, text):
            found = [value for value in values if source and isinstance(value, str) and _plain(value) in _plain(source)]
            if found:
                return max(found, key=len)
        return self._chance.choice(values)

    def _object(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> dict[str, Any]:
        required = schema.get("required", ())
        found = {
            key: self._filled(inner, key, text, depth + 1)
            for key, inner in schema.get("properties", {}).items()
            if depth < _DEEP or key in required
        }
        for key in required:
            found.setdefault(key, "anything")
        room = schema.get(_ROOM)
        wanted = max(schema.get("minProperties", 0), 1 if isinstance(room, Mapping) and not found else 0)
        while len(found) < wanted:
            inner = room if isinstance(room, Mapping) else {"type": "string"}
            found[f"note{len(found) + 1}"] = self._filled(inner, name, text, depth + 1)
        return found

    def _array(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> list[Any]:
        first = [self._filled(inner, name, text, depth + 1) for inner in schema.get("prefixItems", ())]
        items = schema.get("items", {} if not first else False)
        if items is False:
            return first
        least, most = schema.get("minItems", 0), schema.get("maxItems", 1000)
        lines = [line for line in text.splitlines() if line.strip()] if depth < 3 else []
        if len(lines) < 2 and isinstance(items, Mapping) and self._resolved(items).get("enum"):
            lines = [value for value in map(str, self._resolved(items)["enum"]) if _plain(value) in _plain(text)]
        lines = lines or [text]
        count = max(least, min(most, len(lines), 40)) if depth < _DEEP else least
        found = first
        for place in range(200):
            if len(found) >= count:
                break
            made = self._filled(items, name, lines[place % len(lines)], depth + 1)
            if schema.get("uniqueItems") and made in found:
                made = self._another(items, made, place)
                if made in found:
                    continue
            found.append(made)
        return found

    def _another(self, items: Any, made: Any, place: int) -> Any:
        resolved = self._resolved(items) if isinstance(items, Mapping) else {}
        if "enum" in resolved:
            return resolved["enum"][place % len(resolved["enum"])]
        if isinstance(made, (int, float)) and not isinstance(made, bool):
            return made + place
        return f"{made} {place + 1}" if isinstance(made, str) else made

    def _string(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> str:
        if "pattern" in schema:
            return patterns.matching(schema["pattern"], self._chance)
        told = schema.get("format")
        if told in ("date", "date-time"):
            day = _DATE.search(text)
            when = date(2026, _MONTHS.index(day[2].lower()) + 1, min(int(day[1]), 28)) if day else date(2026, 3, 4)
            return when.isoformat() + ("T08:00:00Z" if told == "date-time" else "")
        fixed = {
            "time": "08:00:00Z",
            "email": "shelf@seed-library.example",
            "uri": "https://seed-library.example/notes",
            "uuid": "00000000-0000-4000-8000-000000000001",
            "ipv4": "127.0.0.1",
            "duration": "P7D",
        }
        found = fixed.get(str(told)) or self._said(name, text) or self._words(name, text)
        least, most = schema.get("minLength", 0), schema.get("maxLength")
        found += " and so on" * ((least - len(found) + 9) // 10 if len(found) < least else 0)
        return found[:most] if most is not None else found

    def _said(self, name: str, text: str) -> str:
        """What stands behind the name of the field in the text, as on a label: ``Depth: 5 cm``."""
        for line in text.splitlines():
            key, colon, said = line.partition(":")
            if colon and name and (_plain(key) in _plain(name) or _plain(name) in _plain(key)) and len(key) < 40:
                return said.strip()
        return ""

    def _words(self, name: str, text: str) -> str:
        if re.search(r"crop|plant|name|species|variety|seed", name, re.IGNORECASE):
            folded = text.lower()
            if found := next((crop for crop in _CROPS if crop in folded), None):
                return found
        place = re.search(r"\bat ([A-Z]\w+(?: [A-Z]\w+)*)", text)
        if place and re.search(r"place|garden|where|town", name, re.IGNORECASE):
            return place[1]
        sentences = [each.strip() for each in re.split(r"(?<=[.!?])\s+|\n", text) if each.strip()]
        return (self._chance.choice(sentences) if sentences else "nothing said")[:120]

    def _integer(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> int:
        return int(self._bounded(schema, name, text, 1))

    def _number(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> float:
        return self._bounded(schema, name, text, 0.5)

    def _bounded(self, schema: Mapping[str, Any], name: str, text: str, step: float) -> float:
        value = self._number_in(name, text)
        if value is None:
            value = float(self._chance.randint(1, 9))
        low = schema.get("minimum")
        high = schema.get("maximum")
        if "exclusiveMinimum" in schema:
            low = max(schema["exclusiveMinimum"] + step, low if low is not None else -1e300)
        if "exclusiveMaximum" in schema:
            high = min(schema["exclusiveMaximum"] - step, high if high is not None else 1e300)
        if low is not None and value < low:
            value = low
        if high is not None and value > high:
            value = high
        if "multipleOf" in schema:
            unit = schema["multipleOf"]
            value = -(-value // unit) * unit
            if high is not None and value > high:
                value -= unit
        return int(value) if float(value).is_integer() else value

    def _number_in(self, name: str, text: str) -> float | None:
        ratio = _RATIO.search(text)
        if ratio and re.search(r"germinat|^up$|came|success|grown", name, re.IGNORECASE):
            return float(ratio[1])
        if ratio and re.search(r"sown|sowed|total|seeds|count|planted", name, re.IGNORECASE):
            return float(ratio[2])
        if numbers := _NUMBER.findall(self._said(name, text)):
            return float(numbers[0])
        rest = _DATE.sub(" ", text)
        numbers = _NUMBER.findall(rest)
        return float(numbers[0]) if numbers else None

    def _boolean(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> bool:
        said = self._said(name, text).lower()
        return said in ("yes", "true") if said else not re.search(r"\b(no|not|none|never|n't)\b", text.lower())

    def _null(self, schema: Mapping[str, Any], name: str, text: str, depth: int) -> None:
        return None


_BOUNDS = "minLength|maxLength|uniqueItems|minProperties|minItems|maxItems|exclusiveMinimum|exclusiveMaximum|minimum|maximum|multipleOf"


def _told(description: Any) -> dict[str, Any]:
    """Bounds that stand in the description, because a strict schema has no place for them."""
    found = re.findall(rf"\b({_BOUNDS}): (-?[\d.]*\d|true)", str(description or ""))
    return {name: True if value == "true" else float(value) if "." in value else int(value) for name, value in found}


def _plain(value: Any) -> str:
    return re.sub(r"[^a-z0-9]+", " ", str(value).lower()).strip()
