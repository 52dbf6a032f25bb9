"""``agouti standins``: the simulated providers, until interrupted."""

import signal
import threading

import click

from ..terminal_text import paint


@click.command("standins")
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Port; a free one by default.")
@click.option("--seed", type=int, default=1, show_default=True, help="The same seed, the same answers.")
@click.option("--pace", type=click.FloatRange(0, 10), default=0.02, show_default=True, help="Seconds between tokens.")
@click.option("--all", "everything", is_flag=True, help="Print the entries of all providers.")
def command(port: int, seed: int, pace: float, everything: bool) -> None:
    """Run the simulated providers and print the configuration that reaches them.

    Paste it into agouti.toml. They run until Ctrl-C. --all adds the ones with odd demands.
    """
    from ...core.errors import ConfigError

    try:
        from ...standins.server import keys, serve
    except ModuleNotFoundError as error:
        raise ConfigError(
            f"the stand-ins need {error.name}, which is not installed",
            hint="Install it: pip install 'agouti-client[standins]'",
        ) from None
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    try:
        with serve(seed=seed, pace=pace, port=port) as served:
            click.echo(served.toml, nl=False)
            further_labels = (
                [label for label in served.labels if label not in ("northbank", "shed")] if everything else []
            )
            for label in further_labels:
                click.echo(f"\n{served.entry(label)}", nl=False)
            click.echo(paint("\n# in the shell that calls them (or in .env, without export):", dim=True), err=True)
            click.echo(keys(served.keys(None if everything else ("northbank", "shed"))), err=True)
            click.echo(paint("# running until Ctrl-C", dim=True), err=True)
            stop.wait()
    except OSError as error:
        raise ConfigError(
            f"port {port} cannot be used ({error.strerror or error})", hint="Leave --port out: a free one is taken."
        ) from None
