"""Former names: each works until 0.4, with one `DeprecationWarning` that says the new one.

Import paths: the package appends `find_spec` to the finders of the interpreter, and packages that bear the name of a
former module have `forward` behind their names. Names of the package itself (``agouti.Reply``) have not moved.

Options of functions go through `current`, arguments with a place through `renamed`, options of the command through
`current_switches`, attributes through `attribute`.
"""

import sys
import warnings
from collections.abc import Callable, Container, Mapping
from functools import wraps
from importlib import import_module
from types import FrameType, ModuleType
from typing import TYPE_CHECKING, Any, ParamSpec, TypeVar

from msgspec import StructMeta

if TYPE_CHECKING:
    from importlib.machinery import ModuleSpec

CO_COROUTINE = 0x80  # as `inspect` has it, which takes long to load
P = ParamSpec("P")
R = TypeVar("R")

MOVED = {
    "agouti.batches.result_files": "agouti.batches.export",
    "agouti.client": "agouti.client.client",
    "agouti.code": "agouti.replies.code_blocks",
    "agouti.config.singles": "agouti.config.tables",
    "agouti.conversation": "agouti.conversations.conversation",
    "agouti.core.chat": "agouti.core.canonical.chat",
    "agouti.core.events": "agouti.core.canonical.events",
    "agouti.core.http": "agouti.core.http.exchange",
    "agouti.core.policy": "agouti.engine.attempts.error_policy",
    "agouti.core.rate_limits": "agouti.core.settings.rate_limits",
    "agouti.core.retries": "agouti.core.settings.retries",
    "agouti.core.secret": "agouti.core.secrets.secret",
    "agouti.core.structured": "agouti.core.canonical.structured",
    "agouti.core.usage": "agouti.core.canonical.usage",
    "agouti.core.vectors": "agouti.core.canonical.vectors",
    "agouti.embeddings": "agouti.embeddings.embeddings",
    "agouti.filled": "agouti.replies.filled",
    "agouti.hand_over": "agouti.calls.connection_settings",
    "agouti.model_list": "agouti.replies.model_list",
    "agouti.options": "agouti.calls.options",
    "agouti.reply": "agouti.replies.reply",
    "agouti.reply_files": "agouti.replies.files",
    "agouti.services.batch": "agouti.services.batch.batch_rows",
    "agouti.services.batch_status": "agouti.services.batch.status",
    "agouti.services.check": "agouti.services.check.check_entries",
    "agouti.services.compare": "agouti.services.compare.compare_models",
    "agouti.services.probe": "agouti.services.probe.probe_model",
    "agouti.streams": "agouti.calls.streams",
    "agouti.telemetry": "agouti.telemetry.hook",
    "agouti.tools": "agouti.tools.tool",
}
"""Modules: where each was, and where it is."""

MOVED_NAMES = {
    "agouti.client.AsyncClient": "agouti.client.async_client",
    "agouti.core.errors.NotFilled": "agouti.replies.errors",
    "agouti.core.errors.StreamCut": "agouti.replies.errors",
}
"""Names whose module is still there: where each was, and the module that it is in."""


def find_spec(name: str, path: object = None, target: object = None) -> "ModuleSpec | None":
    """The module that has moved, for the import system: it asks here for what is not found."""
    if name not in MOVED:
        return None
    from importlib.util import spec_from_loader

    return spec_from_loader(name, _Moved())  # type: ignore[arg-type]  # the base class would have to be loaded


class _Moved:
    """Loads a module under its former path: it is the same module."""

    def create_module(self, spec: "ModuleSpec") -> ModuleType | None:
        return None

    def exec_module(self, module: ModuleType) -> None:
        name = module.__name__
        _warn(name, MOVED[name])
        sys.modules[name] = import_module(MOVED[name])


def forward(module: str, name: str) -> object:
    """A name that was in a module once, and is in another one now.

    Raises:
        AttributeError: there has never been such a name.
    """
    home = MOVED_NAMES.get(f"{module}.{name}") or MOVED.get(module)
    if home is None or (name.startswith("__") and name.endswith("__")):
        raise AttributeError(f"module {module!r} has no attribute {name!r}")
    try:
        value: object = getattr(import_module(home), name)
    except AttributeError:
        raise AttributeError(f"module {module!r} has no attribute {name!r}") from None
    _warn(f"{module}.{name}", f"{home}.{name}")
    setattr(sys.modules[module], name, value)  # an import asks twice
    return value


