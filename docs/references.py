"""Make the pages of reference from the code: keys of agouti.toml, commands, errors, extras and environment variables.

python docs/references.py           writes the pages
"""

import importlib
import inspect
import pkgutil
import re
import tomllib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import click
import msgspec

import agouti
from agouti import _former
from agouti.cli.app import command as cli
from agouti.config import schema
from agouti.core.errors import AgoutiError
from agouti.engine.attempts.error_policy import POLICY

ROOT = Path(__file__).parent.parent
REFERENCE = Path(__file__).parent / "reference"
END = "<!-- end -->\n"

# The tables of agouti.toml in the order in which somebody meets them: its heading, the type behind it, an example.
TABLES = (
    (
        "providers.LABEL",
        "Provider",
        '[providers.northbank]\naddress = "https://api.northbank.example/v1"\nkey = { env = "NORTHBANK_KEY" }',
    ),
    (
        "models.LABEL",
        "Model",
        '[models.almanac]\nprovider = "northbank"\nname = "quill-large"\nparameters = { temperature = 0.2 }',
    ),
    ("price", "Price", '[models.almanac.price]\ninput = 0.27\noutput = 0.81\ncurrency = "USD"'),
    (
        "price.steps",
        "PriceStep",
        '[models.almanac.price]\ninput = 0.27\noutput = 0.81\ncurrency = "USD"\n\n[[models.almanac.price.steps]]\nabove = 200_000\ninput = 0.54\noutput = 1.20',
    ),
    ("retries", "Retries", "[providers.northbank.retries]\nmax = 3\nbase = 0.5"),
    ("timeouts", "Timeouts", "[providers.northbank.timeouts]\nconnect = 5\nfirst_byte = 120"),
    ("limits of an entry", "RateLimits", "[providers.northbank.limits]\nrequests_per_minute = 60\nconcurrency = 8"),
    ("tls", "Tls", '[providers.northbank.tls]\nca = "/etc/ssl/marsh-lane.pem"'),
    ("key = { env }", "EnvKey", 'key = { env = "NORTHBANK_KEY" }'),
    ("key = { file }", "FileKey", 'key = { file = "/run/secrets/northbank" }'),
    ("key = { keyring }", "KeyringKey", 'key = { keyring = "northbank" }'),
    ("key = { command }", "CommandKey", 'key = { command = ["shed-token", "--short"], lifetime = 3300 }'),
    (
        "key = { oauth }",
        "OAuthKey",
        'key = { oauth = "client_credentials", token_address = "https://login.orchard.example/token", client_id = "marsh-lane" }',
    ),
    ("key = { signature }", "SignatureKey", 'key = { signature = "v4", region = "eu-west-1", service = "models" }'),
    ("markers of a model", "Markers", '[models.mill.markers]\nuser = "User: "\nassistant = "Answer: "'),
    ("budgets.LABEL", "Budget", '[budgets.club]\namount = 20\ncurrency = "USD"\nper = "month"'),
    ("plans.LABEL", "Plan", ""),
    ("ledger", "LedgerSettings", '[ledger]\nstore = "agouti-ledger.sqlite"'),
    ("limits", "LimitStore", '[limits]\nstore = "redis://127.0.0.1:6379/3"'),
    ("cache", "CacheSettings", '[cache]\nstore = "answers.sqlite"'),
    ("telemetry", "TelemetrySettings", ""),
    ("relay", "RelaySettings", ""),
    ("dialects.NAME", "Declaration", ""),
    ("dialects.NAME.stream", "StreamDeclaration", ""),
    ("dialects.NAME.models", "ModelsDeclaration", ""),
)
EXTRAS = {
    "cli": "the command `agouti`",
    "keyring": 'keys in the keyring of the operating system: `key = { keyring = "..." }`',
    "oauth": "tokens of OAuth 2: `key = { oauth = ... }`",
    "signature": "signed requests: `key = { signature = ... }`",
    "redis": "limits that many machines share through Redis",
    "postgres": "a ledger in PostgreSQL",
    "telemetry": "traces and metrics for OpenTelemetry",
    "dask": "batches on a cluster",
    "arrays": "embeddings as arrays of numbers",
    "forms": "structured output: model classes, JSON Schema, docstrings and patterns",
    "parquet": "Parquet files as rows and as results",
    "frames": "data frames as rows",
    "figures": "figures of usage, comparisons and batches",
    "relay": "the relay: `agouti relay`",
    "standins": "the simulated providers: `agouti demo`, `agouti.standins`",
    "all": "all of these",
}
VARIABLES = {
    "AGOUTI_CONFIG": "the configuration file, in place of `agouti.toml` in the working folder or above it",
    "AGOUTI__TABLE__LABEL__KEY": "one setting, over the files: `AGOUTI__PROVIDERS__NORTHBANK__ADDRESS`",
    "AGOUTI_OFFLINE": "`1`: no request leaves the process, not even from programs that tests start",
    "HTTPS_PROXY, HTTP_PROXY, NO_PROXY": "the proxy of the process, where an entry has none of its own",
    "NO_COLOR": "set to anything: output of commands without colours",
}
CODES = {0: "fine", 1: "the provider or the work failed", 2: "wrong use, or wrong configuration", 130: "interrupted"}


