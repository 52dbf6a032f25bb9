"""Forms: what a value is to look like, made of a type of the application's own or of a JSON Schema.

pydantic models are read and checked by pydantic; dataclasses, TypedDict, Enum, Literal, lists and plain types by
msgspec, or by pydantic where only that knows them; JSON Schemas by jsonschema. Each is loaded when it is needed.
"""

import enum
import inspect
import re
import sys
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping
from dataclasses import fields, is_dataclass
from functools import lru_cache
from typing import Any, TypeVar, get_args, get_origin

import msgspec

from ..core.canonical.chat import Json
from ..core.errors import ConfigError, RequestError
from .form import Form, Misfit, formed
from .patterns import ShortTexts, check_patterns_of_types, patterns_in
from .types import as_written, hints_of, names_of, not_given, resolve_local, types_in, without_hidden

__all__ = ["Form", "Misfit", "form_of"]


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
        from .schemas import of_schema

        return of_schema(dict(kind))
    if (reason := _no_type(kind)) is not None:
        raise _no_form(kind, TypeError(reason))
    try:
        return _of_type(kind)
    except TypeError as error:
        if "unhashable" in str(error):
            return _of_type.__wrapped__(kind)
        raise _no_form(kind, error) from None
    except RecursionError:
        raise _no_form(kind, TypeError("it is nested too deeply")) from None


def item_form(kind: Any) -> Form | None:
    """The form of an item, where the type is a list of those; `None` where it is something else."""
    if isinstance(kind, Mapping):
        items = kind.get("items")
        return form_of({**items, **{k: kind[k] for k in ("$defs", "definitions") if k in kind}}) if items else None
    kind = _unwrapped_type(kind)
    if get_origin(kind) in (list, tuple, set, frozenset) and get_args(kind):
        return form_of(get_args(kind)[0])
    return None


def _unwrapped_type(kind: Any) -> Any:
    """The type within ``Annotated`` and root models, which only say more of it."""
    while True:
        root = getattr(kind, "model_fields", {}).get("root") if isinstance(kind, type) else None
        if hasattr(kind, "__metadata__"):
            kind = get_args(kind)[0]
        elif root is not None and any(each.__name__ == "RootModel" for each in kind.__mro__):
            kind = root.annotation
        else:
            return kind


def _no_type(kind: Any) -> str | None:
    """Why a value cannot be a type at all; `None` where it may be one."""
    if kind is None:
        return "it is None"
    if isinstance(kind, str):
        return "it is a text; a JSON Schema is passed as a dict, a type as itself"
    if inspect.isroutine(kind):
        return "it is a function"
    if isinstance(kind, TypeVar):
        return "it stands for any type: name one, as in TYPE[int]"
    if isinstance(kind, type) and get_origin(kind) is None:
        if issubclass(kind, enum.Enum):
            if not list(kind):
                return "it has no members"
            if not all(isinstance(each.value, (str, int, float, bool, type(None))) for each in kind):
                return "its values are neither texts nor numbers"
        elif kind.__module__ != "builtins" and not _has_fields(kind):
            return "it has no fields"
        return None
    if get_origin(kind) in (Iterable, Iterator, Generator):
        return "it gives its items one by one: take list[...], or stream_fill(...).items()"
    plain_kinds = (int, float, bool, bytes, list, tuple, set)
    if isinstance(kind, plain_kinds) or (not isinstance(kind, type) and hasattr(type(kind), "__dataclass_fields__")):
        return f"it is a value, not a type; pass {type(kind).__name__}"
    return None


def _has_fields(kind: type) -> bool:
    """Whether a class says what is in it, or knows by itself how it is read."""
    if is_dataclass(kind):
        return any(each.init for each in fields(kind))
    if (field_names := getattr(kind, "__struct_fields__", None)) is not None:
        return bool(field_names)
    if (field_names := getattr(kind, "model_fields", None)) is not None:
        return bool(field_names) or getattr(kind, "model_config", {}).get("extra") == "allow"
    known = ("__dataclass_fields__", "__struct_fields__", "__attrs_attrs__", "__get_pydantic_core_schema__", "_fields")
    module = kind.__module__.partition(".")[0]
    stdlib = module in sys.stdlib_module_names and module != "__main__"
    return bool(getattr(kind, "__annotations__", {})) or any(hasattr(kind, name) for name in known) or stdlib


