"""What is handed to others: settings for tools, the schema for editors, labels for the shell, display for notebooks."""

import asyncio
import json
import os
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import agouti
from agouti.calls.connection_settings import ModelSettings, relay_settings
from agouti.config import schema
from agouti.config.tables import SINGLE_TABLES
from agouti.standins import Served

ROOT = Path(__file__).parent.parent
SCHEMA = json.loads(schema.text())
VALID = jsonschema.Draft202012Validator(SCHEMA)


def loaded(text: str) -> Any:
    """A file as editors see it: dates are texts there."""
    return json.loads(json.dumps(tomllib.loads(text), default=str))


def agouti_command(*arguments: str, **environment: str) -> tuple[int, str, str]:
    done = subprocess.run(
        [sys.executable, "-m", "agouti", *arguments], capture_output=True, text=True, timeout=60,
        env={**os.environ, **environment},
    )  # fmt: skip
    return done.returncode, done.stdout, done.stderr


KEYS: dict[str, tuple[dict[str, Any], str, str]] = {
    "env": ({"key": {"env": ["A_KEY", "B_KEY"]}}, 'MODEL_KEY="$A_KEY"', "A_KEY"),
    "file": ({"key": {"file": "/etc/keys/it's"}}, "MODEL_KEY=\"$(cat '/etc/keys/it'\"'\"'s')\"", ""),
    "command": ({"key": {"command": ["vault", "get", "a b"]}}, "MODEL_KEY=\"$(vault get 'a b')\"", ""),
    "keyring": ({"key": {"keyring": "northbank"}}, "MODEL_KEY='...'   # keyring entry northbank", ""),
    "none": ({}, "MODEL_KEY=none", ""),
}


