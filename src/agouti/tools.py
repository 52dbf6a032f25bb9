"""Functions that a model may call: their form from type hints and docstring, their arguments checked."""

import inspect
import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any, get_type_hints

import msgspec

from .core.chat import Json
from .core.errors import RequestError
from .core.tool_json import is_function
from .forms import Form, Misfit, form_of

_NAME = re.compile(r"[A-Za-z0-9_-]{1,64}")


class Tool:
    """A function that a model may call, or only its description.

    Args:
        name: letters, digits, ``_`` and ``-``.
        description: what it does and when it is of use: the model goes by it.
        parameters: JSON Schema of an object.
        function: what is run; without one the call comes back to you in ``reply.calls``.
        strict: whether the provider is to hold the model to the schema, where it can.

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
        self._given: dict[str, Json] | None = None
        self._forms: dict[str, Form] = {}
        self._whole: Form | None = None

    @classmethod
    def of(cls, function: "Callable[..., Any] | Tool | Mapping[str, Any]") -> "Tool":
        """The tool that a function is; an OpenAI-compatible dict is taken as well.

        Raises:
            RequestError: it has parameters that cannot be said in a schema.
        """
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
            made = cls(name=name, description=inner.get("description") or "", parameters=inner.get("parameters"))
            made._given = dict(function)  # marks and whatever else it says go along
            return made
        if not callable(function):
            raise RequestError(
                f"a tool cannot be a {type(function).__name__}", hint="Pass a function or an agouti.Tool."
            )
        return cls._of_function(function)

    @classmethod
    def _of_function(cls, function: Callable[..., Any]) -> "Tool":
        name = getattr(function, "__name__", type(function).__name__)
        try:
            hints = get_type_hints(
                function if inspect.isroutine(function) else type(function).__call__, include_extras=True
            )
        except (NameError, TypeError) as error:
            raise RequestError(f"the type hints of {name} cannot be read: {error}", hint="Correct them.") from None
        described, argument_docs = _docstring(inspect.getdoc(function) or "")
        properties: dict[str, Any] = {}
        required: list[str] = []
        defs: dict[str, Any] = {}
        forms: dict[str, Form] = {}
        for parameter in inspect.signature(function).parameters.values():
            if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD, parameter.POSITIONAL_ONLY):
                raise RequestError(
                    f"{name} takes {parameter}: a model cannot be told what goes there",
                    hint="Give every parameter a name of its own that can be used in a call.",
                )
            schema: dict[str, Any] = {}
            if parameter.name in hints:
                form = forms[parameter.name] = form_of(hints[parameter.name])
                schema = form.schema["properties"]["value"] if form.wrapped else form.schema
                defs |= schema.get("$defs", {}) | form.schema.get("$defs", {})
                schema = {key: value for key, value in schema.items() if key != "$defs"}
            if parameter.name in argument_docs and "$ref" not in schema:
                schema = {**schema, "description": argument_docs[parameter.name]}
            properties[parameter.name] = schema
            if parameter.default is parameter.empty:
                required.append(parameter.name)
        parameters: dict[str, Any] = {"type": "object", "properties": properties, "required": required}
        if defs:
            parameters["$defs"] = defs
        made = cls(name=name, description=described, parameters=parameters, function=function)
        made._forms = forms
        return made

    @property
    def as_json(self) -> dict[str, Json]:
        """The tool in the OpenAI-compatible form."""
        if self._given is not None:
            return self._given
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
        if self.function is None:
            if self._whole is None:
                self._whole = form_of(self.parameters)
            loaded: dict[str, Any] = self._whole.check(arguments)
            return loaded
        known, required = self.parameters.get("properties"), self.parameters.get("required", ())
        errors = [f"{name}: there is no such argument" for name in arguments if known is not None and name not in known]
        errors += [f"{name}: is missing" for name in required if name not in arguments]
        values: dict[str, Any] = {}
        for name, value in arguments.items():
            form = self._forms.get(name)
            if value is None and name not in required and form is not None and not _fits(form, None):
                continue  # models send null for what they leave out
            try:
                values[name] = value if form is None else form.read(value)
            except Misfit as error:
                errors += [f"{name}: {each}" for each in error.errors]
        if errors:
            raise Misfit(tuple(errors))
        return values

    def __repr__(self) -> str:
        return f"Tool({self.name!r})"


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


def result_text(value: Any) -> str:
    """What a function gave, as the model reads it.

    >>> result_text({"days": 17}), result_text("soon"), result_text(None)
    ('{"days":17}', 'soon', 'done')
    """
    if isinstance(value, str):
        return value
    if value is None:
        return "done"
    if hasattr(value, "model_dump_json"):
        return str(value.model_dump_json())
    try:
        return msgspec.json.encode(value).decode()
    except (TypeError, ValueError, OverflowError):
        return str(value)


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
    return " ".join(described.split()), {name: words for name, words in argument_docs.items() if words}
