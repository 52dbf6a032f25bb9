"""Functions that a model may call: their form from type hints and docstring, their arguments checked."""

import functools
import inspect
import json
import math
import re
from collections.abc import AsyncIterator, Callable, Iterable, Mapping
from typing import Any, get_type_hints

import msgspec

from ..core.canonical.chat import Json
from ..core.errors import RequestError
from ..core.messages.tool_json import is_function
from ..core.text.suggest import near_hint
from ..forms.build import Form, Misfit, form_of
from ..forms.plain_values import plain_value, with_items
from ..media import Audio, File, Image

_NAME = re.compile(r"[A-Za-z0-9_-]{1,64}")


class Tool:
    """A function that a model may call, or only its description.

    Args:
        name: letters, digits, ``_`` and ``-``.
        description: what it does and when it is of use: the model goes by it.
        parameters: JSON Schema of an object.
        function: what is run; without one the call comes back to you in ``reply.calls``.
        strict: whether the provider is to hold the model to the schema, where it can.
        hidden: arguments that the application fills, by name; the model is not told of them.

    Raises:
        RequestError: the name is none, or the schema is wrong.

    Example:
        >>> Tool(name="lamp", description="Switch the lamp.", parameters={"type": "object", "properties": {}}).name
        'lamp'
        >>> def days_to_frost(place: str, today: int = 1) -> int:
        ...     '''Days until the last frost of the year.
        ...
        ...     Args:
        ...         place: name of the garden.
        ...     '''
        >>> tool = Tool.of(days_to_frost)
        >>> tool.description, tool.parameters["properties"]["place"]
        ('Days until the last frost of the year.', {'type': 'string', 'description': 'name of the garden.'})
    """

    def __init__(
        self,
        *,
        name: str,
        description: str = "",
        parameters: Mapping[str, Any] | None = None,
        function: Callable[..., Any] | None = None,
        strict: bool | None = None,
        hidden: Mapping[str, Any] | None = None,
    ) -> None:
        if not _NAME.fullmatch(name):
            raise RequestError(
                f"{name!r} is no name of a tool", hint="Names have letters, digits, _ and -, at most 64 of them."
            )
        self.name = name
        self.description = description
        self.parameters: dict[str, Any] = dict(parameters or {"type": "object", "properties": {}})
        self.function = function
        self.strict = strict
        self.hidden: dict[str, Any] = dict(hidden or {})
        self._definition: dict[str, Json] | None = None
        self._forms: dict[str, Form] | None = None
        self._form: Form | None = None
        if self.parameters.get("type") not in ("object", None):
            raise RequestError(
                f"the parameters of {name} are of type {self.parameters['type']!r}",
                hint='They are a JSON Schema of an object: {"type": "object", "properties": {...}}.',
            )

    @classmethod
    def of(
        cls, function: "Callable[..., Any] | Tool | Mapping[str, Any]", *, hidden: Mapping[str, Any] | None = None
    ) -> "Tool":
        """The tool that a function is: a partial one, a method of an object, or a class, whose values it makes.

        Args:
            function: an OpenAI-compatible dict is taken as well.
            hidden: arguments that the application fills, by name; the model is not told of them.

        Raises:
            RequestError: it has parameters that cannot be said in a schema.
        """
        if hidden and (isinstance(function, (Tool, Mapping, type)) or not callable(function)):
            raise RequestError(
                "only a function has arguments that can be hidden", hint="Pass the function, or hidden= to agouti.Tool."
            )
        if isinstance(function, Tool):
            return function
        if isinstance(function, Mapping):
            inner = function.get("function", function)
            name = inner.get("name") if isinstance(inner, Mapping) else None
            if not isinstance(name, str):
                raise RequestError(
                    f"this is no tool: {str(function)[:80]}",
                    hint='A tool is a function, an agouti.Tool, or {"type": "function", "function": {"name": ...}}.',
                )
            tool = cls(name=name, description=inner.get("description") or "", parameters=inner.get("parameters"))
            tool._definition = dict(function)  # marks and whatever else it says go along
            return tool
        if not callable(function):
            raise RequestError(
                f"a tool cannot be a {type(function).__name__}", hint="Pass a function or an agouti.Tool."
            )
        if isinstance(function, type):
            return cls._of_class(function)
        return cls._of_function(function, dict(hidden or {}))

    @classmethod
    def _of_class(cls, kind: type) -> "Tool":
        """A class as a tool: what the model gives is made into one of it."""
        form = form_of(kind)
        if form.wrapped:
            raise RequestError(
                f"{kind.__name__} is no tool: it takes one value, without a name", hint="Pass a function instead."
            )
        described = " ".join((form.description or "").partition("Attributes:")[0].split())
        tool = cls(name=form.name, description=described, parameters=form.schema, function=lambda value: value)
        tool._form = form
        tool._forms = {}
        tool._makes = True
        return tool

    @classmethod
    def _of_function(cls, function: Callable[..., Any], hidden: dict[str, Any]) -> "Tool":
        inner, bound = _unwrapped(function)
        name = getattr(inner, "__name__", type(inner).__name__)
        try:
            hints = get_type_hints(inner if inspect.isroutine(inner) else type(inner).__call__, include_extras=True)
            parameters_of = inspect.signature(function).parameters
        except (NameError, TypeError, ValueError) as error:
            raise RequestError(f"the type hints of {name} cannot be read: {error}", hint="Correct them.") from None
        described, argument_docs = _docstring(inspect.getdoc(inner) or "")
        collected = _Collected(name)
        for parameter in parameters_of.values():
            if parameter.name in hidden or parameter.name in bound:
                continue
            if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD, parameter.POSITIONAL_ONLY):
                raise RequestError(
                    f"{name} takes {parameter}: a model cannot be told what goes there",
                    hint="Give every parameter a name of its own that can be used in a call.",
                )
            if parameter.name == "self" and parameter.annotation is parameter.empty and not collected.properties:
                raise RequestError(
                    f"{name} is a method of a class: it wants an object", hint="Pass that of an object: garden.sow."
                )
            collected.add(parameter, hints, argument_docs.get(parameter.name, ""))
        unknown = [each for each in hidden if each not in parameters_of]
        if unknown:
            raise RequestError(
                f"{name} has no argument {unknown[0]!r} to be hidden", hint=near_hint(unknown[0], parameters_of, "name")
            )
        tool = cls(
            name=name, description=described, parameters=collected.schema, function=function, hidden=hidden or None
        )
        tool._forms = collected.forms
        return tool

    @property
    def as_json(self) -> dict[str, Json]:
        """The tool in the OpenAI-compatible form."""
        if self._definition is not None:
            return self._definition
        function: dict[str, Json] = {"name": self.name, "parameters": self.parameters}
        if self.description:
            function["description"] = self.description
        if self.strict is not None:
            function["strict"] = self.strict
        return {"type": "function", "function": function}

    def read(self, arguments: Json) -> dict[str, Any]:
        """The arguments as the function takes them.

        Raises:
            Misfit: they do not fit; says where and why.
        """
        if not isinstance(arguments, dict):
            raise Misfit(("the arguments are no JSON object",))
        if self._makes and self._form is not None:
            return {"value": self._form.read(arguments)}
        if self._forms is None:
            if self._form is None:
                self._form = form_of(self.parameters)
            loaded: dict[str, Any] = self._form.check(arguments)
            return {**loaded, **self.hidden}
        known, required = self.parameters.get("properties"), self.parameters.get("required", ())
        errors = [f"{name}: there is no such argument" for name in arguments if known is not None and name not in known]
        errors += [f"{name}: is missing" for name in required if name not in arguments]
        values: dict[str, Any] = {}
        for name, value in arguments.items():
            form = self._forms.get(name)
            if value is None and name not in required and form is not None and not _fits(form, None):
                continue  # models send null for what they leave out
            try:
                values[name] = value if form is None else _read(form, value)
            except Misfit as error:
                errors += [f"{name}: {each}" for each in error.errors]
        if errors:
            raise Misfit(tuple(errors))
        return {**values, **self.hidden}

    _makes = False

    def __repr__(self) -> str:
        return f"Tool({self.name!r})"


