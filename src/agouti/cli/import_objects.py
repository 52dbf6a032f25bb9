"""Objects of the user's own modules, named on the command line or in an entry as ``MODULE:NAME``."""

import json
import sys
from importlib import import_module
from pathlib import Path
from typing import Any

import click


def named_object(text: str) -> Any:
    """What ``MODULE:NAME`` names; modules of the working folder are found as well.

    Raises:
        click.UsageError: there is no such module, or nothing of that name in it.
    """
    module, colon, name = text.partition(":")
    if not colon or not module or not name:
        raise click.UsageError(f"{text!r} names nothing: write MODULE:NAME")
    if str(Path.cwd()) not in sys.path:
        sys.path.insert(0, str(Path.cwd()))
    try:
        loaded: Any = import_module(module)
    except ImportError as error:
        raise click.UsageError(f"{module} cannot be imported: {error}") from None
    for part in name.split("."):
        if not hasattr(loaded, part):
            raise click.UsageError(f"there is no {name} in {module}")
        loaded = getattr(loaded, part)
    return loaded


def form_named(form: str) -> Any:
    """A type named as ``MODULE:CLASS``, or the JSON Schema in a file.

    Raises:
        click.UsageError: neither can be had.
    """
    if ":" in form and not Path(form).exists():
        return named_object(form)
    try:
        schema = json.loads(Path(form).read_text(encoding="utf-8-sig"))
    except OSError as error:
        raise click.UsageError(
            f"{form} is neither a file with a JSON Schema ({error.strerror or error}) nor MODULE:CLASS"
        ) from None
    except ValueError as error:
        raise click.UsageError(f"{form} is not JSON: {error}") from None
    if not isinstance(schema, dict):
        raise click.UsageError(f"{form} holds no JSON Schema: that is an object")
    return schema
