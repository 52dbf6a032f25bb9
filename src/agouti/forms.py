"""Forms: what a value is to look like, made of a type of the application's own or of a JSON Schema.

pydantic models are read and checked by pydantic; dataclasses, TypedDict, Enum, Literal, lists and plain types by
msgspec, or by pydantic where only that knows them; JSON Schemas by jsonschema. Each is loaded when it is needed.
"""

import inspect
import re
import sys
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any, get_args, get_origin

import msgspec
from msgspec import Struct

from .core.chat import Json
from .core.errors import ConfigError, RequestError
from .core.schema import restored

_WRAP = "value"


class Misfit(Exception):
    """A value does not fit; ``errors`` say where and why, one line each."""

    def __init__(self, errors: tuple[str, ...]) -> None:
        super().__init__("; ".join(errors))
        self.errors = errors


class Form(Struct, frozen=True):
    """What a value is to look like.

    Attributes:
        name: what to call it, in letters, digits, ``_`` and ``-``.
        description: what it is, in words.
        schema: its JSON Schema; always one of an object.
        wrapped: the value itself is the property ``value`` of that object, because providers want objects.
        check: turns a JSON value (not wrapped) into the application's own; raises `Misfit`.
    """

    name: str
    description: str
    schema: dict[str, Any]
    wrapped: bool
    check: Callable[[Json], Any]

    def read(self, value: Json) -> Any:
        """The application's own value of what a model gave.

        Raises:
            Misfit: it does not fit.
        """
        value = restored(value, self.schema)
        if not self.wrapped:
            return self.check(value)
        if isinstance(value, dict) and value.keys() == {_WRAP}:
            return self.check(value[_WRAP])
        # Models leave the wrapping out now and then: no reason to ask again.
        return self.check(value)

    def unwrapped(self, value: Json) -> Json:
        """A value that is still growing, out of its wrapping."""
        return value.get(_WRAP) if self.wrapped and isinstance(value, dict) else value


def form_of(kind: Any) -> Form:
    """The form of a type, or of a JSON Schema.

    Raises:
        RequestError: it cannot be made into one.

    >>> from typing import Literal
    >>> form_of(Literal["sown", "up"]).read({"value": "up"})
    'up'
    """
    if isinstance(kind, Form):
        return kind
    if isinstance(kind, Mapping):
        return _of_schema(dict(kind))
    if inspect.isroutine(kind):
        raise _no_form(kind, TypeError("it is a function"))
    try:
        return _of_type(kind)
    except TypeError as error:
        if "unhashable" in str(error):
            return _of_type.__wrapped__(kind)
        raise


@lru_cache(256)
def _of_type(kind: Any) -> Form:
    schema, check = _by_pydantic(kind) if _needs_pydantic(kind) else _by_msgspec(kind)
    return _form(_name(kind), schema, check)


def _form(name: str, schema: dict[str, Any], check: Callable[[Json], Any]) -> Form:
    description = schema.get("description") or ""
    is_object = schema.get("type") == "object" or "properties" in schema
    if "$ref" in schema and not is_object:
        target = schema.get("$defs", {}).get(str(schema["$ref"]).rpartition("/")[2], {})
        is_object = target.get("type") == "object"
        description = description or target.get("description", "")
        if is_object:
            # Providers want an object at the root, not a reference to one.
            schema = {**target, "$defs": schema["$defs"]}
    if is_object:
        return Form(name, description, schema, False, check)
    inner = {key: value for key, value in schema.items() if key != "$defs"}
    wrapped: dict[str, Any] = {"type": "object", "properties": {_WRAP: inner}, "required": [_WRAP]}
    if "$defs" in schema:
        wrapped["$defs"] = schema["$defs"]
    return Form(name, description, wrapped, True, check)


def _name(kind: Any) -> str:
    own_name = getattr(kind, "__name__", None) if isinstance(kind, type) and not get_args(kind) else None
    return re.sub(r"[^A-Za-z0-9_-]", "_", own_name or "answer")[:64]


def _needs_pydantic(kind: Any) -> bool:
    """Whether a type has anything of pydantic in it; without pydantic loaded, nothing can."""
    if "pydantic" not in sys.modules:
        return False
    seen: set[int] = set()
    ahead = [kind]
    while ahead:
        each = ahead.pop()
        if id(each) in seen:
            continue
        seen.add(id(each))
        if hasattr(each, "__pydantic_core_schema__") or type(each).__module__.startswith(
            ("pydantic", "annotated_types")
        ):
            return True
        ahead += [*get_args(each), *getattr(each, "__metadata__", ())]
        if isinstance(each, type) and get_origin(each) is None:
            ahead += [hint for hint in _hints(each).values() if not isinstance(hint, str)]
    return False


