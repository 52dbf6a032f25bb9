"""Documented import paths of 0.2 that have moved: each works until 0.4, with one warning that names the new one.

The package appends `find_spec` to the finders of the interpreter, and packages that bear the name of a former module
have `forward` behind their names. Names that are exported by the package itself (``agouti.Reply``) have not moved.
"""

import importlib
import warnings
from importlib.abc import Loader
from importlib.machinery import ModuleSpec
from importlib.util import spec_from_loader
from types import ModuleType

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
    "agouti.services.batch": "agouti.services.batch.batch",
    "agouti.services.batch_status": "agouti.services.batch.status",
    "agouti.services.check": "agouti.services.check.check",
    "agouti.services.compare": "agouti.services.compare.compare",
    "agouti.services.probe": "agouti.services.probe.probe",
    "agouti.streams": "agouti.calls.streams",
    "agouti.telemetry": "agouti.telemetry.hook",
    "agouti.tools": "agouti.tools.tool",
}
"""Modules: where each was, and where it is."""

MOVED_NAMES = {
    "agouti.core.errors.NotFilled": "agouti.replies.errors",
    "agouti.core.errors.StreamCut": "agouti.replies.errors",
}
"""Names whose module is still there: where each was, and the module that it is in."""


def find_spec(name: str, path: object = None, target: object = None) -> ModuleSpec | None:
    """The module that has moved, for the import system: it asks here for what is not found."""
    return spec_from_loader(name, _Moved()) if name in MOVED else None


class _Moved(Loader):
    """Loads a module under its former path: it is the same module."""

    def create_module(self, spec: ModuleSpec) -> ModuleType | None:
        return None

    def exec_module(self, module: ModuleType) -> None:
        import sys

        name = module.__name__
        _warn(name, MOVED[name], 3)
        sys.modules[name] = importlib.import_module(MOVED[name])


def forward(module: str, name: str) -> object:
    """A name that was in a module once, and is in another one now.

    Raises:
        AttributeError: there has never been such a name.
    """
    home = MOVED_NAMES.get(f"{module}.{name}") or MOVED.get(module)
    if home is None or (name.startswith("__") and name.endswith("__")):
        raise AttributeError(f"module {module!r} has no attribute {name!r}")
    try:
        value: object = getattr(importlib.import_module(home), name)
    except AttributeError:
        raise AttributeError(f"module {module!r} has no attribute {name!r}") from None
    _warn(f"{module}.{name}", f"{home}.{name}", 4)
    return value


_WARNED: set[str] = set()


def _warn(old: str, new: str, level: int) -> None:
    if old not in _WARNED:
        _WARNED.add(old)
        warnings.warn(f"{old} is {new} now; the former path goes with 0.4", DeprecationWarning, stacklevel=level)
