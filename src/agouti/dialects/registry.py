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
    "predict": ("agouti.dialects.predict", "PredictDialect"),
    "jobs": ("agouti.dialects.jobs", "JobsDialect"),
    "converse": ("agouti.dialects.converse", "ConverseDialect"),
}


_GROUP = "agouti.dialects"


def names() -> tuple[str, ...]:
    """The names of the dialects that come with Agouti."""
    return tuple(_BUILT_IN)


def dialect(name: str) -> Dialect:
    """The dialect of that name: one of Agouti's own, or of an installed package's entry point.

    Raises:
        ConfigError: there is none, or the package that has it cannot be used.
    """
    if name in _BUILT_IN:
        module, attribute = _BUILT_IN[name]
        found: Dialect = getattr(import_module(module), attribute)()
        return found
    from importlib.metadata import entry_points

    plugins = {plugin.name: plugin for plugin in entry_points(group=_GROUP)}
    if name not in plugins:
        raise ConfigError(f"there is no dialect {name!r}", hint=near_hint(name, [*_BUILT_IN, *plugins], "dialect"))
    plugin = plugins[name]
    try:
        made: Dialect = plugin.load()()
    except Exception as error:  # whatever a package of somebody else's does when it is loaded
        raise ConfigError(
            f"dialect {name!r} cannot be loaded from {plugin.value} ({type(error).__name__}: {error})",
            hint="Update or remove the package that brings it.",
        ) from error
    lacking = [
        each
        for each in ("takes", "encode_chat", "decode_chat", "stream_decoder", "classify")
        if not hasattr(made, each)
    ]
    if lacking:
        raise ConfigError(
            f"dialect {name!r} from {plugin.value} has no {', '.join(lacking)}",
            hint="See agouti.dialects.base.Dialect, and check it with agouti.testing.contract.check_dialect.",
        )
    return made