@pytest.mark.parametrize("kind", KEYS)
def test_settings_say_where_the_key_lives_and_never_the_key(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    entry, line, variable = KEYS[kind]
    monkeypatch.setenv("A_KEY", "nb-51c2-secret")
    address = "https://api.northbank.example/v1/messages"
    config: Any = {
        "providers": {"northbank": {"address": address, "headers": {"x-version": "3"}, **entry}},
        "models": {"almanac": {"provider": "northbank", "name": "quill large"}},
    }
    for made in (agouti.Client(config), agouti.AsyncClient(config)):
        settings = made.settings("almanac")
        assert (settings.address, settings.model) == ("https://api.northbank.example/v1", "quill large")
        assert (settings.dialect, settings.headers, settings.key_variable) == ("messages", ("x-version",), variable)
        lines = settings.environment().splitlines()
        assert lines[1] == f"export {line}"
        assert "secret" not in settings.environment() + json.dumps(settings.as_dict()) + repr(settings)
        if kind in ("env", "none"):
            shell = subprocess.run(
                ["sh", "-c", settings.environment() + '\necho "$MODEL_NAME|$MODEL_KEY"'], capture_output=True, text=True
            )
            assert shell.stdout == f"quill large|{'nb-51c2-secret' if kind == 'env' else 'none'}\n"
        through = made.settings("almanac", relay="localhost:8309/")
        assert (through.address, through.model, through.dialect) == ("http://localhost:8309/v1", "almanac", "chat")
        with pytest.raises(agouti.LabelUnknown):
            made.settings("almanak", relay="localhost:8309")
        for names in (("A", "B"), ("A", "B", "C;rm"), ("A", "", "C")):
            with pytest.raises(agouti.ConfigError):
                settings.environment(names)
        if isinstance(made, agouti.Client):
            made.close()
        else:
            asyncio.run(made.aclose())


def test_settings_on_the_command_line(served: Served, tmp_path: Path) -> None:
    others = served.entry("letterbox")
    (tmp_path / "agouti.toml").write_text(served.toml + others)
    code, out, err = agouti_command("explain", "envelope-2@letterbox", "--settings", "--names", "BASE,KEY,MODEL")
    assert code == 0, err
    assert out.splitlines()[0] == f"export BASE={served.address('letterbox')}"
    assert "speaks messages" in err
    assert "agouti relay" in err
    told = json.loads(agouti_command("explain", "almanac", "--settings", "--json")[1])
    assert (told["model"], told["key_variable"]) == ("quill-large", "NORTHBANK_KEY")
    for wrong in (["--relay", "x"], ["--settings", "--names", "A,B"]):
        assert agouti_command("explain", "almanac", *wrong)[0] == 2


def test_the_schema_is_that_of_the_types() -> None:
    schema.schema.cache_clear()
    assert schema.schema() == SCHEMA, "write it anew: python docs/schema.py"
    jsonschema.Draft202012Validator.check_schema(SCHEMA)
    assert set(SINGLE_TABLES) < SCHEMA["properties"].keys()
    for name, shown in SCHEMA["$defs"].items():
        if name not in ("Key", "Markers") and not name.endswith("Key"):
            assert all("description" in each for each in shown["properties"].values()), name


def test_the_schema_takes_what_is_good_and_names_what_is_not(served: Served, tmp_path: Path) -> None:
    """Every configuration of the guides, and all stand-ins; what the loader refuses for its form, it refuses too."""
    import re

    texts = ["\n".join(served.entry(label) for label in served.labels), served.toml]
    for guide in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        texts += re.findall(r"^```toml\n(.*?)^```", guide.read_text(), re.DOTALL | re.MULTILINE)
    texts = [text for text in texts if "[project" not in text]
    assert len(texts) > 20
    for text in texts:
        errors = list(VALID.iter_errors(loaded(text)))
        assert not errors, (text, errors[0].message, list(errors[0].path))
    north = '[providers.north]\naddress = "http://a.example"\n'
    wrong = {
        north + "adress = 1": "adress",
        '[models.a]\nprovider = "north"\nparameters = { temperatur = 1 }': "temperatur",
        '[models.a]\nprovider = "north"\nparameters = { temperature = 9 }': "9",
        north + 'key = "sk-1"': "sk-1",
        north + 'key = { enve = "A" }': "enve",
        north + 'unsupported = "ignore"': "ignore",
        north + 'limits = { requests_per_minute = "many" }': "many",
        "[ledgers]\nstore = 1": "ledgers",
        "[relay]\norigin = []": "origin",
        '[budgets.b]\namount = 1\nper = "year"': "year",
    }
    for text, word in wrong.items():
        errors = list(VALID.iter_errors(loaded(text)))
        assert errors, text
        assert word in str(errors), text
        if word == "sk-1":
            continue  # a key in the file is read, and found by check: an editor marks it at once
        with pytest.raises(agouti.ConfigError):
            (tmp_path / "agouti.toml").write_text(text if "[providers" in text else north + text)
            agouti.load_config(tmp_path / "agouti.toml")


def test_schema_from_the_command_line_and_in_new_files(tmp_path: Path) -> None:
    code, out, _ = agouti_command("schema")
    assert (code, json.loads(out)) == (0, SCHEMA)
    assert agouti_command("schema", "--out", "s.json")[0] == 0
    assert json.loads((tmp_path / "s.json").read_text()) == SCHEMA
    assert agouti_command("schema", "--out", "nowhere/s.json")[0] == 2
    address = agouti_command("schema", "--address")[1].strip()
    curl = 'curl https://api.northbank.example/v1/chat/completions -d \'{"model": "quill-large"}\''
    code, _, err = agouti_command("adopt", "--write", curl)
    assert code == 0, err
    assert "file:" not in (tmp_path / "agouti.toml").read_text()  # a path of one machine, in a file of many
    assert Path(address.removeprefix("file://")).exists()
    assert list(VALID.iter_errors(tomllib.loads((tmp_path / "agouti.toml").read_text()))) == []


@pytest.mark.parametrize(
    "address", ["https://p.example/v1/$(touch x)", "https://p.example/v1;id", "https://p.example/v1/a b"]
)
def test_nothing_of_an_address_is_run_by_the_shell(address: str) -> None:
    for settings in (
        ModelSettings(address=address, model="m'$(id)`id`", dialect="chat", key=""),
        relay_settings("a$b", address),
    ):
        script = settings.environment(["A", "K", "M"]) + '\nprintf "%s\\n%s" "$A" "$M"'
        done = subprocess.run(["sh", "-c", script], capture_output=True, text=True, check=True)
        assert done.stdout == f"{settings.address}\n{settings.model}"


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("agouti ask al", {"almanac", "almanac-local"}),
        ("agouti compare almanac fi", {"finder"}),
        ("agouti --config other.toml ask ", {"rose"}),
        ("agouti talk quill@", {"quill@northbank", "quill@shed"}),
        ("agouti rel", {"relay"}),
        ("agouti relay to", {"token"}),
        ("agouti explain --sett", {"--settings"}),
    ],
)
def test_the_shell_completes_labels(served: Served, tmp_path: Path, words: str, offered: set[str]) -> None:
    (tmp_path / "agouti.toml").write_text(served.toml)
    (tmp_path / "other.toml").write_text(
        '[providers.north]\naddress = "localhost:1"\n[models.rose]\nprovider = "north"\nname = "r"\n'
    )
    count = len(words.split()) - (not words.endswith(" "))
    told = {"_AGOUTI_COMPLETE": "bash_complete", "COMP_WORDS": words, "COMP_CWORD": str(count)}
    assert shutil.which("agouti", path=str(Path(sys.executable).parent))
    done = subprocess.run(
        [Path(sys.executable).parent / "agouti"], env={**os.environ, **told}, capture_output=True, text=True, timeout=60
    )
    assert {line.partition(",")[2] for line in done.stdout.splitlines()} == offered
    assert done.stderr == ""
    (tmp_path / "agouti.toml").write_text("[models.broken")  # nobody wants an error while pressing a key
    if "--config" not in words and "@" not in words and "ask" in words:
        done = subprocess.run(
            [Path(sys.executable).parent / "agouti"], env={**os.environ, **told}, capture_output=True, text=True
        )
        assert (done.stdout.strip(), done.stderr) == ("", "")


