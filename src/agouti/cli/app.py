"""The command group: finds commands by name, turns errors into two lines and an exit code.

Exit codes: 0 fine; 1 the provider or the work failed; 2 wrong use or configuration; 130 interrupted.
"""

import sys
from importlib import import_module

import click

from .._former import current_switches
from .._version import __version__
from ..core.errors import AgoutiError
from ..core.secrets.masking import printable
from ..engine.attempts.error_policy import policy_of
from . import streams, wording
from .examples import epilog
from .terminal_text import show_json

# A command's module is imported when it is called or listed, so that `agouti ask` loads no server.
_COMMANDS = {
    "demo": "Show what Agouti does, against simulated providers.",
    "standins": "Run the simulated providers.",
    "adopt": "Turn a pasted curl command or address into configuration.",
    "check": "Look whether addresses, keys and model names are right.",
    "models": "List what all providers offer, with prices and context windows.",
    "explain": "Show the request for a label, and where each setting came from.",
    "usage": "Show what was used and spent.",
    "secret": "Keep keys in the operating system's keyring.",
    "ask": "Ask a model one question.",
    "talk": "Hold a conversation with a model.",
    "compare": "Ask several models the same, side by side.",
    "fill": "Let a model fill a form, from a text or from every line of a file.",
    "batch": "Ask one model about every row of a file, and go on after a stop.",
    "embed": "Turn lines of text into vectors: search them, or keep them.",
    "relay": "Serve every model at one address, for programs in any language.",
    "schema": "Print the JSON Schema of agouti.toml, for editors.",
}


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        name, command, arguments = super().resolve_command(ctx, args)
        with_value = {
            each
            for option in (command.params if command is not None else ())
            if isinstance(option, click.Option) and not option.is_flag and not option.count
            for each in option.opts
        }
        arguments, former = current_switches(name or "", arguments, with_value)
        for old, new in former:
            click.echo(f"agouti: {old} is {new} now; the former name goes with 0.4", err=True)
        return name, command, arguments

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        module = import_module(f"..commands.{cmd_name}", __name__)
        command: click.Command = module.command
        _with_examples(command, cmd_name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))


def _with_examples(command: click.Command, path: str) -> None:
    command.epilog = epilog(path)
    for name, inner in (command.commands if isinstance(command, click.Group) else {}).items():
        _with_examples(inner, f"{path} {name}")


class Settings:
    """What the options before the command say."""

    def __init__(self, config: str | None = None, debug: bool = False) -> None:
        self.config = config
        self.debug = debug
        self.tags: dict[str, str] = {}


@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.option("--config", metavar="FILE", help="Take this configuration instead of the nearest agouti.toml.")
@click.option("--debug", is_flag=True, help="Show the traceback of an error.")
@click.option("-v", "--verbose", count=True, help="Say what is retried and why; -vv: every request.")
@click.version_option(__version__, prog_name="agouti")
@click.pass_context
def command(context: click.Context, config: str | None, debug: bool, verbose: int) -> None:
    """Call hosted and local language models by your own labels for them."""
    context.obj = Settings(config, debug)
    if verbose:
        import logging

        logging.basicConfig(format="%(asctime)s %(message)s", datefmt="%H:%M:%S", stream=sys.stderr)
        logging.getLogger("agouti").setLevel(logging.DEBUG if verbose > 1 else logging.INFO)


def run(arguments: list[str]) -> int:
    """Run the command line; return the exit code."""
    output = streams.opened()
    if output is None:
        return _two_lines("standard output is closed", "Send it somewhere: agouti ... > FILE, or into a pipe.", 1)
    try:
        code = _run(arguments, output)
        output.flush()
    except BrokenPipeError:
        streams.silence(output)
        code = 1
    finally:
        sys.stdout = output.inner
    if output.failure is not None:
        reason = output.failure.strerror or str(output.failure)
        return _two_lines(
            f"standard output cannot be written ({reason})", "What it did not take is shown above.", code or 1
        )
    if output.escaped:
        message = f"{output.escaped} letters are written as escapes: standard output takes {output.encoding} alone"
        click.echo(f"  ({message}; set PYTHONIOENCODING=utf-8)", err=True)
    return code


def _run(arguments: list[str], output: "streams.Output") -> int:
    try:
        result = command.main(arguments, prog_name="agouti", standalone_mode=False)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message())
        return 2
    except click.UsageError as error:
        path = error.ctx.command_path if error.ctx is not None else "agouti"
        return _wrong_use(error.format_message(), f"See: {path} --help", arguments, output)
    except click.ClickException as error:
        return _wrong_use(error.format_message(), "", arguments, output)
    except AgoutiError as error:
        if "--debug" in arguments:
            import traceback

            traceback.print_exc()
        chosen = wording.chosen(arguments, command, click.Context(command))
        hint = wording.in_options(error.hint, wording.options_of(chosen))
        if "--json" in arguments and not output.wrote:
            show_json(wording.as_json(error, hint))
        return _two_lines(error.message, hint, exit_code(error))
    except (KeyboardInterrupt, click.Abort) as stop:
        if isinstance(stop.__cause__, EOFError):
            return _last_resort(stop.__cause__, arguments)
        click.echo("", err=True)
        return 130
    except BrokenPipeError:
        # The reader of a pipe has gone. Python would complain once more when it flushes at exit.
        streams.silence(output)
        return 1
    except Exception as error:
        return _last_resort(error, arguments)
    return result if isinstance(result, int) else 0


def _last_resort(error: Exception, arguments: list[str]) -> int:
    """An error that is none of ours is a defect: said in two lines all the same."""
    if "--debug" in arguments:
        import traceback

        traceback.print_exc()
    where = "" if "--debug" in arguments else "Run it again with --debug before the command, and "
    return _two_lines(
        f"something went wrong that should not: {type(error).__name__}",
        f"{where}report what it prints, without keys: it is a defect of Agouti.".capitalize(),
        1,
    )


def _wrong_use(message: str, hint: str, arguments: list[str], output: "streams.Output") -> int:
    if "--json" in arguments and not output.wrote:
        show_json({"error": {"kind": "UsageError", "message": message, "what": message, "hint": hint}})
    return _two_lines(message, hint, 2)


def exit_code(error: AgoutiError) -> int:
    """The exit code that an error amounts to."""
    return policy_of(type(error)).exit_code


def _two_lines(message: str, hint: str, code: int) -> int:
    click.echo(f"agouti: {printable(' '.join(message.split()))}", err=True)
    if hint:
        click.echo(f"  {printable(' '.join(hint.split()))}", err=True)
    return code
