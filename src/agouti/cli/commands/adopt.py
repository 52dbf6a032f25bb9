"""``agouti adopt``: a pasted curl command or address becomes configuration."""

import os
from collections.abc import Mapping
from pathlib import Path

import click
import msgspec

from ...core.errors import RequestError
from ...core.secret import Secret
from ..app import Settings
from ..text import given_text, paint


@click.command("adopt", context_settings={"ignore_unknown_options": True})
@click.argument("pasted", nargs=-1)
@click.option("--from", "file", metavar="FILE", help="Take the command from a file.")
@click.option("--write", is_flag=True, help="Put the entries into agouti.toml, and a literal key into --store.")
@click.option(
    "--store", type=click.Choice(["env", "keyring"]), default="env", show_default=True, help="For a literal key."
)
@click.option("--provider", metavar="NAME", default="", help="Your name for the provider.")
@click.option("--label", metavar="NAME", default="", help="Your name for the model.")
@click.pass_obj
def command(
    app: Settings, pasted: tuple[str, ...], file: str | None, write: bool, store: str, provider: str, label: str
) -> None:
    """Turn a curl command, or an address, into entries for agouti.toml.

    Paste it as one quoted argument, through a pipe, or with --from FILE. Without --write the entries are only printed.
    A key in it never goes into agouti.toml.
    """
    import shlex

    from ...adopt import curl
    from ...adopt.entries import adopt
    from ...config import write as files
    from ...config.load import FILE_NAME, nearest_file, shown_path, with_dotenv

    argument = pasted[0] if len(pasted) == 1 else shlex.join(pasted) if pasted else None
    adopted = adopt(curl.read(given_text(argument, file), _read_file), provider_label=provider, model_label=label)
    # Where it will be found again: a new file in this folder would hide the one further up.
    named = app.config or os.environ.get("AGOUTI_CONFIG")
    target = Path(named) if named else nearest_file(Path.cwd()) or Path(FILE_NAME)
    dotenv = target.absolute().parent / ".env"
    names = {
        name: files.free_name(name, secret, with_dotenv(dotenv, os.environ)) for name, secret in adopted.secrets.items()
    }
    source = "env" if store == "env" else "keyring"
    entry = _renamed(adopted.provider, names, source)
    secrets = {names[name]: secret for name, secret in adopted.secrets.items()}
    adopted = msgspec.structs.replace(adopted, provider=entry, secrets=secrets)
    click.echo(files.as_toml(adopted.entries), nl=False)
    notes = list(adopted.notes)
    if write:
        # The key first: an entry that names a key which is nowhere would be worse than the other way round.
        notes += files.write_dotenv(dotenv, secrets) if store == "env" and secrets else []
        notes += _put(secrets) if store == "keyring" else []
        files.write_toml(target, adopted.entries)
        notes.append(f"written to {shown_path(target)}; see whether all is well with: agouti check")
    else:
        notes += [
            f"a key was found; --write puts it into {'.env' if store == 'env' else 'the keyring'} as {name}"
            for name in secrets
        ]
        notes.append(f"nothing was written; --write adds this to {shown_path(target)}")
    for note in notes:
        click.echo(paint(f"# {note}", dim=True), err=True)


def _put(secrets: Mapping[str, Secret]) -> list[str]:
    from ...credentials import keyring

    for name, secret in secrets.items():
        keyring.put(name, secret)
    return [f"{name} is in the keyring" for name in secrets]


def _renamed(value: object, names: dict[str, str], source: str) -> object:
    if isinstance(value, dict):
        if list(value) == ["env"] and value["env"] in names:
            return {source: names[value["env"]]}
        return {name: _renamed(inner, names, source) for name, inner in value.items()}
    return value


def _read_file(path: str) -> str:
    try:
        return Path(path).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or error
        raise RequestError(
            f"the command takes its data from {path}, which cannot be read ({why})",
            hint="Run it where that file is, or put the data into the command.",
        ) from None