CELL = """
import agouti, os
client = agouti.AsyncClient("agouti.toml")
reply = await client.ask("almanac", "When do peas go in?", max_tokens=5)
async with client.stream("almanac", "Plan my spring bed.", max_tokens=9) as stream:
    await stream.show()
sync = agouti.Client("agouti.toml")
shown = sync.stream("almanac", "Plan my spring bed.", max_tokens=9)
made = await agouti.batch(client, "almanac", ["Peas?", "Kale?", "Leek?"], max_tokens=5, progress=True)
"""


def test_in_a_notebook(served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A cell awaits; replies and tables show as Markdown, streams as they come."""
    from IPython.core.interactiveshell import InteractiveShell
    from IPython.utils.capture import capture_output
    from traitlets.config import Config

    (tmp_path / "agouti.toml").write_text(served.toml)
    for name, value in served.environment.items():
        monkeypatch.setenv(name, value)
    monkeypatch.setenv("IPYTHONDIR", str(tmp_path / "ipython"))
    monkeypatch.delenv("VIRTUAL_ENV", raising=False)  # it may be that of another Python
    shell = InteractiveShell.instance(config=Config({"HistoryManager": {"enabled": False}}))
    try:
        shell.kernel = object()
        with capture_output() as captured:
            done = shell.run_cell(CELL)
            assert done.success, done.error_in_exec
            again = shell.run_cell("shown")
            assert again.success, again.error_in_exec
        texts = [each.data.get("text/markdown", "") for each in captured.outputs if "text/markdown" in each.data]
        lines = [each.data["text/plain"] for each in captured.outputs if set(each.data) == {"text/plain"}]
        assert lines[0] == ""  # one line, which says how far the batch is
        assert lines[-1].startswith("  3 of 3")
        whole = shell.user_ns["stream"].reply.text
        assert texts[0] == ""
        assert whole in texts
        assert shell.user_ns["shown"].reply.text in texts[-1]
        formats, _ = shell.display_formatter.format(shell.user_ns["reply"])
        assert formats["text/markdown"].startswith(shell.user_ns["reply"].text)
        assert "USD" in formats["text/markdown"]
        with agouti.Client("agouti.toml") as client:
            compared = agouti.compare(client, ["almanac", "almanac-local"], "When do peas go in?", contains="March")
            formats, _ = shell.display_formatter.format(compared)
            assert "| almanac |" in formats["text/markdown"]
            assert "contains" in formats["text/markdown"]
            listed, _ = shell.display_formatter.format(client.models())
            assert "quill-large" in listed["text/markdown"]
        with capture_output():
            shell.run_cell("sync.close(); await client.aclose()")
    finally:
        InteractiveShell.clear_instance()


def test_elsewhere_a_stream_is_printed(served: Served, capsys: pytest.CaptureFixture[str]) -> None:
    with agouti.Client(served.config) as client, client.stream("almanac", "Plan my spring bed.") as stream:
        stream.show()
        assert capsys.readouterr().out == stream.reply.text + "\n"
        stream.show()  # it has been shown
        assert capsys.readouterr().out == "\n"
        with client.stream_fill("almanac", list[int], "18 up\n24 sown") as growing:
            growing.show()
        assert growing.filled.value == [18, 24]


def test_tables_in_markdown_cannot_break_out() -> None:
    from agouti.tables.notebook import markdown_table

    text = markdown_table(["a", "b"], [{"a": "x|y\n<script>`*_[", "b": 0.1 + 0.2}, {"a": None, "b": "z" * 500}] * 20)
    lines = text.splitlines()
    assert len([line for line in lines if line.startswith("| ")]) == 31
    assert "<script" not in text.replace("\\<", "")
    assert "0.3" in lines[2]
    assert "10 more rows" in text
    assert markdown_table(["a"], []) == "*No rows.*"