OPTIONS: dict[str, dict[str, str]] = {
    "batch": {
        "anew": "restart",
        "at_once": "concurrency",
        "blanks": "variables",
        "in_order": "preserve_order",
        "keep": "ignore_changes",
        "key": "id_column",
        "kind": "form",
        "means": "output_method",
        "patience": "give_up_after",
        "repairs": "max_repairs",
        "stop_after": "max_same_failures",
    },
    "compare": {"at_once": "concurrency", "blanks": "variables", "keep": "checkpoint"},
    "a call": {"blanks": "variables", "means": "output_method", "repairs": "max_repairs"},
    "fill": {"kind": "form"},
    "conversation": {"fit": "on_overflow"},
    "an error": {"message": "provider_message"},
}
"""Options and arguments, by what takes them."""

SWITCHES: dict[str, dict[str, str]] = {
    "batch": {
        "--anew": "--restart",
        "--at-once": "--concurrency",
        "--blank": "--var",
        "--in-order": "--preserve-order",
        "--keep": "--ignore-changes",
        "--key": "--id-column",
        "--patience": "--give-up-after",
        "--stop-after": "--max-same-failures",
    },
    "compare": {"--at-once": "--concurrency", "--blank": "--var"},
    "fill": {
        "--anew": "--restart",
        "--at-once": "--concurrency",
        "--blank": "--var",
        "--key": "--id-column",
        "--means": "--output-method",
        "--repairs": "--max-repairs",
    },
    "ask": {"--blank": "--var"},
    "embed": {"--anew": "--restart"},
    "explain": {"--blank": "--var"},
    "talk": {"--blank": "--var", "--fit": "--on-overflow"},
}
"""Options of the command, by subcommand."""

SETTINGS: dict[str, dict[str, str]] = {
    "models": {"blanks": "variables", "like": "extends", "means": "output_methods"},
}
"""Settings of ``agouti.toml``, by the tables whose entries have them."""

FIELDS: dict[str, dict[str, str]] = {"Model": SETTINGS["models"]}
"""Fields of the classes that these settings become: arguments of the class as well."""

ATTRIBUTES: dict[str, dict[str, str]] = {
    **FIELDS,
    "AgoutiError": {"what": "message"},
    "Question": {"blanks": "variables"},
    "Batch": {"found": "already_done", "remarks": "warnings"},
    "Progress": {"found": "already_done"},
    "Comparison": {"remarks": "warnings"},
    "Relay": {"seen": "recent_calls"},
    "Conversation": {"keep": "keep_partial", "remarks": "warnings"},
    "AsyncConversation": {"keep": "keep_partial", "remarks": "warnings"},
    "Filled": {"means": "output_method", "mended": "repairs_applied"},
    "FilledAnswer": {"means": "output_method", "mended": "repairs_applied"},
}
"""Attributes and methods, by class."""


def current(where: str, provided: Mapping[str, Any]) -> dict[str, Any]:
    """Options under their names of today.

    >>> import warnings
    >>> with warnings.catch_warnings(action="ignore"):
    ...     current("batch", {"anew": True, "limit": 5})
    {'restart': True, 'limit': 5}

    Raises:
        TypeError: an option is given under both of its names.
    """
    return _under_new_names(provided, OPTIONS[where], f"of {where}")


def _under_new_names(provided: Mapping[str, Any], names: Mapping[str, str], owner: str) -> dict[str, Any]:
    """The same values under the names of today, with a warning for each former one.

    Raises:
        TypeError: one is given under both of its names.
    """
    for old in [name for name in provided if name in names]:
        if names[old] in provided:
            raise TypeError(f"{old} and {names[old]} {owner} are the same: leave {old} out")
        _warn(f"{old} {owner}", names[old])
    return {names.get(name, name): value for name, value in provided.items()}