class _Collected:
    """The parameters of a function, put together to one schema."""

    def __init__(self, name: str) -> None:
        self._name = name
        self.properties: dict[str, Any] = {}
        self._required: list[str] = []
        self._defs: dict[str, Any] = {}
        self.forms: dict[str, Form] = {}

    def add(self, parameter: inspect.Parameter, hints: Mapping[str, Any], description: str) -> None:
        schema: dict[str, Any] = {}
        if parameter.name in hints:
            form = self.forms[parameter.name] = form_of(hints[parameter.name])
            schema = form.schema["properties"]["value"] if form.wrapped else form.schema
            schema = self._with_defs({**form.schema.get("$defs", {}), **schema.get("$defs", {})}, schema)
        if description:
            target = self._defs.get(str(schema.get("$ref", "")).rpartition("/")[2], {})
            # A choice that is referred to is said in place, so that it can have words of its own here.
            schema = {**(target if "enum" in target else schema), "description": description}
        default = parameter.default
        if default is parameter.empty:
            self._required.append(parameter.name)
        elif default is not None and isinstance(default, (str, int, float, bool)) and "default" not in schema:
            schema = {**schema, "default": default}
        self.properties[parameter.name] = schema

    def _with_defs(self, defs: dict[str, Any], schema: dict[str, Any]) -> dict[str, Any]:
        """The schema without its definitions, which go to those of the whole; two of one name stay two."""
        renamed: dict[str, str] = {}
        for name, each in defs.items():
            free, number = name, 1
            while free in self._defs and self._defs[free] != each:
                number += 1
                free = f"{name}_{number}"
            renamed[f"#/$defs/{name}"] = f"#/$defs/{free}"
        for name, each in defs.items():
            self._defs[renamed[f"#/$defs/{name}"].rpartition("/")[2]] = _with_refs(each, renamed)
        schema_rest = {key: value for key, value in schema.items() if key != "$defs"}
        tool: dict[str, Any] = _with_refs(schema_rest, renamed)
        return tool

    @property
    def schema(self) -> dict[str, Any]:
        schema: dict[str, Any] = {"type": "object", "properties": self.properties, "required": self._required}
        return {**schema, "$defs": self._defs} if self._defs else schema


