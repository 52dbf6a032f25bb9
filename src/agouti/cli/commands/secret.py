"""``agouti secret``: keys in the operating system's keyring."""

import sys

import click

from ...core.errors import CredentialMissing
from ...core.secrets.secret import Secret
from ...credentials import keyring


@click.group("secret")
def command() -> None:
    """Keep keys in the operating system's keyring.

    An entry uses one with: key = { keyring = "NAME" }
    """


@command.command("put")
@click.argument("name")
def put(name: str) -> None:
    """Store the key NAME. It is asked for, or read from a pipe; never an argument, which others could see."""
    is_terminal = sys.stdin.isatty()
    value = str(click.prompt(f"Key for {name}", hide_input=True, err=True) if is_terminal else sys.stdin.read()).strip()
    if not value:
        raise click.UsageError("the key is empty")
    keyring.put(name, Secret(value))
    click.echo(f'Stored. In the provider\'s entry: key = {{ keyring = "{name}" }}', err=True)


@command.command("where")
@click.argument("name")
def where(name: str) -> None:
    """Say whether there is a key NAME, and in which keyring; never the key itself."""
    _check(name, f"Put it there: agouti secret put {name}")
    click.echo(f"{name} is in {keyring.describe()}, service {keyring.SERVICE}")


@command.command("remove")
@click.argument("name")
def remove(name: str) -> None:
    """Remove the key NAME from the keyring."""
    _check(name, "Nothing to remove.")
    keyring.remove(name)
    click.echo(f"{name} is removed from the keyring", err=True)


def _check(name: str, hint: str) -> None:
    if keyring.get(name) is None:
        raise CredentialMissing(f"the keyring has no entry {name} for {keyring.SERVICE}", hint=hint)