@lru_cache(256)
def _of_type(kind: Any) -> Form:
    resolve_local(kind)
    if _needs_pydantic(kind) or _has_yes_or_no_keys(kind):
        schema, check = _by_pydantic(kind)
        return formed(_name(kind), schema, check, names_of(kind))
    schema, check = _by_msgspec(kind)
    return formed(_name(kind), as_written(schema, kind), check, names_of(kind))


def _has_yes_or_no_keys(kind: Any) -> bool:
    """Whether a table in a type has keys of a kind that only pydantic reads."""
    return any(get_origin(each) is dict and get_args(each)[0] is bool for each in types_in(kind))


def _name(kind: Any) -> str:
    own_name = getattr(kind, "__name__", None) if isinstance(kind, type) and not get_args(kind) else None
    return re.sub(r"[^A-Za-z0-9_-]", "_", own_name or "answer")[:64]


def _needs_pydantic(kind: Any) -> bool:
    """Whether a type has anything of pydantic in it; without pydantic loaded, nothing can."""
    if "pydantic" not in sys.modules:
        return False
    visited: set[int] = set()
    ahead = [kind]
    while ahead:
        each = ahead.pop()
        if id(each) in visited:
            continue
        visited.add(id(each))
        if hasattr(each, "__pydantic_core_schema__") or type(each).__module__.startswith(
            ("pydantic", "annotated_types")
        ):
            return True
        ahead += [*get_args(each), *getattr(each, "__metadata__", ())]
        if isinstance(each, type) and get_origin(each) is None:
            ahead += [hint for hint in hints_of(each).values() if not isinstance(hint, str)]
    return False


def _by_msgspec(kind: Any) -> tuple[dict[str, Any], Callable[[Json], Any]]:
    try:
        schema = msgspec.json.schema(kind)
    except (TypeError, NameError, ValueError, KeyError) as error:  # a KeyError: two types of one name
        try:
            return _by_pydantic(kind)
        except ConfigError:
            raise _no_form(kind, error) from None
    check_patterns_of_types(schema)
    patterned = any(True for _ in patterns_in(schema))
    hidden = any(is_dataclass(each) and not_given(each) for each in types_in(kind))

    def check(value: Json) -> Any:
        if hidden:
            value = without_hidden(value, kind)
        try:
            return _converted(value, kind)
        except msgspec.ValidationError as error:
            raise Misfit(_all_wrong(value, kind, error)) from None

    return schema, ShortTexts(check, schema) if patterned else check


def _converted(value: Json, kind: Any) -> Any:
    try:
        # Keys of JSON are texts, whatever they are to be.
        return msgspec.convert(value, kind, str_keys=True)
    except msgspec.ValidationError:
        # JSON has one kind of number: 3.0 is a whole one.
        return msgspec.convert(_whole_numbers(value), kind, str_keys=True)


def _all_wrong(value: Json, kind: Any, error: msgspec.ValidationError) -> tuple[str, ...]:
    """Everything that does not fit; msgspec itself stops at the first."""
    hints = hints_of(kind) if isinstance(kind, type) and get_origin(kind) is None else {}
    lines: list[str] = []
    if isinstance(value, dict) and hints:
        for name, hint in hints.items():
            if name in value:
                try:
                    _converted(value[name], hint)
                except msgspec.ValidationError as inner:
                    lines.append(_line(inner, name))
                except (TypeError, NameError):
                    continue
    elif isinstance(value, list) and get_origin(kind) in (list, tuple, set, frozenset) and len(get_args(kind)) >= 1:
        for number, each in enumerate(value[:200]):
            try:
                _converted(each, get_args(kind)[0])
            except msgspec.ValidationError as inner:
                lines.append(_line(inner, f"[{number}]"))
            except (TypeError, NameError):
                break
    first = _line(error, "")
    return tuple(lines) if any(first.partition(":")[0] in each for each in lines) else (first, *lines)


def _line(error: msgspec.ValidationError, before: str) -> str:
    problem, _, path = str(error).replace("`", "").partition(" - at $")
    location = f"{before}{path}".lstrip(".")
    return f"{location}: {problem}" if location else problem


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
                f"{'.'.join(str(step) for step in each['loc'])}: {each['msg'][:300]}".removeprefix(": ")
                for each in error.errors(include_url=False, include_context=False, include_input=False)
            ]
            raise Misfit(tuple(lines)) from None

    return schema, check


def _no_form(kind: Any, error: Exception) -> RequestError:
    return RequestError(
        f"{kind!r} cannot be made into a form: {str(error).splitlines()[0]}",
        hint="Take a pydantic model, a dataclass, a TypedDict, an Enum, a Literal, a list of those, or a JSON Schema.",
    )
