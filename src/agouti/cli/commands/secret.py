"""``agouti secret``: keys in the operating system's keyring."""

import sys

import click

from ...core.errors import CredentialMissing
from ...credentials.sources import KEYRING_SERVICE


@click.group("secret")
def command() -> None:
    """Keep keys in the operating system's keyring.

    An entry uses one with: key = { keyring = "NAME" }
    """


@command.command("put")
@click.argument("name")
def put(name: str) -> None:
    """Store the key NAME. It is asked for, or read from a pipe; never an argument, which others could see."""
    from ...adopt.files import keyring_call

    asked = sys.stdin.isatty()
    value = str(click.prompt(f"Key for {name}", hide_input=True, err=True) if asked else sys.stdin.read()).strip()
    if not value:
        raise click.UsageError("the key is empty")
    keyring_call("set_password", KEYRING_SERVICE, name, value)
    click.echo(f'Stored. In the provider\'s entry: key = {{ keyring = "{name}" }}', err=True)


@command.command("where")
@click.argument("name")
def where(name: str) -> None:
    """Say whether there is a key NAME, and in which keyring; never the key itself."""
    from ...adopt.files import keyring_call

    if not keyring_call("get_password", KEYRING_SERVICE, name):
        raise CredentialMissing(
            f"the keyring has no entry {name} for {KEYRING_SERVICE}", hint=f"Put it there: agouti secret put {name}"
        )
    import keyring

    click.echo(f"{name} is in {keyring.get_keyring().name}, service {KEYRING_SERVICE}")


@command.command("remove")
@click.argument("name")
def remove(name: str) -> None:
    """Remove the key NAME from the keyring."""
    from ...adopt.files import keyring_call

    if not keyring_call("get_password", KEYRING_SERVICE, name):
        raise CredentialMissing(f"the keyring has no entry {name} for {KEYRING_SERVICE}", hint="Nothing to remove.")
    keyring_call("delete_password", KEYRING_SERVICE, name)
    click.echo(f"{name} is removed from the keyring", err=True)
