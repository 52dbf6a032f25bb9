"""Dialects by name. A module is imported when its dialect is first asked for."""

from importlib import import_module

from ..core.errors import ConfigError
from ..core.near import near_hint
from .base import Dialect

_BUILT_IN = {
    "chat": ("agouti.dialects.chat", "ChatDialect"),
    "messages": ("agouti.dialects.messages", "MessagesDialect"),
    "prompt": ("agouti.dialects.prompt", "PromptDialect"),
    "responses": ("agouti.dialects.responses", "ResponsesDialect"),
    "contents": ("agouti.dialects.contents", "ContentsDialect"),
    "lines": ("agouti.dialects.lines", "LinesDialect"),
}


def names() -> tuple[str, ...]:
    """The names of all dialects."""
    return tuple(_BUILT_IN)


def dialect(name: str) -> Dialect:
    """The dialect of that name.

    Raises:
        ConfigError: there is none.
    """
    try:
        module, attribute = _BUILT_IN[name]
    except KeyError:
        raise ConfigError(f"there is no dialect {name!r}", hint=near_hint(name, names(), "dialect")) from None
    found: Dialect = getattr(import_module(module), attribute)()
    return found