def _hints(kind: type) -> dict[str, Any]:
    from typing import get_type_hints

    try:
        return get_type_hints(kind, include_extras=True)
    except Exception:  # forward references of all kinds: whoever reads the type says what is wrong with it
        return getattr(kind, "__annotations__", {})


def _by_msgspec(kind: Any) -> tuple[dict[str, Any], Callable[[Json], Any]]:
    try:
        schema = msgspec.json.schema(kind)
    except (TypeError, NameError, ValueError) as error:
        try:
            return _by_pydantic(kind)
        except ConfigError:
            raise _no_form(kind, error) from None

    def check(value: Json) -> Any:
        try:
            try:
                return msgspec.convert(value, kind)
            except msgspec.ValidationError:
                # JSON has one kind of number: 3.0 is a whole one.
                return msgspec.convert(_whole_numbers(value), kind)
        except msgspec.ValidationError as error:
            where, _, path = str(error).replace("`", "").partition(" - at $")
            raise Misfit((f"{path.lstrip('.')}: {where}" if path else where,)) from None

    return schema, check


def _whole_numbers(value: Json) -> Json:
    if isinstance(value, dict):
        return {name: _whole_numbers(each) for name, each in value.items()}
    if isinstance(value, list):
        return [_whole_numbers(each) for each in value]
    return int(value) if isinstance(value, float) and value.is_integer() else value


def _by_pydantic(kind: Any) -> tuple[dict[str, Any], Callable[[Json], Any]]:
    try:
        from pydantic import PydanticSchemaGenerationError, PydanticUserError, TypeAdapter, ValidationError
    except ModuleNotFoundError:
        raise ConfigError(
            f"{kind!r} needs pydantic, which is not installed",
            hint="Install it: pip install 'agouti-client[forms]'; or use a dataclass or a TypedDict.",
        ) from None
    try:
        adapter: TypeAdapter[Any] = TypeAdapter(kind)
        schema = adapter.json_schema(mode="validation")
    except (PydanticSchemaGenerationError, PydanticUserError, NameError) as error:
        raise _no_form(kind, error) from None

    def check(value: Json) -> Any:
        try:
            # As from JSON, where a date is a text and a set is an array.
            return adapter.validate_json(msgspec.json.encode(value))
        except ValidationError as error:
            lines = [
                f"{'.'.join(str(step) for step in each['loc'])}: {each['msg']}".removeprefix(": ")
                for each in error.errors(include_url=False, include_context=False, include_input=False)
            ]
            raise Misfit(tuple(lines)) from None

    return schema, check


def _no_form(kind: Any, error: Exception) -> RequestError:
    return RequestError(
        f"{kind!r} cannot be made into a form: {str(error).splitlines()[0]}",
        hint="Take a pydantic model, a dataclass, a TypedDict, an Enum, a Literal, a list of those, or a JSON Schema.",
    )


def _of_schema(schema: dict[str, Any]) -> Form:
    try:
        from jsonschema import SchemaError
        from jsonschema.validators import validator_for
    except ModuleNotFoundError:
        raise ConfigError(
            "values of a JSON Schema are checked by jsonschema, which is not installed",
            hint="Install it: pip install 'agouti-client[forms]'.",
        ) from None
    kind = validator_for(schema)
    try:
        kind.check_schema(schema)
    except SchemaError as error:
        path = "/".join(str(step) for step in error.absolute_path)
        raise RequestError(
            f"the JSON Schema is wrong at {path or 'its root'}: {error.message}", hint="Correct it there."
        ) from None
    if not schema:
        raise RequestError(
            "the JSON Schema is empty: it says nothing of the value", hint='Say its type: {"type": ...}.'
        )
    validator = kind(schema)

    def check(value: Json) -> Any:
        errors = [
            f"{'.'.join(str(step) for step in each.absolute_path)}: {each.message}".removeprefix(": ")[:300]
            for each in validator.iter_errors(value)
        ]
        if errors:
            raise Misfit(tuple(errors))
        return value

    title = schema.get("title")
    name = re.sub(r"[^A-Za-z0-9_-]", "_", title)[:64] if isinstance(title, str) and title else "answer"
    return _form(name, schema, check)
