"""Tools in the OpenAI-compatible form: which of them are functions, and what they say of it."""

from collections.abc import Mapping
from typing import Any


def function_of(tool: Mapping[str, Any]) -> Mapping[str, Any]:
    """What a tool says of its function, in the nested or the flat form.

    >>> function_of({"type": "function", "function": {"name": "lamp"}})["name"], function_of({"name": "lamp"})["name"]
    ('lamp', 'lamp')
    """
    function: Mapping[str, Any] = tool.get("function") or tool
    return function


def is_function(tool: Mapping[str, Any]) -> bool:
    """Whether a tool is a function; others are the provider's own, and are sent as they are.

    >>> is_function({"type": "function", "function": {"name": "lamp"}}), is_function({"name": "lamp"})
    (True, True)
    >>> is_function({"type": "search_1", "name": "search"}), is_function({"serverSearch": {}})
    (False, False)
    """
    return "function" in tool or tool.get("type", "function" if "name" in tool else None) == "function"
