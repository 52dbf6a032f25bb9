"""The package as a whole: what importing it loads, what it exports, which layer sees which."""

import ast
import importlib
import inspect
import os
import re
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

import agouti
from agouti._former import MOVED, OPTIONS, SETTINGS, SWITCHES, current, current_settings, current_switches
from agouti.core import errors
from agouti.dialects.registry import names
from agouti.transport.base import AsyncReply, AsyncTransport, SyncReply, SyncTransport

SOURCE = Path(agouti.__file__).parent
HEAVY = {"urllib3", "aiohttp", "http", "pydantic", "numpy", "asyncio", "click", "rich", "typer", "starlette", "uvicorn"}
PURE = ("core", "dialects")
IO_MODULES = HEAVY | {"socket", "ssl", "selectors", "urllib.request", "subprocess", "threading"}
# Each folder may import those that stand before it, for types too.
LAYERS = [
    "_version",
    "_former",
    "core",
    "runtime",
    "media",
    "forms",
    "tools",
    "credentials",
    "dialects",
    "transport",
    "tables",
    "config",
    "adopt",
    "replies",
    "engine",
    "cache",
    "embeddings",
    "ledger",
    "limits",
    "telemetry",
    "calls",
    "batches",
    "conversations",
    "client",
    "services",
    "relay",
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
        "import agouti; agouti.Client.at('http://127.0.0.1:9'); import agouti.transport.urllib3_transport, agouti.engine.drivers.sync_driver"
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


@cache
def parsed(path: Path) -> ast.Module:
    """A module of the package; each is looked at by several tests."""
    return ast.parse(path.read_text())


def imports_of(path: Path, *, types: bool = False) -> set[str]:
    """Absolute names of what a module imports, at any depth of it; for type checkers only where that is asked."""
    found = set()
    package = ["agouti", *path.relative_to(SOURCE).parts[:-1]]
    tree = parsed(path)
    typing_only = {
        inner
        for node in ast.walk(tree)
        if not types and isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test)
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


def module_of(path: Path) -> str:
    """The name of a module below the package."""
    return ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")


@cache
def graph() -> dict[str, set[str]]:
    """What each module of the package imports of it, for types too; packages themselves hold nothing."""
    modules = {module_of(path) for path in SOURCE.rglob("*.py") if path.name != "__init__.py"}
    return {
        module_of(path): {
            name.removeprefix("agouti.")
            for name in imports_of(path, types=True)
            if name.removeprefix("agouti.") in modules and name != f"agouti.{module_of(path)}"
        }
        for path in SOURCE.rglob("*.py")
        if path != SOURCE / "__init__.py"
    }


def circle_in(arrows: dict[str, set[str]]) -> list[str]:
    """Nodes that lead back to themselves, one after the other; none where there is no circle."""
    done: set[str] = set()

    def walk(node: str, way: list[str]) -> list[str]:
        if node in way:
            return [*way[way.index(node) :], node]
        if node in done:
            return []
        for other in sorted(arrows.get(node, ())):
            if found := walk(other, [*way, node]):
                return found
        done.add(node)
        return []

    return next((found for node in arrows if (found := walk(node, []))), [])


def by_folder(arrows: dict[str, set[str]], folder: str) -> dict[str, set[str]]:
    """The same between what stands in a folder: its modules, and its folders as one each."""
    depth = folder.count(".") + 2

    def short(name: str) -> str:
        return ".".join(name.split(".")[:depth])

    inside = {name: {each for each in others if each.startswith(f"{folder}.")} for name, others in arrows.items()}
    found: dict[str, set[str]] = {}
    for name, others in inside.items():
        if name.startswith(f"{folder}."):
            found.setdefault(short(name), set()).update({short(each) for each in others} - {short(name)})
    return found


def test_no_modules_import_each_other_in_a_circle() -> None:
    assert circle_in(graph()) == []
    assert circle_in({"a": {"b"}, "b": {"c"}, "c": {"b"}}) == ["b", "c", "b"]


@pytest.mark.parametrize("folder", ["core", "engine", "dialects", "services", "relay", "calls", "ledger", "cli"])
def test_parts_of_a_folder_import_each_other_in_no_circle(folder: str) -> None:
    parts = by_folder(graph(), folder)
    assert len(parts) > 2
    assert circle_in(parts) == []


def test_layers_only_look_down() -> None:
    for name, others in graph().items():
        top = name.partition(".")[0]
        if top == "__main__":
            continue
        for other in others:
            assert LAYERS.index(other.partition(".")[0]) <= LAYERS.index(top), f"{name} imports {other}"


def test_core_and_dialects_do_no_io() -> None:
    for part in PURE:
        for path in (SOURCE / part).rglob("*.py"):
            assert not {name for name in imports_of(path) if name in IO_MODULES or name.split(".")[0] in HEAVY}, path


def sources() -> list[Path]:
    return sorted(SOURCE.rglob("*.py"))


def test_drivers_are_short_and_files_and_functions_are_seen_at_once() -> None:
    for name in ("sync_driver", "async_driver"):
        assert len((SOURCE / "engine" / "drivers" / f"{name}.py").read_text().splitlines()) < 160
    for path in sources():
        text = path.read_text()
        assert len(text.splitlines()) <= 500, path
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) and ast.get_docstring(node) is None:
                assert (node.end_lineno or 0) - node.lineno < 60, f"{path}: {node.name}"


