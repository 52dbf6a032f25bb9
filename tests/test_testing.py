"""What applications test with: scripted replies, archives, nothing that goes out; under pytest, unittest and asyncio."""

import asyncio
import os
import subprocess
import sys
import textwrap
import threading
import time
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from enum import Enum
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.standins.server import Served
from agouti.testing import WentOut, archived, offline, scripted, watched

from .hostile.kit import Connection, reply, serving

CONFIG = {
    "providers": {
        "northbank": {"address": "https://api.northbank.example/v1", "key": {"env": "NOT_THERE_KEY"}},
        "letterbox": {"address": "https://letterbox.example", "dialect": "messages", "key": {"env": "NOT_THERE_KEY"}},
        "canal": {"address": "https://canal.example/v1beta", "dialect": "contents"},
        "echo": {"address": "https://echo.example/v1", "dialect": "responses"},
        "barn": {"address": "http://barn.example", "dialect": "lines"},
        "quay": {"address": "https://quay.example", "dialect": "converse"},
    },
    "models": {
        "almanac": {"provider": "northbank", "name": "quill-large", "fallback": ["spare"], "system": "Two sentences.",
                    "price": {"input": 1, "output": 2, "currency": "USD"}},
        "spare": {"provider": "letterbox", "name": "envelope-2"},
    },
}  # fmt: skip


@dataclass
class Note:
    crop: str
    up: int


@pytest.mark.parametrize("provider", ["northbank", "letterbox", "canal", "echo", "barn", "quay"])
@pytest.mark.parametrize("kind", ["sync", "async"])
def test_scripted_replies_are_the_same_in_every_format(provider: str, kind: str) -> None:
    def double(number: int) -> int:
        """Twice."""
        return 2 * number

    label = f"m@{provider}"
    with scripted() as script:
        script.reply("In March.", pattern="peas")
        script.reply(Note("kale", 18), pattern="18 of 24")
        script.reply(calls=[("double", {"number": 21})], pattern="double", times=1)
        script.reply(lambda sent: f"It is {sent.messages[-1]['content']}.", pattern="42")
        script.vectors(16)
        if kind == "sync":
            with agouti.Client(CONFIG) as client:
                first = client.ask(label, "When do peas go in?", max_tokens=9)
                with client.stream(label, "And peas in pots?") as stream:
                    streamed = "".join(stream)
                filled = client.fill(label, Note, "18 of 24 up, kale").value
                worked = client.ask(label, "double 21", tools=[double], run_tools=True).text
        else:

            async def run() -> tuple[Any, str, Any, str]:
                async with agouti.AsyncClient(CONFIG) as client:
                    first = await client.ask(label, "When do peas go in?", max_tokens=9)
                    async with client.stream(label, "And peas in pots?") as stream:
                        streamed = "".join([text async for text in stream])
                    filled = (await client.fill(label, Note, "18 of 24 up, kale")).value
                    worked = await client.ask(label, "double 21", tools=[double], run_tools=True)
                    return first, streamed, filled, worked.text

            first, streamed, filled, worked = asyncio.run(run())
    assert (first.text, streamed, filled, worked) == ("In March.", "In March.", Note("kale", 18), "It is 42.")
    assert (first.cached, first.usage.output_tokens) == (False, 3)
    assert script.sent[0].parameters == {"max_tokens": 9}
    assert [each.label for each in script.sent] == [label] * 5


