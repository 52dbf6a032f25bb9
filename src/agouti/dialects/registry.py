"""Dialects by name and by address. A module is imported when its dialect is first asked for."""

import re
from importlib import import_module

from msgspec import Struct

from ..core.errors import ConfigError
from ..core.http.address import Address, Match, parse
from ..core.text.suggest import near_hint
from .base import Dialect, complete


class _Row(Struct, frozen=True):
    """A dialect that comes with Agouti: its class, and the last words of its operations' paths.

    The words only spare loading every module to look at an address: the dialect itself says which paths are its own.
    """

    module: str
    attribute: str
    words: tuple[str, ...]


_CONTENTS = ("generateContent", "streamGenerateContent", "embedContent", "batchEmbedContents", "countTokens")
# The first whose path fits an address is the one that it is taken for.
_BUILT_IN = {
    "chat": _Row(".chat.dialect", "ChatDialect", ("completions", "embeddings", "models")),
    "messages": _Row(".messages.dialect", "MessagesDialect", ("messages", "count_tokens")),
    "prompt": _Row(".prompt.dialect", "PromptDialect", ("completions",)),
    "responses": _Row(".responses.dialect", "ResponsesDialect", ("responses",)),
    "contents": _Row(".contents.dialect", "ContentsDialect", _CONTENTS),
    "lines": _Row(".lines", "LinesDialect", ("chat", "generate", "tags", "embed", "show", "version")),
    "predict": _Row(".predict", "PredictDialect", ("predict",)),
    "jobs": _Row(".jobs", "JobsDialect", ("predictions",)),
    "converse": _Row(".converse.dialect", "ConverseDialect", ("converse", "converse-stream", "invoke")),
}
_GROUP = "agouti.dialects"
DEFAULT = "chat"
"""The dialect of a provider whose entry names none, and whose address does not tell."""


def names() -> tuple[str, ...]:
    """The names of the dialects that come with Agouti."""
    return tuple(_BUILT_IN)


def brought() -> tuple[str, ...]:
    """The names of the dialects that installed packages bring; none of those packages is loaded for it."""
    from importlib.metadata import entry_points

    return tuple(plugin.name for plugin in entry_points(group=_GROUP))


def dialect(name: str) -> Dialect:
    """The dialect of that name: one of Agouti's own, or of an installed package's entry point.

    Raises:
        ConfigError: there is none, or the package that has it cannot be used.
    """
    row = _BUILT_IN.get(name)
    if row is not None:
        dialect: Dialect = getattr(import_module(row.module, __package__), row.attribute)()
        return dialect
    from importlib.metadata import entry_points

    plugins = {plugin.name: plugin for plugin in entry_points(group=_GROUP)}
    if name not in plugins:
        raise ConfigError(f"there is no dialect {name!r}", hint=near_hint(name, [*_BUILT_IN, *plugins], "dialect"))
    plugin = plugins[name]
    try:
        dialect = plugin.load()()
    except Exception as error:  # whatever a package of somebody else's does when it is loaded
        raise ConfigError(
            f"dialect {name!r} cannot be loaded from {plugin.value} ({type(error).__name__}: {error})",
            hint="Update or remove the package that brings it.",
        ) from error
    if missing := complete(dialect):
        raise ConfigError(
            f"dialect {name!r} from {plugin.value} has no {', '.join(missing)}",
            hint="Inherit from agouti.dialects.api.Dialect, and check it with agouti.testing.contract.check_dialect.",
        )
    return dialect


def parse_address(text: str, name: str = "") -> Address:
    """The parts of a pasted address; its path may be that of an operation.

    Args:
        name: the dialect that an entry names; without one, those that come with Agouti are tried in turn.

    Raises:
        ConfigError: it is no http or https address.

    >>> parse_address("https://api.northbank.example/v1/chat/completions").base
    'https://api.northbank.example/v1'
    """

    def find(path: str) -> Match | None:
        last = re.split("[/:]", path)[-1]
        if re.fullmatch(r"v\d\w*", last):
            return None  # most addresses are bases, and end in a version
        candidates = [name] if name else [each for each, row in _BUILT_IN.items() if last in row.words]
        for each in candidates:
            for ending in dialect(each).abilities.endings:
                if re.search(f"{ending.pattern}$", path):
                    return Match(ending, each)
        return None

    return parse(text, find)