# These words mean a dialect wherever they stand alone; the others are names of fields, means and operations as well.
ALWAYS = {"responses", "contents", "predict", "jobs", "converse"}


def test_no_dialect_is_named_outside_its_own_file_and_the_registry() -> None:
    for path in sources():
        where = path.relative_to(SOURCE).parts
        if where[0] in ("standins", "testing") or where[-1] in ("registry.py", "demo.py", "openapi_document.py"):
            continue  # OpenAPI has a word of its own that is one; stand-ins are a second opinion, and speak each format on purpose
        own = where[1].removesuffix(".py") if where[0] == "dialects" else ""
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.Constant) and node.value in ALWAYS:
                assert node.value == own, f"{path}:{node.lineno} {node.value}"
            if isinstance(node, ast.Compare) and "dialect" in ast.unparse(node.left):
                compared = [each.value for each in node.comparators if isinstance(each, ast.Constant)]
                assert not set(compared) & (set(names()) - {own}), f"{path}:{node.lineno} {compared}"


FACES = [
    (agouti.Client, agouti.AsyncClient),
    (agouti.Stream, agouti.AsyncStream),
    (agouti.FillStream, agouti.AsyncFillStream),
    (agouti.Conversation, agouti.AsyncConversation),
    (SyncTransport, AsyncTransport),
    (SyncReply, AsyncReply),
]


def members(face: type) -> dict[str, inspect.Signature | None]:
    """Public methods with their parameters; what they return differs on purpose."""
    other = {"aclose": "close", "__aenter__": "__enter__", "__aexit__": "__exit__", "__aiter__": "__iter__"}
    found: dict[str, inspect.Signature | None] = {}
    for name, member in inspect.getmembers(face):
        if name.startswith("_") and name not in (*other, *other.values(), "__init__"):
            continue
        signature = inspect.signature(member) if callable(member) else None
        if signature is not None:
            plain = [each.replace(annotation="") for each in signature.parameters.values()]
            signature = signature.replace(parameters=plain, return_annotation="")
        found[other.get(name, name)] = signature
    return found


@pytest.mark.parametrize(("sync", "asynchronous"), FACES, ids=lambda face: face.__name__)
def test_both_faces_have_the_same_methods_with_the_same_parameters(sync: type, asynchronous: type) -> None:
    assert members(sync) == members(asynchronous)


SETTING = re.compile(
    r"(?:(?:in|set|raise|add|check|write) )?(?P<path>(?:providers|models)\.[\w{}.]+|"
    r"\b(?:retries|timeouts|key|tls|parameters|limits|ledger|budgets)\.\w+)"
)


