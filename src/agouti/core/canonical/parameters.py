"""The vocabulary of parameters: the names of the OpenAI-compatible interface, their types and ranges."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from ..errors import RequestError
from .chat import Json


class Parameter(Struct, frozen=True):
    """One parameter: what it takes, in types and in words.

    Attributes:
        kinds: Python types of its values.
        words: what it takes, for error messages.
        low, high: its bounds, both allowed; `None` where there is none.
        sample: a value that asks for something: the contract of a dialect sends it.
        neutral: the value that asks for nothing, so that no format need have it; `None` where there is none.
        off: a value that asks for nothing where a format lacks the parameter, but for something where it has it.
    """

    name: str
    kinds: tuple[type, ...]
    words: str
    sample: Json
    low: float | None = None
    high: float | None = None
    neutral: Json = None
    off: Json = None

    def allows(self, value: Json) -> bool:
        """Whether a value can be sent."""
        if not isinstance(value, self.kinds) or (isinstance(value, bool) and bool not in self.kinds):
            return False
        if not isinstance(value, (int, float)):
            return True
        # Written so that NaN, which compares false with everything, is refused.
        return (self.low is None or value >= self.low) and (self.high is None or value <= self.high)


CAPS = ("max_tokens", "max_completion_tokens")
"""The two names of the cap on tokens of the answer."""

_NUMBER = (int, float)
_TOOL = {"type": "function", "function": {"name": "lamp", "parameters": {"type": "object", "properties": {}}}}
_SCHEMA = {"type": "json_schema", "json_schema": {"name": "lamp", "schema": {"type": "object", "properties": {}}}}
_ROWS = (
    Parameter("temperature", _NUMBER, "a number from 0 to 5", 0.5, 0, 5),
    Parameter("top_p", _NUMBER, "a number from 0 to 1", 0.5, 0, 1),
    Parameter("max_tokens", (int,), "a whole number from 1, or -1 for no cap", 7, 1),
    Parameter("max_completion_tokens", (int,), "a whole number from 1, or -1 for no cap", 7, 1),
    Parameter("stop", (str, list), "a text or a list of texts", ["#"], neutral=[]),
    Parameter("seed", (int,), "a whole number", 7),
    Parameter("n", (int,), "a whole number from 1", 2, 1, neutral=1),
    Parameter("presence_penalty", _NUMBER, "a number from -2 to 2", 0.5, -2, 2, neutral=0),
    Parameter("frequency_penalty", _NUMBER, "a number from -2 to 2", 0.5, -2, 2, neutral=0),
    Parameter("top_k", (int,), "a whole number from 0", 40, 0),
    Parameter("min_p", _NUMBER, "a number from 0 to 1", 0.05, 0, 1, neutral=0),
    Parameter("repetition_penalty", _NUMBER, "a number from 0; 1 is none", 1.1, 0, neutral=1),
    Parameter("context_size", (int,), "a whole number of tokens from 1", 8192, 1),
    Parameter("logit_bias", (dict, list), "a table of token to number", {"50256": -100}, neutral={}),
    Parameter("logprobs", (bool,), "true or false", True, neutral=False),
    Parameter("top_logprobs", (int,), "a whole number from 0 to 200", 2, 0, 200, neutral=0),
    Parameter("user", (str,), "a text", "grower-7"),
    Parameter("safety_identifier", (str,), "a text", "grower-7"),
    Parameter("reasoning_effort", (str,), "a text such as low, medium or high", "high", off="none"),
    Parameter("reasoning_budget", (int,), "a whole number of tokens from 0", 2048, 0, off=0),
    Parameter("verbosity", (str,), "a text such as low, medium or high", "low", neutral="medium"),
    Parameter("modalities", (list,), "a list such as text, audio, image", ["text", "audio"], neutral=["text"]),
    Parameter("audio", (dict,), "a table with voice and format", {"voice": "wren", "format": "wav"}),
    Parameter("prediction", (dict,), "a table with the expected answer", {"type": "content", "content": "Peas."}),
    Parameter("web_search_options", (dict,), "a table", {"search_context_size": "low"}),
    Parameter("store", (bool,), "true or false", True, off=False),
    Parameter("metadata", (dict,), "a table of texts", {"user_id": "grower-7"}, neutral={}),
    Parameter("service_tier", (str,), "a text such as auto or default", "default", neutral="auto"),
    Parameter("prompt_cache_key", (str,), "a text", "almanac-7"),
    Parameter("previous_response_id", (str,), "the id of a reply", "reply-7"),
    Parameter("stream_options", (dict,), "a table such as include_usage = true", {"include_usage": False}),
    Parameter("parallel_tool_calls", (bool,), "true or false", False, neutral=True),
    Parameter("response_format", (dict,), "a table with a type", _SCHEMA, neutral={"type": "text"}),
    Parameter("tools", (list, tuple), "a list of tools", [_TOOL], neutral=[]),
    Parameter(
        "tool_choice", (str, dict), "auto, none, required, or a table that names a function", "required", neutral="auto"
    ),
)
PARAMETERS: dict[str, Parameter] = {row.name: row for row in _ROWS}
NAMES = tuple(PARAMETERS)


def checked(values: Mapping[str, Json]) -> dict[str, Json]:
    """The parameters of a call or an entry; `None` stands for one that is not to be sent.

    Raises:
        RequestError: an unknown name, a wrong type, or a value out of range.

    >>> checked({"temperature": 0.2, "max_tokens": -1})
    {'temperature': 0.2, 'max_tokens': None}
    """
    parameters: dict[str, Json] = {}
    for name, value in values.items():
        rule = PARAMETERS.get(name)
        if rule is None:
            raise unknown(name, NAMES)
        if value is None or (name in CAPS and value == -1 and not isinstance(value, bool)):
            parameters[name] = None
        elif rule.allows(value):
            parameters[name] = value
        else:
            raise RequestError(f"{name} = {value!r} is out of range", hint=f"{name} takes {rule.words}.")
    if parameters.get("max_tokens") is not None and parameters.get("max_completion_tokens") is not None:
        raise RequestError("max_tokens and max_completion_tokens are one cap", hint="Give one of them.")
    return parameters


def is_neutral(name: str, value: Json) -> bool:
    """Whether a parameter asks for nothing, as frameworks send them.

    >>> is_neutral("n", 1), is_neutral("presence_penalty", 0.0), is_neutral("n", 2), is_neutral("user", "grower-7")
    (True, True, False, False)
    """
    rule = PARAMETERS.get(name)
    return rule is not None and rule.neutral is not None and bool(value == rule.neutral)


def asks_nothing(name: str, value: Json) -> bool:
    """Whether a parameter asks for nothing of a format that lacks it.

    >>> asks_nothing("store", False), asks_nothing("reasoning_effort", "none"), asks_nothing("seed", 7)
    (True, True, False)
    """
    rule = PARAMETERS.get(name)
    return is_neutral(name, value) or (rule is not None and rule.off is not None and bool(value == rule.off))


def unknown(name: str, names: Sequence[str]) -> RequestError:
    """The error for an option that there is not; says which one was meant."""
    from ..text.suggest import near_hint

    return RequestError(
        f"there is no parameter {name!r}",
        hint=near_hint(name, names, "parameter") + " What only this provider knows goes into extra={...}.",
    )


def merged(defaults: Mapping[str, Json], values: Mapping[str, Json]) -> dict[str, Json]:
    """The parameters that are to be sent: those of a call over those of its entry, both checked.

    >>> merged({"max_tokens": 400, "seed": 7}, {"max_completion_tokens": 5, "seed": None})
    {'max_completion_tokens': 5}
    """
    if defaults:
        over = {**defaults, **values}
        for name, twin in (CAPS, CAPS[::-1]):
            if name in values and twin not in values:
                over.pop(twin, None)
        values = over
    return {name: value for name, value in values.items() if value is not None}
