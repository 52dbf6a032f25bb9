"""``--tag NAME=VALUE``: what the calls of a command are for, in the ledger, in budgets and in traces."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

import click

from ..client.client import Client
from .app import Settings
from .terminal_text import pairs_given

F = TypeVar("F", bound=Callable[..., Any])


def _keep(context: click.Context, _: click.Parameter, pairs: tuple[str, ...]) -> None:
    context.ensure_object(Settings).tags = pairs_given("--tag", pairs)


def TAG(function: F) -> F:  # noqa: N802 - it stands among the options
    """The option; what it says is kept in the settings of the application."""
    option = click.option(
        "--tag",
        metavar="NAME=VALUE",
        multiple=True,
        expose_value=False,
        callback=_keep,
        help="What it is for, in the ledger and in budgets; may be repeated.",
    )
    return option(function)


@contextmanager
def client_of(app: Settings) -> Iterator[Client]:
    """A client of the configuration; its calls have the tags that were given."""
    with Client(app.config) as client:
        yield client.tagged(**app.tags) if app.tags else client