def test_every_setting_that_a_hint_names_exists() -> None:
    nested = {"retries": agouti.Retries, "timeouts": agouti.Timeouts, "tls": agouti.Tls}
    entries = {"providers": agouti.Provider, "models": agouti.Model}
    count = 0
    for path in sources():
        texts = [
            "".join(
                str(part.value) if isinstance(part, ast.Constant) else "{}"
                for part in getattr(value, "values", [value])
            )
            for node in ast.walk(parsed(path))
            for value in _hints(node)
            if isinstance(value, (ast.Constant, ast.JoinedStr))
        ]
        for text in texts:
            for match in SETTING.finditer(text):
                table, _, rest = match["path"].rstrip(".").partition(".")
                fields = rest.split(".")[1:] if table in entries else [table, *rest.split(".")]
                if not fields or "{" in fields[0]:
                    continue
                count += 1
                entry = entries.get(table, agouti.Provider)
                assert fields[0] in entry.__struct_fields__, f"{path}: {text}"
                if len(fields) > 1 and fields[0] in nested:
                    assert fields[1] in nested[fields[0]].__struct_fields__, f"{path}: {text}"
    assert count > 5


def _hints(node: ast.AST) -> list[ast.expr]:
    if isinstance(node, ast.keyword) and node.arg == "hint":
        return [node.value]
    if isinstance(node, ast.Assign) and any(isinstance(each, ast.Name) and "hint" in each.id for each in node.targets):
        return [node.value]
    return []


def test_every_broken_promise_fits_the_sources() -> None:
    from .breaks import ROWS
    from .broken_promises import unfit

    rows = [row for each in ROWS.values() for row in each]
    assert unfit(rows) == []
    assert len(rows) > 280
    assert all((Path(__file__).parent.parent / each).exists() for row in rows for each in row.tests.split())