def cell(text: str) -> str:
    """A text for a cell of a table."""
    return " ".join(text.split()).replace("|", "\\|").replace("``", "`")


def structs() -> dict[str, type[msgspec.Struct]]:
    """All types of settings, by their names."""
    found: dict[str, type[msgspec.Struct]] = {}
    for module in (
        "agouti.config",
        "agouti.core.settings",
        "agouti.core.canonical",
        "agouti.core.http",
        "agouti.credentials",
        "agouti.dialects",
    ):
        package = importlib.import_module(module)
        for each in pkgutil.iter_modules(package.__path__, module + "."):
            declared = vars(importlib.import_module(each.name))
            found |= {
                name: kind
                for name, kind in declared.items()
                if inspect.isclass(kind) and issubclass(kind, msgspec.Struct)
            }
    return found


def kind_of(shown: dict[str, Any]) -> str:
    """What a key takes, in short: from its JSON Schema."""
    if "$ref" in shown:
        return f"`{shown['$ref'].rpartition('/')[2]}`"
    if "enum" in shown:
        return ", ".join(f"`{each}`" for each in shown["enum"])
    if "anyOf" in shown:
        return " or ".join(dict.fromkeys(kind_of(each) for each in shown["anyOf"]))
    kind = shown.get("type", "any value")
    if kind == "array":
        return f"list of {kind_of(shown.get('items', {}))}"
    if kind == "object" and isinstance(inner := shown.get("additionalProperties"), dict) and inner:
        return f"table of {kind_of(inner)}"
    words = {"string": "text", "object": "table", "boolean": "true or false", "integer": "whole number"}
    return ", ".join(words.get(each, each) for each in ([kind] if isinstance(kind, str) else kind))


def default_of(field: Any) -> str:
    """What a key is where it is not written."""
    if field.default is msgspec.NODEFAULT and field.default_factory is msgspec.NODEFAULT:
        return "required"
    value = field.default if field.default is not msgspec.NODEFAULT else field.default_factory()
    if value is None or value == "" or value == {} or value == () or value == [] or value == frozenset():
        return ""
    if isinstance(value, (msgspec.Struct, dict)):
        return "see there"
    return f"`{value!r}`".replace("True", "true").replace("False", "false").replace("'", '"')


def settings() -> str:
    """The page of all keys."""
    definitions, known = schema.schema()["$defs"], structs()
    lines = ["# Settings: every key of agouti.toml", ""]
    lines += [
        "What a key means, what it takes, and what it is where it is not written. Unknown keys are errors that name the nearest",
        "known one. `agouti schema` prints the same as JSON Schema, for editors. A former name of a key works for one minor version.",
        "",
    ]
    for heading, kind, example in TABLES:
        shown, fields = definitions[kind], {each.encode_name: each for each in msgspec.structs.fields(known[kind])}
        lines += [
            f"## `{heading}`" if "." in heading or "=" in heading or heading.isidentifier() else f"## {heading}",
            "",
        ]
        if shown.get("description"):
            lines += [shown["description"], ""]
        lines += ["| key | takes | default | what it says |", "|---|---|---|---|"]
        for name, value in shown["properties"].items():
            default = default_of(fields[name]) if name in fields else ""
            lines.append(f"| `{name}` | {kind_of(value)} | {default} | {cell(value.get('description', ''))} |")
        lines += [""]
        if example:
            lines += ["```toml", *example.splitlines(), "```", ""]
    return "\n".join(lines)


def described(command: click.Command, path: str, depth: int) -> Iterator[str]:
    """A command with its arguments and options."""
    yield from (f"{'#' * depth} agouti {path}", "")
    yield from (inspect.cleandoc(command.help or "").partition("\f")[0].strip(), "")
    context = click.Context(command, info_name=path)
    yield from ("```text", f"agouti {path} {' '.join(command.collect_usage_pieces(context))}", "```", "")
    records = [each.get_help_record(context) for each in command.params if isinstance(each, click.Option)]
    if rows := [each for each in records if each is not None]:
        yield from ("| option | what it does |", "|---|---|")
        yield from (f"| `{cell(name)}` | {cell(words)} |" for name, words in rows)
        yield ""
    for name, inner in (command.commands if isinstance(command, click.Group) else {}).items():
        yield from described(inner, f"{path} {name}", depth + 1)


