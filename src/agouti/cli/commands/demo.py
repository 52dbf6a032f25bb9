"""``agouti demo``: the whole tour, step by step, against the stand-ins.

Each step is Python text: what is printed is what is run.
"""

import contextlib
import io
import re
import shutil
import sys
import textwrap
from typing import Any, TextIO

import click

from ..terminal_text import colour, paint

STEPS: tuple[tuple[str, str], ...] = (
    (
        "Ask one question",
        """
        reply = client.ask("almanac", "When do broad beans go in?")
        print(reply)
        """,
    ),
    (
        "The rest is one attribute away",
        """
        print(reply.provider, reply.model, reply.finish_reason, reply.truncated)
        print(reply.usage.input_tokens, "tokens in,", reply.usage.output_tokens, "out")
        print(f"{reply.cost:.6f} USD in {reply.elapsed * 1000:.0f} ms")
        """,
    ),
    (
        "Another provider: change one word",
        """
        print(client.ask("almanac-local", "When does garlic go in?"))
        """,
    ),
    (
        "Text as it comes",
        """
        with client.stream("almanac", "Plan my spring bed.", max_tokens=24) as stream:
            for text in stream:
                print(text, end="", flush=True)
        print()
        print("cut off:", stream.reply.truncated, f"- first token after {stream.reply.first_token * 1000:.0f} ms")
        """,
    ),
    (
        "Is everything in order? Address, key and name, without spending a token",
        """
        for checked in agouti.check(client, ["almanac", "almanac-local"]):
            print(checked.provider, "is all well" if checked.ok else "has something wrong")
        """,
    ),
    (
        "Other providers, other wire formats: the same call",
        """
        for model in ("envelope-2@letterbox", "narrow-3@canal", "valley-4@echo", "vellum-base@scroll",
                      "loam-2b:latest@barn", "grist-1@mill", "potters/clinker-7b@kiln", "hull.deck-2:0@quay"):
            reply = client.ask(model, "When does garlic go in?", max_tokens=12)
            spoken = client.config.provider(reply.provider).dialect
            print(f"{spoken:10}{reply.usage.total_tokens:3} tokens   {reply}")
        """,
    ),
    (
        "Values of your own types, checked",
        """
        from dataclasses import dataclass

        @dataclass
        class Germination:
            crop: str
            sown: int
            up: int

        note = "Broad beans, sown 4 March under fleece: 18 of 24 up by the 15th."
        filled = client.fill("almanac", Germination, note)
        print(filled.value, "by", filled.output_method)
        """,
    ),
    (
        "Functions that the model calls",
        """
        def days_to_frost(place: str) -> int:
            'Days until the last frost is expected.'
            return 11

        talk = client.conversation("almanac", tools=[days_to_frost])
        print(talk.say("How many days until the last frost at Marsh Lane?"))
        """,
    ),
    (
        "Texts by their meaning",
        """
        shelf = client.embed("finder", ["Kale that stands hard frost.", "Cucumber for a greenhouse."])
        print(shelf.near(client.embed("finder", "what stands the frost"), 1)[0].text)
        """,
    ),
    (
        "Several models, side by side",
        """
        labels = ["almanac", "almanac-local"]
        compared = agouti.compare(client, labels, "When do peas go in?", contains="March", repeats=2)
        for row in compared.summary:
            print(f"{row.label:14} {row.checks['contains'].value:.0%} say March, {row.seconds.value * 1000:.0f} ms")
        """,
    ),
    (
        "The same for every row, kept as it comes",
        """
        notes = ["Kale: 20 of 24 up.", "Leek: 3 of 30 up.", "Pea: all up."]
        for row in agouti.batch(client, "almanac", notes, prompt="In one word, how did it go? {text}", max_tokens=8):
            print(row.key, row.answer)
        """,
    ),
    (
        "No more than this may be spent",
        """
        with client.budget(0.00015, "USD") as budget:
            try:
                for _ in range(5):
                    client.ask("almanac", "When do peas go in?", max_tokens=20)
            except agouti.BudgetExceeded as error:
                print(f"spent {budget.spent:.6f} USD; {error.message}")
        """,
    ),
    (
        "Every language: what a tool needs to reach a model through agouti relay",
        """
        print(client.settings("almanac", relay="127.0.0.1:8309").environment())
        """,
    ),
    (
        "A wrong name says which names are near",
        """
        try:
            client.ask("almanak", "When do peas go in?")
        except agouti.AgoutiError as error:
            print(f"{type(error).__name__}: {error}")
        """,
    ),
    (
        "A stream that breaks keeps what came",
        """
        try:
            for text in client.stream("loam-2b+cut=9@shed", "When does garlic go in?"):
                pass
        except agouti.StreamCut as error:
            print(f"{error.message}")
            print(f"came before: {error.partial.text!r}")
        """,
    ),
)


class _Indented(io.TextIOBase):
    """Writes what a step prints, set in and broken between words, at once for a stream."""

    _INDENT = "    "

    def __init__(self, out: TextIO, width: int) -> None:
        self._out = out
        self._width = width
        self._column = 0

    def writable(self) -> bool:
        return True

    def write(self, text: str) -> int:
        for part in re.findall(r"\n| *[^ \n]+| +", text):
            if part == "\n":
                self._column = 0
            elif self._column == 0 or self._column + len(part) > self._width:
                self._out.write(("\n" if self._column else "") + self._INDENT)
                part = part.lstrip() if self._column else part
                self._column = len(self._INDENT)
            self._out.write(part)
            self._column += len(part) if part != "\n" else 0
        self._out.flush()
        return len(text)


@click.command("demo")
def command() -> None:
    """Show what Agouti does, step by step, against simulated providers on this machine.

    Needs no key and no network, and leaves nothing behind.
    """
    import agouti

    from ...core.errors import ConfigError

    try:
        from ...standins.server import serve
    except ModuleNotFoundError as error:
        raise ConfigError(
            f"the demo needs {error.name}, which is not installed",
            hint="Install it: pip install 'agouti-client[standins]'",
        ) from None
    with serve(pace=0.01 if colour() else 0.0) as served, agouti.Client(served.config) as client:
        click.echo(
            paint("Marsh Lane Seed Library", bold=True) + ": made-up providers are running, one for each wire format."
        )
        scope: dict[str, Any] = {"agouti": agouti, "client": client}
        for number, (title, code) in enumerate(STEPS, 1):
            code = textwrap.dedent(code).strip()
            click.echo()
            click.echo(paint(f"{number}. {title}", bold=True))
            for line in code.splitlines():
                click.echo(paint(f"  > {line}", fg="cyan"))
            with contextlib.redirect_stdout(_Indented(sys.stdout, min(shutil.get_terminal_size().columns, 110))):
                exec(compile(code, f"<step {number}>", "exec"), scope)  # noqa: S102
    click.echo()
    click.echo("Yours next: agouti standins shows a configuration; agouti ask LABEL TEXT asks from the shell.")