@pytest.mark.parametrize("former", sorted(MOVED))
def test_a_former_path_is_the_same_module_and_warns_once(former: str) -> None:
    module = MOVED[former]
    name = next(name for name in vars(importlib.import_module(module)) if name[0].isalpha())
    code = (
        f"import warnings, importlib\nwith warnings.catch_warnings(record=True) as seen:\n"
        f"    warnings.simplefilter('always')\n    from {former} import {name} as old\n    from {former} import {name}\n"
        f"print(old is importlib.import_module('{module}').{name}, [str(each.message) for each in seen])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("True ['")
    assert done.stdout.count("the former name goes") == 1
    assert module in done.stdout


def test_names_that_have_left_a_module_are_found_there_still() -> None:
    with pytest.warns(DeprecationWarning, match=r"agouti\.replies\.errors\.NotFilled"):
        assert errors.NotFilled is agouti.NotFilled  # type: ignore[attr-defined]
    with pytest.raises(AttributeError, match="has no attribute 'Unheard'"):
        errors.Unheard  # type: ignore[attr-defined]  # noqa: B018
    with pytest.raises(ModuleNotFoundError):
        importlib.import_module("agouti.unheard")


@pytest.mark.parametrize(("where", "old"), [(where, old) for where, names in OPTIONS.items() for old in names])
def test_a_former_option_is_the_new_one_with_one_warning(where: str, old: str) -> None:
    new = OPTIONS[where][old]
    with pytest.warns(DeprecationWarning, match=rf"{old} of {where} is {new} now") as seen:
        assert current(where, {old: 1, "limit": 2}) == {new: 1, "limit": 2}
    assert len(seen) == 1
    assert current(where, {new: 1}) == {new: 1}
    with pytest.raises(TypeError, match="are the same"):
        current(where, {old: 1, new: 1})


@pytest.mark.parametrize(("command", "old"), [(command, old) for command, names in SWITCHES.items() for old in names])
def test_a_former_switch_of_the_command_is_the_new_one(command: str, old: str) -> None:
    new = SWITCHES[command][old]
    known = [
        name for each in importlib.import_module(f"agouti.cli.commands.{command}").command.params for name in each.opts
    ]
    assert new in known
    assert old not in known
    assert current_switches(command, ["x", old, "1", f"{old}=1", "--text", old, "--", old], {"--text"}) == (
        ["x", new, "1", f"{new}=1", "--text", old, "--", old],
        [(old, new), (old, new)],
    )


@pytest.mark.parametrize(("table", "old"), [(table, old) for table, names in SETTINGS.items() for old in names])
def test_a_former_setting_is_the_new_one_with_one_warning(table: str, old: str) -> None:
    new = SETTINGS[table][old]
    with pytest.warns(DeprecationWarning, match=rf"{old} in \[{table}\.x\] is {new} now") as seen:
        assert current_settings({table: {"x": {old: 1, "y": 2}}, "relay": {}}) == {
            table: {"x": {new: 1, "y": 2}},
            "relay": {},
        }
    assert len(seen) == 1
    with pytest.raises(TypeError, match="the same"):
        current_settings({table: {"x": {old: 1, new: 2}}})


def test_former_names_work_in_calls_files_classes_and_commands(tmp_path: Path) -> None:
    from agouti.standins import serve

    persona = (
        "\n[models.kids]\nlike = 'almanac'\nsystem = 'Say {word}.'\nblanks = { word = 'hello' }\nmeans = ['prompt']\n"
    )
    with serve() as served:
        (tmp_path / "agouti.toml").write_text(served.toml + persona)
        with pytest.warns(DeprecationWarning, match=" is ") as seen:
            config = agouti.load_config(tmp_path / "agouti.toml", environment=served.environment)
        assert [str(each.message).partition(" in ")[0] for each in seen] == ["like", "blanks", "means"]
        model = config.models["kids"]
        with pytest.warns(DeprecationWarning, match=r"Model\.like is Model\.extends now"):
            assert model.like == model.extends == "almanac"  # type: ignore[attr-defined]
        with pytest.warns(DeprecationWarning, match="like of Model is extends now"):
            assert agouti.Model("m", provider="p", like="k").extends == "k"  # type: ignore[call-arg]
        with agouti.Client(config) as client:
            with pytest.warns(DeprecationWarning, match="kind of fill is form now"):
                filled = client.fill("almanac", kind=int, prompt="How many?")  # type: ignore[call-overload]
            with pytest.warns(DeprecationWarning, match=r"Filled\.means"):
                assert filled.means == filled.output_method
            with pytest.warns(DeprecationWarning, match="blanks of a call is variables now"):
                assert client.ask("kids", "Hi", blanks={"word": "moin"}, max_tokens=5).text  # type: ignore[call-arg]
            with pytest.warns(DeprecationWarning, match="at_once of batch is concurrency now"):
                made = agouti.batch(client, "almanac", ["a"], at_once=1, max_tokens=5)  # type: ignore[call-overload]
            with pytest.warns(DeprecationWarning, match=r"Batch\.found"):
                assert made.found == made.already_done == 0
            with pytest.raises(AttributeError, match="has no attribute 'unheard'"):
                made.unheard  # noqa: B018
        done = subprocess.run(
            [sys.executable, "-m", "agouti", "ask", "kids", "Hi", "--blank", "word=moin", "-n", "5"],
            cwd=tmp_path, env={**os.environ, **served.environment}, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert (done.returncode, "--blank is --var now" in done.stderr) == (0, True), done.stderr


@pytest.mark.parametrize("name", ["batch", "check", "compare", "probe"])
def test_a_service_is_a_function_at_its_former_path_whatever_was_loaded(name: str) -> None:
    code = f"import agouti; agouti.{name}; from agouti.services.{name} import {name}; assert {name} is agouti.{name}"
    subprocess.run([sys.executable, "-c", code], check=True)


def test_former_names_are_told_where_they_were_used_and_lose_nothing() -> None:
    assert inspect.iscoroutinefunction(agouti.AsyncClient.fill)
    with pytest.warns(DeprecationWarning, match="message of an error is provider_message") as seen:
        error = agouti.RateLimited("busy", message="slow down")  # type: ignore[call-arg]
    assert (error.message, error.provider_message, seen[0].filename) == ("busy", "slow down", __file__)
    with pytest.warns(DeprecationWarning, match="provider_message"):
        assert error.with_context(message="later").message == "busy"  # type: ignore[call-arg]
    with pytest.raises(TypeError, match="like and extends of Model are the same"):
        agouti.Model("m", like="a", extends="b")  # type: ignore[call-arg]

    class Own(agouti.Model):
        pass

    with pytest.warns(DeprecationWarning, match="like of Own is extends"):
        assert Own("m", like="a").extends == "a"  # type: ignore[call-arg]