def renamed(where: str) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function take its arguments under their former names as well."""

    def wrap(function: Callable[P, R]) -> Callable[P, R]:
        @wraps(function)
        def taking(*args: P.args, **options: P.kwargs) -> R:
            return function(*args, **current(where, options))

        if not function.__code__.co_flags & CO_COROUTINE:
            return taking

        @wraps(function)
        async def awaited(*args: P.args, **options: P.kwargs) -> Any:  # frameworks ask whether it is a coroutine
            return await taking(*args, **options)  # type: ignore[misc]

        return awaited  # type: ignore[return-value]

    return wrap


class FormerFields(StructMeta):
    """Lets a class be made with the former names of its fields as well."""

    if not TYPE_CHECKING:

        def __call__(self, *args: Any, **fields: Any) -> Any:
            names = next(FIELDS[each.__name__] for each in self.__mro__ if each.__name__ in FIELDS)
            return super().__call__(*args, **_under_new_names(fields, names, f"of {self.__name__}"))


def current_settings(values: dict[str, Any]) -> dict[str, Any]:
    """A configuration under the names of today.

    >>> import warnings
    >>> with warnings.catch_warnings(action="ignore"):
    ...     current_settings({"models": {"letters": {"like": "almanac"}}})
    {'models': {'letters': {'extends': 'almanac'}}}

    Raises:
        TypeError: an entry has a setting under both of its names.
    """
    renamed = dict(values)
    for table, names in SETTINGS.items():
        entries = values.get(table)
        if not isinstance(entries, dict):
            continue
        for label, entry in entries.items():
            if not isinstance(entry, dict) or names.keys().isdisjoint(entry):
                continue
            renamed[table] = {**renamed[table], label: _under_new_names(entry, names, f"in [{table}.{label}]")}
    return renamed


def current_switches(
    command: str, arguments: list[str], with_value: Container[str]
) -> tuple[list[str], list[tuple[str, str]]]:
    """The words of a command line under the names of today; and which were former ones.

    Args:
        with_value: options of the command behind which a word stands that is no option.

    >>> current_switches("batch", ["almanac", "--at-once=4", "--prompt", "--keep", "--", "--anew"], {"--prompt"})
    (['almanac', '--concurrency=4', '--prompt', '--keep', '--', '--anew'], [('--at-once', '--concurrency')])
    """
    names = SWITCHES.get(command, {})
    found, renamed, value_next = [], list(arguments), False
    for at, argument in enumerate(arguments):
        if value_next:
            value_next = False
            continue
        if argument == "--":
            break
        name, equals, value = argument.partition("=")
        if name in names:
            found.append((name, names[name]))
            name = names[name]
            renamed[at] = name + equals + value
        value_next = not equals and name in with_value
    return renamed, found


def attribute(owner: object, name: str) -> Any:
    """An attribute that has another name now; to be called where there is none of that name.

    Raises:
        AttributeError: there has never been one.
    """
    kind = next((each.__name__ for each in type(owner).__mro__ if name in ATTRIBUTES.get(each.__name__, ())), "")
    if not kind:
        raise AttributeError(f"{type(owner).__name__!r} object has no attribute {name!r}", name=name, obj=owner)
    new = ATTRIBUTES[kind][name]
    _warn(f"{kind}.{name}", f"{kind}.{new}")
    return getattr(owner, new)


def _warn(old: str, new: str) -> None:
    """Warn where a former name was used: at the nearest line that is not ours, however deep below it this is."""
    frame: FrameType | None = sys._getframe(1)
    while frame is not None and frame.f_globals.get("__name__", "").partition(".")[0] in _NOT_THEIRS:
        frame = frame.f_back
    if frame is None:
        warnings.warn(_TEXT.format(old=old, new=new), DeprecationWarning, stacklevel=2)
        return
    warnings.warn_explicit(
        _TEXT.format(old=old, new=new),
        DeprecationWarning,
        frame.f_code.co_filename,
        frame.f_lineno,
        frame.f_globals.get("__name__"),
        frame.f_globals.setdefault("__warningregistry__", {}),
    )


_NOT_THEIRS = ("agouti", "importlib")
_TEXT = "{old} is {new} now; the former name goes with 0.4"
