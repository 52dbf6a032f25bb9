"""``agouti adopt``: a pasted curl command or address becomes configuration."""

import os
from collections.abc import Mapping
from contextlib import nullcontext
from pathlib import Path

import click
import msgspec

from ...core.errors import ConfigError, RequestError
from ...core.secrets.masking import printable
from ...core.secrets.secret import Secret
from ..app import Settings
from ..terminal_text import given_text, paint


@click.command("adopt", context_settings={"ignore_unknown_options": True})
@click.argument("pasted", nargs=-1)
@click.option("--from", "file", metavar="FILE", help="Take the command from a file.")
@click.option("--write", is_flag=True, help="Put the entries into agouti.toml, and a literal key into --store.")
@click.option(
    "--store", type=click.Choice(["env", "keyring"]), default="env", show_default=True, help="For a literal key."
)
@click.option("--replace-key", is_flag=True, help="The provider has an entry already: only its key is new.")
@click.option("--provider", metavar="NAME", default="", help="Your name for the provider.")
@click.option("--label", metavar="NAME", default="", help="Your name for the model.")
@click.pass_obj
def command(
    app: Settings,
    pasted: tuple[str, ...],
    file: str | None,
    write: bool,
    store: str,
    replace_key: bool,
    provider: str,
    label: str,
) -> None:
    """Turn what you have into entries for agouti.toml: a curl or wget command, an HTTP request, lines of a .env
    file, a few lines of code that call a model by hand, or an address.

    Paste it as one quoted argument, through a pipe, or with --from FILE. Without --write the entries are only printed.
    A key in it never goes into agouti.toml. What is not understood is an error, and never an entry.
    """
    import shlex

    from ...adopt import pasted as reading
    from ...adopt.entries import adopt
    from ...config import write as files
    from ...config.load import with_dotenv
    from ...config.search import FILE_NAME, nearest_file, shown_path
    from ...runtime.atomic_files import alone_in

    argument = pasted[0] if len(pasted) == 1 else shlex.join(pasted) if pasted else None
    text = given_text(argument, file, question="Paste the command, then press Ctrl-D:")
    adopted = adopt(reading.read(text, _read_file), provider_label=provider, model_label=label)
    # Where it will be found again: a new file in this folder would hide the one further up.
    named = app.config or os.environ.get("AGOUTI_CONFIG")
    target = Path(named) if named else nearest_file(Path.cwd()) or Path(FILE_NAME)
    dotenv = target.absolute().parent / ".env"
    with alone_in(_folder(target)) if write else nullcontext():
        variables = with_dotenv(dotenv, os.environ)
        in_use = {} if replace_key else variables
        names = {name: files.free_name(name, secret, in_use) for name, secret in adopted.secrets.items()}
        source = "env" if store == "env" else "keyring"
        entry = _renamed(adopted.provider, names, source)
        secrets = {names[name]: secret for name, secret in adopted.secrets.items()}
        adopted = msgspec.structs.replace(adopted, provider=entry, secrets=secrets)
        click.echo(files.as_toml(adopted.entries), nl=False)
        notes = list(adopted.notes)
        if write:
            # What stands in the way is seen before anything is written. Then the key first: an entry that names a key
            # which is nowhere would be worse than the other way round.
            files.with_entries(target, adopted.entries)
            notes += files.write_dotenv(dotenv, secrets) if store == "env" and secrets else []
            notes += _put(secrets) if store == "keyring" else []
            files.write_toml(target, adopted.entries)
            notes.append(f"written to {shown_path(target)}; see whether all is well with: agouti check")
        else:
            where = ".env" if store == "env" else "the keyring"
            notes += [
                f"a key was found ({_ending(secret)}); --write puts it into {where} as {name}"
                for name, secret in secrets.items()
            ]
            notes.append(f"nothing was written; --write adds this to {shown_path(target)}")
    if file is not None and secrets:
        notes.append(f"the key still stands in {file}: remove that file")
    for note in notes:
        click.echo(paint(f"# {printable(note)}", dim=True), err=True)


def _folder(target: Path) -> Path:
    folder = target.absolute().parent
    if not folder.is_dir():
        raise ConfigError(f"there is no folder {folder}", hint="Make it first, or name another file.")
    return folder


def _ending(secret: Secret) -> str:
    """Enough of a key to know it again."""
    value = secret.reveal()
    return f"...{value[-4:]}" if len(value) >= 16 else f"{len(value)} characters"


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
        reason = getattr(error, "strerror", None) or error
        raise RequestError(
            f"the command takes its data from {path}, which cannot be read ({reason})",
            hint="Run it where that file is, or put the data into the command.",
        ) from None