def test_scripted_faults_are_met_as_real_ones() -> None:
    with scripted() as script, agouti.Client(CONFIG) as client:
        script.error(agouti.RateLimited("slow down", status=429, wait=30), label="almanac", times=1)
        script.error(agouti.OutOfCredit, label="almanac", times=1)
        script.reply("From the spare.", label="spare")
        script.reply("one", "two", label="almanac")
        reply = client.ask("almanac", "Peas?", tags={"for": "letter"})
        assert (reply.text, [each.outcome for each in reply.attempts]) == ("From the spare.", ["RateLimited", "OutOfCredit", "answered"])  # fmt: skip
        assert [client.ask("almanac", "Peas?").text for _ in range(3)] == ["one", "two", "two"]
        assert client.ask("almanac", "Peas?").cost is not None
        sent = script.sent[0]
        assert (sent.asked, sent.name, sent.provider, sent.tags) == ("almanac", "quill-large", "northbank", {"for": "letter"})  # fmt: skip
        assert sent.messages == [{"role": "system", "content": "Two sentences."}, {"role": "user", "content": "Peas?"}]
        script.reply("cut", label="spare", finish_reason="length")
        with pytest.raises(agouti.NotRecorded, match=r"no reply to this chat of m@barn \('Beans\?'\)"):
            client.ask("m@barn", "Beans?")
        with pytest.raises(agouti.NotRecorded, match="embeddings"):
            client.embed("m@northbank", ["a"])
        with pytest.raises(agouti.NotRecorded, match=r"nothing was sent|no reply"):
            client.models("northbank")
        script.vectors()
        made = client.embed("m@northbank", ["broad beans", "beans, broad", "kale"])
        assert made.near(made[0], 2)[1].index == 1


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_nothing_is_waited_for(kind: str) -> None:
    """A scripted refusal asks for a minute; no test waits for it."""
    with scripted() as script:
        script.error(agouti.RateLimited("slow down", status=429, wait=60), times=2)
        script.reply("In March.")
        began = time.monotonic()
        if kind == "sync":
            with agouti.Client(CONFIG) as client:
                text = client.ask("m@northbank", "Peas?", retries={"max": 3, "max_wait": 100}).text
        else:

            async def run() -> str:
                async with agouti.AsyncClient(CONFIG) as client:
                    return (await client.ask("m@northbank", "Peas?", retries={"max": 3, "max_wait": 100})).text

            text = asyncio.run(run())
    assert text == "In March."
    assert time.monotonic() - began < 30


def test_texts_that_share_words_are_near_and_others_are_not() -> None:
    with scripted() as script, agouti.Client(CONFIG) as client:
        script.vectors(16)
        made = client.embed(
            "m@northbank", ["broad beans in rows", "rows of broad beans", "kale", "broad beans in rows"]
        )
    scores = {each.index: each.score for each in made.near(made[0], 4)}
    assert scores[0] == scores[3] == pytest.approx(1)
    assert scores[1] > 0.6 > scores[2]


def test_clients_that_are_there_already_and_other_threads_are_scripted_too() -> None:
    client = agouti.Client.at("https://api.northbank.example/v1")
    came: list[str] = []
    with scripted() as script:
        script.reply("In March.")
        thread = threading.Thread(target=lambda: came.append(client.ask("m", "Peas?").text))
        thread.start()
        thread.join()
    assert came == ["In March."]
    with pytest.raises(WentOut, match=r"POST https://api\.northbank\.example/v1/chat/completions"):
        with offline():
            try:
                client.ask("m", "Peas?")
            except agouti.AgoutiError:
                came.append("caught by the application")
    assert len(came) == 2
    client.close()


def test_archives_answer_and_say_what_is_new(served: Served, tmp_path: Path) -> None:
    path = tmp_path / "kept" / "replies.har"
    with pytest.raises(agouti.RequestError, match="no archive"):
        with archived(path):
            pass
    with archived(path, "extend"), agouti.Client(served.config) as client:
        first = client.ask("almanac", "When do peas go in?").text
    without = agouti.load_config(
        {"providers": {"northbank": {"address": served.address("northbank"), "key": {"env": "NOT_THERE"}}}}
    )
    question = {"temperature": 0.2, "system": "You answer growers' questions in two sentences."}
    with archived(path), watched() as sent, agouti.Client(without) as client:
        assert client.ask("quill-large@northbank", "When do peas go in?", **question).text == first  # type: ignore[arg-type]
        with pytest.raises(agouti.NotRecorded, match="has no reply") as caught:
            client.ask("quill-large@northbank", "And beans?")
        assert "extend" in caught.value.hint
        assert [each.text for each in sent] == ["When do peas go in?", "And beans?"]
    before = path.stat().st_size
    with archived(path, "extend"), agouti.Client(served.config) as client:
        client.ask("almanac", "When do peas go in?")
        assert path.stat().st_size == before
        client.ask("almanac", "And beans?")
        assert path.stat().st_size > before
    with archived(path, "renew"), agouti.Client(served.config) as client:
        client.ask("almanac", "And kale?")
    assert "peas" not in path.read_text()
    with pytest.raises(agouti.RequestError, match="extend"):
        with archived(path, "append"):  # type: ignore[arg-type]
            pass
    path.write_text("my notes")
    with pytest.raises(agouti.ConfigError, match="not an HTTP Archive"):
        with archived(path):
            pass


class Crop(Enum):
    KALE = "kale"


@dataclass
class Germination:
    crop: Crop
    sown: date
    seeds: list[Note]
    weight: Decimal


