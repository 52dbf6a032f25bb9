"""Errors of the library, said in the options of the command line."""

import re
from collections.abc import Iterable, Mapping

import click

from ..core.errors import AgoutiError

_PYTHON = re.compile(r"\b([a-z_]+)=(\"[^\"]*\"|'[^']*'|[\w./-]+|\{[^}]*\})")
# Sentences about objects that nobody has who types a command.
_OBJECTS = re.compile(
    r"(?:(?<=[;.])|^)[^;.]*\b(?:error|reply|filled|made|result|client|agouti)\.[a-z_]+(?:\[[^]]*\])?(?:\.\w+)*[^;.]*[;.]?"
)


def in_options(hint: str, options: Mapping[str, str]) -> str:
    """A hint in the words of the command line.

    Args:
        options: the options of the command, by the names that the library has for them.

    >>> options = {"on_overflow": "--on-overflow", "max_cost": "--max-cost"}
    >>> in_options('Pass on_overflow="drop_oldest", or raise max_cost.', options)
    'Pass --on-overflow drop_oldest, or raise --max-cost.'
    """

    def assigned(match: "re.Match[str]") -> str:
        option = options.get(match[1])
        if option is None:
            return match[0]
        return option if match[2] == "True" else f"{option} {match[2].strip(chr(34) + chr(39))}"

    text = _PYTHON.sub(assigned, hint)
    for option in options.values():
        text = text.replace(f"{option} ({option})", option)
    for name, option in options.items():
        if "_" in name:
            text = re.sub(rf"(?<![\w-]){name}(?:=|\b)", option, text)
    if _OBJECTS.search(text):
        text = " ".join(_OBJECTS.sub("", text).split()).strip(" ;")
        text = text if not text or text.endswith((".", "?", "!")) else f"{text}."
    return text


def options_of(command: click.Command | None) -> dict[str, str]:
    """The options of a command, by the names that the library has for them."""
    if command is None:
        return {}
    found: dict[str, str] = {}
    for each in command.params:
        if isinstance(each, click.Option):
            long = next((name for name in each.opts if name.startswith("--")), each.opts[0])
            found[long.lstrip("-").replace("-", "_")] = long
            found.setdefault(each.name or "", long)
    return found


def as_json(error: AgoutiError, hint: str) -> dict[str, object]:
    """An error as JSON."""
    facts = {
        "kind": type(error).__name__,
        "message": error.message,
        "what": error.message,  # its name in 0.2
        "hint": hint,
        "status": error.status,
        "provider": error.provider,
        "model": error.model,
        "code": error.code,
        "request_id": error.request_id,
        "retryable": error.retryable,
    }
    return {"error": {name: value for name, value in facts.items() if value not in (None, "")}}


def chosen(arguments: Iterable[str], group: click.Group, context: click.Context) -> click.Command | None:
    """The command that arguments name, within groups too."""
    found: click.Command | None = None
    for argument in arguments:
        if argument.startswith("-") or not isinstance(group, click.Group):
            continue
        inner = group.get_command(context, argument)
        if inner is None:
            if found is not None:
                break
            continue
        found = inner
        if not isinstance(inner, click.Group):
            break
        group = inner
    return found
