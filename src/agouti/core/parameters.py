"""The vocabulary of parameters: the names of the OpenAI-compatible interface, their types and ranges."""

from collections.abc import Mapping, Sequence
from typing import Any, TypedDict

from .chat import Json
from .errors import RequestError


class Parameters(TypedDict, total=False):
    """Parameters of a call. All are optional; what is not given is left to the entry, then to the provider.

    ``max_tokens=None`` and ``-1`` mean no cap of ours.
    """

    temperature: float
    top_p: float
    max_tokens: int | None
    stop: str | list[str]
    seed: int
    n: int
    presence_penalty: float
    frequency_penalty: float
    logit_bias: dict[str, float]
    logprobs: bool
    top_logprobs: int
    user: str
    reasoning_effort: str
    parallel_tool_calls: bool
    response_format: dict[str, Any]
    tools: Sequence[Any]
    tool_choice: str | dict[str, Any]


class _Rule:
    """Which types a parameter takes, and within which bounds."""

    def __init__(
        self, kinds: tuple[type, ...], words: str, low: float | None = None, high: float | None = None
    ) -> None:
        self.kinds = kinds
        self.words = words
        self.low = low
        self.high = high

    def allows(self, value: Json) -> bool:
        if not isinstance(value, self.kinds) or (isinstance(value, bool) and bool not in self.kinds):
            return False
        if not isinstance(value, (int, float)):
            return True
        # Written so that NaN, which compares false with everything, is refused.
        return (self.low is None or value >= self.low) and (self.high is None or value <= self.high)


_NUMBER = (int, float)
_RULES: dict[str, _Rule] = {
    "temperature": _Rule(_NUMBER, "a number from 0 to 2", 0, 2),
    "top_p": _Rule(_NUMBER, "a number from 0 to 1", 0, 1),
    "max_tokens": _Rule((int,), "a whole number from 1, or -1 for no cap", -1),
    "stop": _Rule((str, list), "a text or a list of texts"),
    "seed": _Rule((int,), "a whole number"),
    "n": _Rule((int,), "a whole number from 1", 1),
    "presence_penalty": _Rule(_NUMBER, "a number from -2 to 2", -2, 2),
    "frequency_penalty": _Rule(_NUMBER, "a number from -2 to 2", -2, 2),
    "logit_bias": _Rule((dict,), "a table of token to number"),
    "logprobs": _Rule((bool,), "true or false"),
    "top_logprobs": _Rule((int,), "a whole number from 0 to 20", 0, 20),
    "user": _Rule((str,), "a text"),
    "reasoning_effort": _Rule((str,), "a text such as low, medium or high"),
    "parallel_tool_calls": _Rule((bool,), "true or false"),
    "response_format": _Rule((dict,), "a table with a type"),
    "tools": _Rule((list, tuple), "a list of tools"),
    "tool_choice": _Rule((str, dict), "auto, none, required, or a table that names a function"),
}
NAMES = tuple(_RULES)


def checked(given: Mapping[str, Json]) -> dict[str, Json]:
    """The parameters that are to be sent.

    Raises:
        RequestError: an unknown name, a wrong type, or a value out of range.

    >>> checked({"temperature": 0.2, "max_tokens": -1})
    {'temperature': 0.2}
    """
    kept: dict[str, Json] = {}
    for name, value in given.items():
        rule = _RULES.get(name)
        if rule is None:
            from .near import near_hint

            raise RequestError(
                f"there is no parameter {name!r}",
                hint=near_hint(name, NAMES, "parameter") + " What only this provider knows goes into extra={...}.",
            )
        if name == "max_tokens" and (value is None or value == -1):
            continue
        if not rule.allows(value) or (name == "max_tokens" and value == 0):
            raise RequestError(f"{name} = {value!r} is out of range", hint=f"{name} takes {rule.words}.")
        kept[name] = value
    return kept


def renamed(given: Mapping[str, Json], names: Mapping[str, str]) -> dict[str, Json]:
    """The parameters that a format has, under its own names; a single stop string as a list of one.

    >>> renamed({"seed": 7, "stop": "#", "n": 2}, {"seed": "seed", "stop": "stopSequences"})
    {'seed': 7, 'stopSequences': ['#']}
    """
    found = {theirs: given[ours] for ours, theirs in names.items() if ours in given}
    stop = names.get("stop")
    if stop in found and isinstance(found[stop], str):
        found[stop] = [found[stop]]
    return found