def commands() -> str:
    """The page of all commands."""
    lines = [
        "# Commands",
        "",
        "Options before the command hold for all of them:",
        "",
        "| option | what it does |",
        "|---|---|",
    ]
    context = click.Context(cli, info_name="agouti")
    lines += [
        f"| `{cell(each[0])}` | {cell(each[1])} |" for param in cli.params if (each := param.get_help_record(context))
    ]
    lines += ["", "A command ends with one of these codes:", "", "| code | means |", "|---|---|"]
    lines += [f"| {code} | {means} |" for code, means in CODES.items()]
    lines += ["", "Variables of the environment:", "", "| variable | says |", "|---|---|"]
    lines += [f"| `{name}` | {says} |" for name, says in VARIABLES.items()]
    lines += [""]
    for name in cli.list_commands(context):
        command = cli.get_command(context, name)
        assert command is not None
        lines += described(command, name, 2)
    return "\n".join(lines)


def errors() -> str:
    """The table of all errors: what is done about each."""
    lines = [
        "| error | when | repeated | fallback | circuit | exit code | status of the relay |",
        "|---|---|---|---|---|---|---|",
    ]
    repeat = {
        "never": "no",
        "always": "yes",
        "connecting": "before a connection is made",
        "unanswered": "before a reply begins",
    }
    for kind, policy in POLICY.items():
        name = f"`agouti.{kind.__name__}`" if hasattr(agouti, kind.__name__) else f"`{kind.__name__}`"
        when = inspect.cleandoc(kind.__doc__ or "").partition("\n\n")[0].partition(". ")[0].rstrip(".")
        fallback, circuit = ("yes" if each else "no" for each in (policy.next_model, policy.opens_circuit))
        lines.append(
            f"| {name} | {cell(when)} | {repeat[policy.repeat.value]} | {fallback} | {circuit} | {policy.exit_code} | {policy.status} |"
        )
    return "\n".join(lines) + "\n"


def extras() -> str:
    """The table of the optional dependencies."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    lines = ["| extra | for | installs |", "|---|---|---|"]
    for name, packages in project["optional-dependencies"].items():
        installs = "" if name == "all" else ", ".join(re.split(r"[\[<>=]", each)[0] for each in packages)
        lines.append(f"| `{name}` | {EXTRAS[name]} | {installs} |")
    return "\n".join(lines) + "\n"


def names() -> str:
    """The table of former names."""
    lines = ["| of | was | is |", "|---|---|---|"]
    groups = (
        (_former.OPTIONS, "options of {}"),
        (_former.SWITCHES, "`agouti {}`"),
        (_former.SETTINGS, "settings of `[{}.LABEL]`"),
        (_former.ATTRIBUTES, "attributes of `{}`"),
    )
    for table, of in groups:
        for where, renamed in table.items():
            lines += [f"| {of.format(where)} | `{old}` | `{new}` |" for old, new in renamed.items()]
    return "\n".join(lines) + "\n"


def modules() -> str:
    """The table of former import paths."""
    lines = ["| was | is |", "|---|---|"]
    lines += [f"| `{old}` | `{new}` |" for old, new in _former.MOVED.items()]
    lines += [f"| `{old}` | `{home}.{old.rpartition('.')[2]}` |" for old, home in _former.MOVED_NAMES.items()]
    return "\n".join(lines) + "\n"


def within(page: Path, *tables: Callable[[], str]) -> str:
    """A page with its tables, each between the marks of its name."""
    text = page.read_text(encoding="utf-8")
    for table in tables:
        before, mark, rest = text.partition(f"<!-- {table.__name__}: made by docs/references.py -->\n")
        assert mark, f"{page} has no place for {table.__name__}"
        text = before + mark + table() + END + rest.partition(END)[2]
    return text


def pages() -> dict[Path, str]:
    """What is to stand in each page."""
    guides = Path(__file__).parent
    return {
        REFERENCE / "settings.md": settings(),
        REFERENCE / "commands.md": commands(),
        guides / "troubleshooting.md": within(guides / "troubleshooting.md", errors),
        guides / "installation.md": within(guides / "installation.md", extras),
        guides / "migration.md": within(guides / "migration.md", names, modules),
    }


def main() -> None:
    """Write the pages."""
    assert {*POLICY} >= {
        kind for kind in vars(agouti).values() if inspect.isclass(kind) and issubclass(kind, AgoutiError)
    }
    for path, text in pages().items():
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
