"""A form: what a value is to look like, and how it is read of what a model gave."""

from collections.abc import Callable
from typing import Any

from msgspec import Struct

from ..core.canonical.chat import Json
from ..core.schemas.fit import refs_in, restored
from ..core.schemas.values import Names, readings, without_long_numbers

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
        names: the names of the choices of its enumerations.
    """

    name: str
    description: str
    schema: dict[str, Any]
    wrapped: bool
    check: Callable[[Json], Any]
    names: Names = {}

    def read(self, value: Json) -> Any:
        """The application's own value of what a model gave.

        Raises:
            Misfit: it does not fit.
        """
        inner = self._inner()
        if self.wrapped and isinstance(value, dict) and value.keys() == {_WRAP}:
            value = value[_WRAP]
        # Models leave the wrapping out now and then: no reason to ask again.
        value = without_long_numbers(value, inner, self.schema)
        try:
            return self.check(value)
        except Misfit as misfit:
            # A closed schema makes models give null for what may be left out.
            without_nulls = restored(value, inner, self.schema)
            if without_nulls == value:
                raise
            try:
                return self.check(without_nulls)
            except Misfit:
                raise misfit from None

    def read_leniently(self, value: Json) -> tuple[Any, str]:
        """The value of another reading of what a model gave, and what was done to it.

        Raises:
            Misfit: there is none that fits, or several.
        """
        misfit = Misfit(("it does not fit",))
        for reading, note in readings(value, self.schema, self.names):
            try:
                return self.read(reading), note
            except Misfit as error:
                misfit = error
        raise misfit

    def _inner(self) -> dict[str, Any]:
        inner: dict[str, Any] = self.schema["properties"][_WRAP] if self.wrapped else self.schema
        return inner

    def unwrapped(self, value: Json) -> Json:
        """A value that is still growing, out of its wrapping."""
        return value.get(_WRAP) if self.wrapped and isinstance(value, dict) else value


def formed(name: str, schema: dict[str, Any], check: Callable[[Json], Any], names: Names) -> Form:
    """The form of a schema: one of an object, around the value where that is none."""
    check = _guarded(check)
    description = schema.get("description") or ""
    is_object = schema.get("type", "object" if "properties" in schema else None) == "object"
    if "$ref" in schema and not is_object:
        target = schema.get("$defs", {}).get(str(schema["$ref"]).rpartition("/")[2], {})
        is_object = target.get("type") == "object"
        description = description or target.get("description", "")
        if is_object:
            # Providers want an object at the root, not a reference to one.
            schema = {**target, "$defs": schema["$defs"]}
    if is_object:
        return Form(name, description, _without_unused(schema), False, check, names)
    inner = {key: value for key, value in schema.items() if key != "$defs"}
    wrapped: dict[str, Any] = {"type": "object", "properties": {_WRAP: inner}, "required": [_WRAP]}
    if "$defs" in schema:
        wrapped["$defs"] = schema["$defs"]
    return Form(name, description, wrapped, True, check, names)


def _without_unused(schema: dict[str, Any]) -> dict[str, Any]:
    """The schema without definitions that nothing refers to: they would be sent with every request."""
    defs = schema.get("$defs")
    if not isinstance(defs, dict):
        return schema
    used = {ref.rpartition("/")[2] for ref in refs_in({name: each for name, each in schema.items() if name != "$defs"})}
    ahead = list(used)
    while ahead:
        for ref in refs_in(defs.get(ahead.pop(), {})):
            if (name := ref.rpartition("/")[2]) not in used:
                used.add(name)
                ahead.append(name)
    used_defs = {name: each for name, each in defs.items() if name in used}
    schema_rest = {name: each for name, each in schema.items() if name != "$defs"}
    return {**schema_rest, "$defs": used_defs} if used_defs else schema_rest


def _check_letters(value: Json) -> None:
    """See that no text holds half of a letter: nothing could write it down.

    Raises:
        Misfit: one does.
    """
    if isinstance(value, str) and not value.isascii():
        try:
            value.encode()
        except UnicodeEncodeError:
            raise Misfit(("a text holds half of a letter",)) from None
    elif isinstance(value, list):
        for each in value:
            _check_letters(each)
    elif isinstance(value, dict):
        for name, each in value.items():
            _check_letters(name)
            _check_letters(each)


class Defect(Misfit):
    """A validator of the application has failed, by its own fault and not the value's; ``__cause__`` says how."""


def _guarded(check: Callable[[Json], Any]) -> Callable[[Json], Any]:
    """The check, and what an application's own validators raise as a misfit: the answer has been paid.

    ``ValueError`` and ``AssertionError`` say that a value does not fit; anything else is a defect of the validator,
    which no other answer would mend.
    """

    def guarded(value: Json) -> Any:
        try:
            _check_letters(value)
            return check(value)
        except Misfit:
            raise
        except Exception as error:
            message = " ".join(str(error).split())[:200]
            fits_not = isinstance(error, (ValueError, AssertionError))
            raise (Misfit if fits_not else Defect)((f"{type(error).__name__}: {message}",)) from error

    return guarded
