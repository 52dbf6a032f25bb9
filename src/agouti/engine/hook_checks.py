"""Hooks of an application, looked at when a client is made; and work that they do aside."""

import inspect
import re
from collections.abc import Callable, Generator, Iterable, Mapping
from typing import Any

from ..core.errors import ConfigError, RequestError
from .effects import RunCallable, Steps
from .hooks import Hook

_METHODS = ("before", "after", "end")
_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_LINE = re.compile(r"[\r\n\0]")


def checked_hooks(hooks: "Iterable[Hook]") -> tuple[Hook, ...]:
    """The hooks that a client is given.

    Raises:
        ConfigError: one is none: a class, an object without the methods, or with coroutines for them.
    """
    if not isinstance(hooks, Iterable):
        raise ConfigError(f"hooks cannot be a {type(hooks).__name__}", hint="Pass a list of them: hooks=[MyHook()].")
    checked = tuple(hooks)
    for each in checked:
        _check(each)
    return checked


def _check(hook: object) -> None:
    if isinstance(hook, type):
        raise ConfigError(f"the hook {hook.__name__} is a class", hint=f"Make one of it: hooks=[{hook.__name__}()].")
    name = type(hook).__name__
    for method in _METHODS:
        function = getattr(hook, method, None)
        if not callable(function):
            raise ConfigError(f"the hook {name} has no {method}", hint="Let its class inherit from agouti.Hook.")
        if inspect.iscoroutinefunction(function) or inspect.isasyncgenfunction(function):
            hint = "Write it as a plain function: hooks serve threads and event loops alike."
            if method == "before":
                hint += " For work that takes its time: return agouti.run_in_thread(function)."
            raise ConfigError(f"the hook {name} has a coroutine for {method}", hint=hint)


def run_in_thread(function: Callable[[], Any]) -> "Steps[None]":
    """Steps that run a function where it may take its time: beside the event loop, or in the caller's own thread.

    What ``before`` of a hook returns: the call waits for it, and nobody else does. What the function raises, the call
    ends in.

    Example:
        >>> import agouti, agouti.standins, pathlib, tempfile
        >>> class Journal(agouti.Hook):
        ...     def __init__(self, path):
        ...         self.path = pathlib.Path(path)
        ...     def before(self, attempt):
        ...         return agouti.run_in_thread(lambda: self.path.write_text(attempt.label))
        >>> with tempfile.TemporaryDirectory() as folder, agouti.standins.serve() as served:
        ...     journal = Journal(f"{folder}/journal.txt")
        ...     with agouti.Client(served.config, hooks=[journal]) as client:
        ...         reply = client.ask("almanac", "When do peas go in?")
        ...     print(journal.path.read_text())
        almanac
    """
    yield RunCallable(function, None)


def is_own(hook: Hook) -> bool:
    """Whether a hook is one of Agouti's own, which a configuration asks for."""
    return type(hook).__module__.startswith("agouti.")


def sendable(headers: Mapping[str, str]) -> Mapping[str, str]:
    """Headers that a hook adds.

    Raises:
        RequestError: one is none.
    """
    for name, value in headers.items():
        if not (isinstance(name, str) and _TOKEN.fullmatch(name) and isinstance(value, str)) or _LINE.search(value):
            raise RequestError(
                f"a hook adds {str(name)[:40]!r}, which is no header", hint="Names and values of one line."
            )
    return headers


def steps_of(hook: Hook, waits: object, method: str = "before") -> "Steps[Any]":
    """What a hook wants to be done, as steps.

    Raises:
        RequestError: it is something else.
    """
    if not isinstance(waits, Generator):
        raise RequestError(
            f"{method} of the hook {type(hook).__name__} returned a {type(waits).__name__}",
            hint="Steps are a generator."
            if method == "kept"
            else "It returns nothing, raises agouti.CallRefused, or returns agouti.run_in_thread(function).",
        )
    return waits