@pytest.mark.parametrize("provider", ["northbank", "letterbox", "canal", "barn"])
@pytest.mark.parametrize(
    ("kind", "value"),
    [
        (Germination, Germination(Crop.KALE, date(2026, 3, 1), [Note("kale", 18)], Decimal("1.50"))),
        (list[Note], [Note("kale", 18), Note("peas", 2)]),
        (str, "In March."),
        (int, 18),
    ],
)
def test_values_of_a_form_are_said_as_they_are(provider: str, kind: Any, value: Any) -> None:
    with scripted() as script, agouti.Client(CONFIG) as client:
        script.reply(value)
        assert client.fill(f"m@{provider}", kind, "Read it.").value == value


@pytest.mark.parametrize("ends_well", [True, False])
def test_archive_is_renewed_once_the_block_has_ended_well(served: Served, tmp_path: Path, ends_well: bool) -> None:
    path = tmp_path / "replies.har"
    with agouti.Client(served.config) as client:
        with archived(path, "extend"):
            client.ask("almanac", "Peas?")
        before = path.read_bytes()
        try:
            with archived(path, "renew"):
                client.ask("almanac", "Kale?")
                assert path.read_bytes() == before
                if not ends_well:
                    raise KeyboardInterrupt
        except KeyboardInterrupt:
            pass
        assert (path.read_bytes() == before) is not ends_well
        assert [each.name for each in tmp_path.iterdir()] == ["replies.har"]
        with archived(path):
            client.ask("almanac", "Kale?" if ends_well else "Peas?")


def test_only_this_machine_may_be_asked_and_no_other_file_is_renewed(tmp_path: Path) -> None:
    for host in ("localhost.far.example", "127.far.example"):
        with agouti.Client.at(f"http://{host}/v1") as client, pytest.raises(WentOut):
            with offline():
                with pytest.raises(agouti.NotRecorded):
                    client.ask("m", "Peas?")
    notes = tmp_path / "notes.har"
    notes.write_text("my notes")
    with pytest.raises(agouti.ConfigError):
        with archived(notes, "renew"):
            pass
    assert notes.read_text() == "my notes"


APPLICATION = """
    import agouti
    client = agouti.Client({"providers": {"p": {"address": "%s", "key": {"env": "SHED_TEST_KEY"}}}})
    def month(crop):
        return client.ask("m@p", f"When does {crop} go in?").text
"""
TESTS = """
    import asyncio, unittest, pytest, agouti
    from agouti.testing import scripted as by_hand
    from application import month

    def test_scripted(scripted, sent):
        scripted.reply("March", pattern="peas")
        assert month("peas") == "March"
        assert [each.text for each in sent] == ["When does peas go in?"]

    def test_of_the_providers(providers):
        with agouti.Client(providers.config) as client:
            assert client.ask("almanac", "Peas?").text

    @pytest.mark.agouti_archive("kept/peas.har")
    def test_archive():
        assert month("peas") == "From the archive."

    @pytest.mark.agouti_offline
    def test_that_would_cost():
        try:
            month("beans")
        except agouti.AgoutiError:
            pass

    class Cases(unittest.TestCase):
        def test_month(self):
            with by_hand() as script:
                script.reply("April")
                self.assertEqual(month("beans"), "April")

    class AsyncCases(unittest.IsolatedAsyncioTestCase):
        async def test_month(self):
            with by_hand() as script:
                script.reply("May")
                async with agouti.AsyncClient.at("https://p.example") as client:
                    self.assertEqual((await client.ask("m", "Tomatoes?")).text, "May")

    @pytest.mark.anyio
    async def test_of_an_asyncio_plugin(scripted):
        scripted.reply("June")
        async with agouti.AsyncClient.at("https://p.example") as client:
            assert (await client.ask("m", "Basil?")).text == "June"

    @pytest.fixture
    def anyio_backend():
        return "asyncio"
"""


TWO = """
    import pytest
    from application import month

    @pytest.mark.agouti_archive("kept/both.har")
    def test_peas():
        assert month("peas") == "From the archive."

    @pytest.mark.agouti_archive("kept/both.har")
    def test_kale():
        assert month("kale") == "From the archive."
"""


