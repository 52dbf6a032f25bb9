"""The package as a whole: what importing it loads, what it exports, which layer sees which."""

import ast
import subprocess
import sys
from pathlib import Path

import agouti
from agouti.core import errors

SOURCE = Path(agouti.__file__).parent
HEAVY = {"urllib3", "aiohttp", "http", "pydantic", "numpy", "asyncio", "click", "rich", "typer", "starlette", "uvicorn"}
PURE = ("core", "dialects")
IO_MODULES = HEAVY | {"socket", "ssl", "selectors", "urllib.request", "subprocess", "threading"}
# Each layer may import those that stand before it.
LAYERS = [
    "loading",
    "core",
    "code",
    "reply",
    "filled",
    "forms",
    "tools",
    "media",
    "credentials",
    "dialects",
    "config",
    "engine",
    "transport",
    "embeddings",
    "arguments",
    "options",
    "streams",
    "calls",
    "conversation",
    "client",
    "adopt",
    "services",
    "standins",
    "testing",
    "cli",
]


def loaded_by(code: str) -> set[str]:
    script = f"{code}\nimport sys\nprint(' '.join(sys.modules))"
    return set(
        subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout.split()
    )


def test_import_loads_next_to_nothing() -> None:
    assert loaded_by("import agouti") - loaded_by("pass") == {"agouti"}


def test_a_synchronous_call_loads_nothing_it_does_not_need() -> None:
    loaded = loaded_by(
        "import agouti; agouti.Client.at('http://127.0.0.1:9'); import agouti.transport.sync, agouti.engine.drive"
    )
    assert not loaded & (HEAVY - {"urllib3", "http"})


def test_exports_are_what_all_says() -> None:
    assert all(getattr(agouti, name) is not None for name in agouti.__all__)
    assert sorted(agouti.__all__) == list(agouti.__all__)
    named = {
        name
        for name, value in vars(errors).items()
        if isinstance(value, type) and value.__module__ == errors.__name__ and issubclass(value, (Exception,))
    }
    assert named <= set(agouti.__all__)


def imports_of(path: Path) -> set[str]:
    """Absolute names of what a module imports, at any depth of it, except for type checkers."""
    found = set()
    package = ["agouti", *path.relative_to(SOURCE).parts[:-1]]
    tree = ast.parse(path.read_text())
    typing_only = {
        inner
        for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test)
        for inner in ast.walk(node)
    }
    for node in ast.walk(tree):
        if node in typing_only:
            continue
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = ".".join(package[: len(package) - node.level + 1]) + "." if node.level else ""
            found |= {
                f"{base}{node.module or ''}".rstrip("."),
                *(f"{base}{node.module or ''}.{a.name}" for a in node.names),
            }
    return found


def test_layers_only_look_down() -> None:
    for path in SOURCE.rglob("*.py"):
        top = path.relative_to(SOURCE).parts[0].removesuffix(".py")
        if top.startswith("__"):
            continue
        for name in imports_of(path):
            parts = name.split(".")
            if parts[0] == "agouti" and len(parts) > 1 and parts[1] in LAYERS:
                assert LAYERS.index(parts[1]) <= LAYERS.index(top), f"{path} imports {name}"


def test_core_and_dialects_do_no_io() -> None:
    for part in PURE:
        for path in (SOURCE / part).rglob("*.py"):
            assert not {name for name in imports_of(path) if name in IO_MODULES or name.split(".")[0] in HEAVY}, path