def _with_refs(schema: Any, renamed: Mapping[str, str]) -> Any:
    if isinstance(schema, list):
        return [_with_refs(each, renamed) for each in schema]
    if isinstance(schema, dict):
        return {
            key: renamed.get(value, value) if key == "$ref" and isinstance(value, str) else _with_refs(value, renamed)
            for key, value in schema.items()
        }
    return schema


def _unwrapped(function: Callable[..., Any]) -> tuple[Callable[..., Any], set[str]]:
    """The function within a partial one, and the arguments that it has already."""
    bound: set[str] = set()
    while isinstance(function, functools.partial):
        names = list(inspect.signature(function.func).parameters)
        bound |= {*names[: len(function.args)], *function.keywords}
        function = function.func
    return function, bound


def _read(form: Form, value: Json) -> Any:
    """An argument, also where it has to be read otherwise: as JSON in a text, by the name of a choice."""
    try:
        return form.read(value)
    except Misfit as misfit:
        try:
            return form.read_leniently(value)[0]
        except Misfit:
            raise misfit from None


def _fits(form: Form, value: Json) -> bool:
    try:
        form.check(value)
    except Misfit:
        return False
    return True


def toolbox(tools: object) -> dict[str, Tool]:
    """The functions among tools, by name; those of the provider's own are none of ours to run.

    Raises:
        RequestError: two have one name.
    """
    loaded: dict[str, Tool] = {}
    for each in _several(tools):
        if isinstance(each, Mapping) and not is_function(each):
            continue
        tool = Tool.of(each)
        if tool.name in loaded:
            raise RequestError(f"two tools are called {tool.name!r}", hint="Give one of them another name.")
        loaded[tool.name] = tool
    return loaded


def _several(tools: object) -> list[Any]:
    if isinstance(tools, (str, Mapping, Tool)) or callable(tools) or not isinstance(tools, Iterable):
        raise RequestError(f"tools cannot be a {type(tools).__name__}", hint="Pass a list of functions: tools=[...].")
    return list(tools)


def as_json(tools: object) -> list[Json]:
    """Tools in the OpenAI-compatible form; those that are in it already go as they are, whatever their kind.

    Raises:
        RequestError: two have one name, or one is no tool.
    """
    listed = _several(tools)
    toolbox([each for each in listed if not isinstance(each, Mapping)])
    return [dict(each) if isinstance(each, Mapping) else Tool.of(each).as_json for each in listed]


# More than that is no result that a model can read at once.
RESULT_CHARACTERS = 100_000


def result_text(value: Any) -> "str | list[Json]":
    """What a function gave, as the model reads it: text, JSON of any type, or parts where there are images.

    >>> result_text({"days": 17}), result_text("soon"), result_text(None)
    ('{"days":17}', 'soon', 'done')
    """
    if _is_media(value) or (isinstance(value, (list, tuple)) and any(map(_is_media, value))):
        several = value if isinstance(value, (list, tuple)) else [value]
        return [each.part if _is_media(each) else {"type": "text", "text": _result(each)} for each in several]
    return _result(value)


def _is_media(value: Any) -> bool:
    return isinstance(value, (Audio, File, Image))


def _result(value: Any) -> str:
    text = _as_text(value)
    if len(text) > RESULT_CHARACTERS:
        text = f"{text[:RESULT_CHARACTERS]}\n... (cut here: {len(text)} characters in all)"
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace") if not _is_whole(text) else text


def _is_whole(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def _as_text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if value is None:
        return "done"
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)  # JSON has no such number, and null would say something else
    value = value if isinstance(value, AsyncIterator) else with_items(value)
    try:
        value_json = plain_value(value)
        if isinstance(value_json, str) and not _is_known(value):
            return value_json
        return msgspec.json.encode(value_json).decode()
    except UnicodeEncodeError:
        return json.dumps(plain_value(value))
    except (TypeError, ValueError, OverflowError, RecursionError):
        return str(value)


def _is_known(value: Any) -> bool:
    """Whether it is a value that JSON has, or that is written as one of those."""
    try:
        msgspec.json.encode(value)
    except (TypeError, ValueError, OverflowError):
        return False
    return True


def _docstring(text: str) -> tuple[str, dict[str, str]]:
    """What a docstring says of the function, and of each argument, in whichever of the usual styles."""
    if not text:
        return "", {}
    try:
        from docstring_parser import ParseError, parse
    except ModuleNotFoundError:
        # The words are there all the same, only not sorted.
        return " ".join(text.split()), {}
    try:
        loaded = parse(text)
    except ParseError:
        return " ".join(text.split()), {}
    described = " ".join(filter(None, (loaded.short_description, loaded.long_description)))
    argument_docs = {each.arg_name: " ".join((each.description or "").split()) for each in loaded.params}
    return " ".join(described.split()), {
        name: description for name, description in argument_docs.items() if description
    }