EARLY = """
    import application
    from agouti.testing import scripted

    with scripted() as script:  # a client that is in use before the session begins
        script.reply("early")
        assert application.month("peas") == "early"
"""
EARLY = """
    import application
    from agouti.testing import scripted

    with scripted() as script:  # a client that is in use before the session begins
        script.reply("early")
        assert application.month("peas") == "early"
"""
PLACES = """
    import subprocess, sys, unittest, agouti, pytest
    from application import month

    def refused():
        with pytest.raises(agouti.NotRecorded):
            month("peas")

    @pytest.fixture(scope="session")
    def of_the_session():
        refused()

    @pytest.fixture(scope="module")
    def of_the_module():
        refused()

    def test_of_fixtures(of_the_session, of_the_module):
        pass

    class TestClass:
        def setup_class(cls):
            refused()

        def test_it(self):
            pass

    class Cases(unittest.TestCase):
        @classmethod
        def setUpClass(cls):
            refused()

        def test_it(self):
            pass

    def test_of_a_program():
        code = "import application; application.month('peas')"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        assert "NotRecorded" in done.stderr and "far.example" in done.stderr, done.stderr
"""


def test_plugin_is_found_and_works_with_others(tmp_path: Path) -> None:
    from .hostile.kit import answer, serving

    with serving(lambda connection, _: connection.write(answer("From the archive."))) as server:
        (tmp_path / "application.py").write_text(textwrap.dedent(APPLICATION % server.address))
        (tmp_path / "test_it.py").write_text(textwrap.dedent(TESTS))
        (tmp_path / "pytest.ini").write_text("[pytest]\n")

        def run(*arguments: str) -> str:
            environment = {**os.environ, "SHED_TEST_KEY": "sk-1", "PYTHONPATH": str(tmp_path)}
            done = subprocess.run(
                [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-W", "error", "--strict-markers", *arguments],
                cwd=tmp_path, capture_output=True, text=True, check=False, env=environment,
            )  # fmt: skip
            return done.stdout + done.stderr

        first = run()
        assert "5 passed" in first or "6 passed" in first, first
        assert "no archive" in first
        assert "this would have cost: POST http" not in first  # this machine may be asked
        recorded = run("-k", "archive", "--agouti-archives=extend")
        assert "1 passed" in recorded, recorded
        asked = len(server.questions)
        again = run("-k", "archive")
        assert "1 passed" in again, again
        assert len(server.questions) == asked
        (tmp_path / "test_two.py").write_text(textwrap.dedent(TWO))
        assert "2 passed" in run("test_two.py", "--agouti-archives=renew")  # what one has, the other keeps
        asked = len(server.questions)
        assert "2 passed" in run("test_two.py")
        assert len(server.questions) == asked
        before = (tmp_path / "kept" / "both.har").read_bytes()
        (tmp_path / "test_two.py").write_text(textwrap.dedent(TWO).replace('"kale") == "From', '"kale") == "Not from'))
        assert "1 failed, 1 passed" in run("test_two.py", "--agouti-archives=renew")
        assert (tmp_path / "kept" / "both.har").read_bytes() == before
        assert [each.name for each in (tmp_path / "kept").iterdir() if each.name.startswith(".")] == []
        (tmp_path / "application.py").write_text(textwrap.dedent(APPLICATION % "https://far.example/v1"))
        (tmp_path / "pytest.ini").write_text("[pytest]\nagouti_offline = true\n")
        guarded = run("-k", "cost or scripted")
        assert "this would have cost: POST https://far.example/v1/chat/completions" in guarded
        assert "1 error" in guarded
        (tmp_path / "test_places.py").write_text(textwrap.dedent(PLACES))
        (tmp_path / "conftest.py").write_text(textwrap.dedent(EARLY))
        places = run("test_places.py")
        assert "4 passed" in places, places


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_what_a_call_fetches_besides_does_not_go_out_of_a_script(kind: str) -> None:
    """An image by its address, where the format wants the image itself."""

    def behave(connection: Connection, _: int) -> None:
        connection.write(reply(b"GIF89a"))

    with serving(behave) as server, scripted() as script:
        script.reply("a pea")
        entry = {
            "providers": {"p": {"address": "https://p.example", "dialect": "converse", "key": "k"}},
            "models": {"m": {"provider": "p", "name": "x"}},
        }
        image = f"{server.address}/packet.gif"
        more: dict[str, Any] = {"images": [image], "fetch_images": "private"}

        async def ask() -> None:
            async with agouti.AsyncClient(entry) as client:
                await client.ask("m", "What is it?", **more)

        with pytest.raises(agouti.NotRecorded, match="the script has no reply to GET"):
            if kind == "async":
                asyncio.run(ask())
            else:
                with agouti.Client(entry) as client:
                    client.ask("m", "What is it?", **more)
    assert server.requests == []
