"""What callers, hooks and providers hand in is checked where it comes in: an error of ours, and nothing is lost."""

import asyncio
import json
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.engine.hooks import AnsweringHook, SendingHook
from agouti.testing import AsyncFakeTransport, FakeTransport, scripted

GOOD = HttpReply(200, {}, json.dumps({"choices": [{"message": {"content": "ok"}, "finish_reason": "stop"}]}).encode())


def config(**provider: Any) -> dict[str, Any]:
    entry = {"address": "https://one.example/v1", "retries": {"max": 0}, **provider}
    models = {"m": {"provider": "p", "name": "x", "fallback": ["n"]}, "n": {"provider": "p", "name": "y"}}
    return {"providers": {"p": entry}, "models": models}


ODD: list[Any] = [
    None,
    7,
    1.5,
    True,
    b"x",
    object(),
    {},
    [],
    [None],
    [7],
    {"a": 1},
    "",
    "a\0b",
    "\ud800",
    float("nan"),
    Decimal(1),
    int,
]
METHODS = ["ask", "stream", "fill", "exchange", "embed", "conversation", "count", "models", "settings", "budget"]


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("place", [0, 1, 2])
def test_odd_values_at_every_public_method(method: str, place: int) -> None:
    usual: dict[str, list[Any]] = {
        "fill": ["m", int, "x"], "exchange": [{"model": "m", "messages": [{"role": "user", "content": "x"}]}],
        "models": ["p"], "settings": ["m"], "budget": [1.0, "USD"], "conversation": ["m"],
    }  # fmt: skip
    arguments = usual.get(method, ["m", "x"])
    if place >= len(arguments):
        pytest.skip("it takes no more")
    for odd in ODD:
        given = [*arguments[:place], odd, *arguments[place + 1 :]]
        with agouti.Client(config(), transport=FakeTransport([GOOD] * 9)) as client:
            with suppress(agouti.AgoutiError):  # and nothing else
                made = getattr(client, method)(*given)
                if method == "stream":
                    list(made)


class Markup(str):
    def __str__(self) -> str:
        return "never asked for"


def test_texts_and_numbers_of_other_classes_are_what_they_are() -> None:
    import numpy

    fake = FakeTransport([GOOD])
    with agouti.Client(config(), transport=fake) as client:
        client.ask(
            "m", Markup("hi"), system=Markup("sys"), extra={"weights": numpy.float32(0.5), "rows": numpy.int64(3)}
        )
    body = json.loads(fake.requests[0].body or b"")
    assert [message["content"] for message in body["messages"]] == ["sys", "hi"]
    assert (body["weights"], body["rows"]) == (0.5, 3)


@pytest.mark.parametrize(
    "address", ["http://[::1", "http://host:x/", "http://h:99999/", "ftp://a.example", "http://u@a.example"]
)
def test_a_job_at_an_address_that_is_none(address: str) -> None:
    started = HttpReply(201, {}, json.dumps({"id": "1", "status": "processing", "urls": {"get": address}}).encode())

    async def go() -> None:
        async with agouti.AsyncClient(config(dialect="jobs"), transport=AsyncFakeTransport([started])) as client:
            await client.ask("n", "x")

    with agouti.Client(config(dialect="jobs"), transport=FakeTransport([started])) as client:
        with pytest.raises(agouti.ReplyUnreadable, match="address that is none"):
            client.ask("n", "x")
    with pytest.raises(agouti.ReplyUnreadable, match="address that is none"):
        asyncio.run(go())


@pytest.mark.parametrize("host", ["a..b", "x" * 70 + ".example"])
def test_hosts_that_cannot_be_one_are_said_by_both_clients(host: str) -> None:
    entry = config(address=f"http://{host}/v1")

    async def go() -> None:
        async with agouti.AsyncClient(entry) as client:
            await client.ask("m", "x")

    with agouti.Client(entry) as client, pytest.raises(agouti.AddressWrong):
        client.ask("m", "x")
    with pytest.raises(agouti.AddressWrong):
        asyncio.run(go())


def test_a_key_header_with_blanks_is_refused_before_it_is_sent() -> None:
    for way in ("header: x-key", "query: key", "header:x key", "header:x\r\nkey"):
        with pytest.raises(agouti.ConfigError):
            agouti.Client(config(send_key=way, key="sk-0123456789"))


class Refuse(agouti.Hook):
    def __init__(self, **facts: Any) -> None:
        self.facts = facts
        self.results: list[agouti.AttemptResult] = []

    def before(self, attempt: agouti.AttemptDetails) -> None:
        if attempt.model == "m" and self.facts:
            raise agouti.CallRefused("the library is closed", **self.facts)

    def after(self, result: agouti.AttemptResult) -> None:
        self.results.append(result)


class Coroutine(agouti.Hook):
    async def before(self, attempt: agouti.AttemptDetails) -> None:  # type: ignore[override]
        pass


class Half:
    def before(self, attempt: agouti.AttemptDetails) -> None:
        pass


@pytest.mark.parametrize("hooks", [Refuse(), [Refuse], [Coroutine()], [Half()], [None], 7])
def test_hooks_are_looked_at_when_the_client_is_made(hooks: Any) -> None:
    for kind in (agouti.Client, agouti.AsyncClient):
        with pytest.raises(agouti.ConfigError) as wrong:
            kind(config(), transport=FakeTransport([]), hooks=hooks)
        assert wrong.value.hint


class Text(agouti.Hook):
    def before(self, attempt: agouti.AttemptDetails) -> Any:
        return "text"


class Kept(AnsweringHook):
    def kept(self, attempt: agouti.AttemptDetails) -> Any:
        return "text"


class KeptNothing(AnsweringHook):
    def kept(self, attempt: agouti.AttemptDetails) -> Any:
        yield from ()
        return {"a": 1}


@pytest.mark.parametrize("hook", [Text(), Kept(), KeptNothing()])
def test_what_a_hook_gives_is_looked_at(hook: agouti.Hook) -> None:
    with agouti.Client(config(), transport=FakeTransport([]), hooks=[hook]) as client:
        with pytest.raises(agouti.RequestError, match=type(hook).__name__):
            client.ask("m", "x")


class Headers(SendingHook):
    def sending(self, attempt: agouti.AttemptDetails) -> Any:
        return {"x-good": "1"} if attempt.tags else {"x-a": "b\r\nx-injected: 1"}


def test_headers_of_hooks_cannot_break_a_request() -> None:
    fake = FakeTransport([GOOD] * 2)
    with agouti.Client(config(), transport=fake, hooks=[Headers()]) as client:
        assert client.ask("m", "x").text == "ok"
        client.ask("m", "x", tags={"a": "b"})
    assert "x-a" not in fake.requests[0].headers
    assert fake.requests[1].headers["x-good"] == "1"


def test_refusals_of_hooks_wait_for_nothing_and_count_nowhere(tmp_path: Path) -> None:
    entries = {**config(), "ledger": {"store": str(tmp_path / "u.sqlite")}, "budgets": {"all": {"amount": 1, "currency": "USD", "per": "day"}}}  # fmt: skip
    entries["providers"]["p"]["limits"] = {"requests_per_minute": 1, "wait": 0}
    for entry in entries["models"].values():
        entry["price"] = {"input": 1, "output": 1, "currency": "USD"}
    hook = Refuse(hint="Ask after eight.")
    with agouti.Client(entries, transport=FakeTransport([GOOD]), hooks=[hook]) as client:
        for _ in range(3):
            with pytest.raises(agouti.CallRefused) as refused:
                client.ask("m", "x")
            assert (refused.value.message, refused.value.hint) == ("the library is closed", "Ask after eight.")
        assert client.ask("n", "x").text == "ok"  # the limit has its one request still
        assert client.usage().total.calls == 1
        with pytest.raises(agouti.CallRefused):
            client.ask("m", "x")  # and is not asked where it has none left
    with agouti.Client(config(), transport=FakeTransport([GOOD]), hooks=[Refuse(fallback=True)]) as client:
        assert client.ask("m", "x").attempts[-1].model == "y"


def test_work_of_hooks_runs_beside_the_event_loop(tmp_path: Path) -> None:
    import threading

    threads: list[str] = []

    class Journal(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> Any:
            return agouti.run_in_thread(lambda: threads.append(threading.current_thread().name))

    async def go() -> str:
        async with agouti.AsyncClient(config(), transport=AsyncFakeTransport([GOOD]), hooks=[Journal()]) as client:
            return (await client.ask("m", "x")).text

    assert asyncio.run(go()) == "ok"
    assert threads
    assert threads[0] != threading.main_thread().name

    class Failing(agouti.Hook):
        def before(self, attempt: agouti.AttemptDetails) -> Any:
            return agouti.run_in_thread(lambda: (tmp_path / "nowhere" / "x").read_text())

    with agouti.Client(config(), transport=FakeTransport([]), hooks=[Failing()]) as client:
        with pytest.raises(FileNotFoundError):
            client.ask("m", "x")


def test_scripts_answer_behind_the_hooks_of_an_application(tmp_path: Path) -> None:
    entries = {**config(), "ledger": {"store": str(tmp_path / "u.sqlite")}}
    refuse, look = Refuse(hint="closed"), Refuse()
    with scripted() as script:
        script.reply("In March.")
        with agouti.Client(entries, hooks=[refuse]) as client, pytest.raises(agouti.CallRefused):
            client.ask("m", "x")
        assert not script.sent
        with agouti.Client(entries, hooks=[look]) as client:
            assert client.ask("m", "x").text == "In March."
            with pytest.raises(agouti.ConfigError, match="there is no ledger"):
                client.usage()
    (result,) = look.results
    assert (result.outcome, result.usage is not None) == ("answered", True)


def test_streams_that_break_can_be_scripted() -> None:
    with scripted() as script, agouti.Client(config()) as client:
        script.reply("In March, and not before.", cut=8)
        stream = client.stream("m", "x")
        came: list[str] = []
        with pytest.raises(agouti.StreamCut) as cut:
            came += stream
        assert (cut.value.partial.text, stream.reply.text) == ("In March", "In March")
        script.reply("never", label="other")
        assert script.unused == ["'never' of label other"]
        with pytest.raises(AssertionError, match="never asked for"):
            script.check_used()
        script.reply("late", label="n", latency=0.05)


def test_near_misses_are_answered_with_ours(tmp_path: Path) -> None:
    entries = [
        ("providers.p", "base_url", '"x"', "address"), ("providers.p", "timeout", "3", "timeouts"), ("models.m", "model", '"x"', "name"),
        ("models.m", "temperature", "0.2", "parameters = { temperature"), ("models.m", "timeout", "3", "deadline"),
        ("limits", "requests_per_minute", "60", "limits = {"), ("models.m", "fallback", '"n"', 'fallback = ["LABEL"]'),
        ("models.m", "examples", '["a", "b"]', "list of pairs"), ("models.m", "context", '"8k"', "without quotes"),
    ]  # fmt: skip
    base = {"providers.p": 'address = "https://p.example"\n', "models.m": 'provider = "p"\nname = "x"\n', "limits": ""}
    for table, name, value, words in entries:
        text = "".join(f"[{each}]\n{said}{f'{name} = {value}' if each == table else ''}\n" for each, said in base.items() if said or each == table)  # fmt: skip
        (tmp_path / "agouti.toml").write_text(text)
        with pytest.raises(agouti.ConfigError) as wrong:
            agouti.load_config(tmp_path / "agouti.toml")
        assert words in wrong.value.hint, (name, wrong.value.hint)
    (tmp_path / "agouti.toml").write_text(
        '[providers.p]\naddress = "https://p.example"\n[models.quill-3.5]\nprovider = "p"\nname = "x"\n'
    )
    with pytest.raises(agouti.ConfigError) as dotted:
        agouti.load_config(tmp_path / "agouti.toml")
    assert '[models."quill-3.5"]' in dotted.value.hint
    options: list[tuple[dict[str, Any], str]] = [
        ({"stream": True}, "client.stream"), ({"fallback": ["n"]}, "entry of the model"), ({"timeout": 3}, "deadline"), ({"retries": 3}, '{"max": 3}')
    ]  # fmt: skip
    with agouti.Client(config(), transport=FakeTransport([GOOD])) as client:
        for given, words in options:
            with pytest.raises(agouti.RequestError) as unknown:
                client.ask("m", "x", **given)
            assert words in unknown.value.hint
        reply = client.ask("m", "x")
    for name, words in (("content", "text"), ("json", "raw"), ("nonsense", "no 'nonsense'")):
        with pytest.raises(AttributeError, match=words):
            getattr(reply, name)
    with pytest.raises(agouti.RequestError) as at:
        agouti.Client(config(), base_url="https://x.example")  # type: ignore[call-arg]
    assert "Client.at" in at.value.hint


def test_exchange_takes_the_limits_of_a_call() -> None:
    fake = FakeTransport([GOOD] * 2)
    body = {"model": "m", "messages": [{"role": "user", "content": "x"}]}
    with agouti.Client(config(), transport=fake) as client:
        client.exchange(body, deadline=5, headers={"x-trace": "7"}, tags={"a": "b"}, retries={"max": 0})
        with pytest.raises(agouti.DeadlineExceeded):
            client.exchange(body, deadline=0)
        with pytest.raises(agouti.RequestError, match="exchange has no option 'temperature'"):
            client.exchange(body, temperature=1)  # type: ignore[call-arg]
    assert fake.requests[0].headers["x-trace"] == "7"


TEXT = "data:text/plain;base64,Q2Fm6Q=="  # in eight-bit letters
LETTER = "data:application/vnd.openxmlformats-officedocument.wordprocessingml.document;base64,UEsDBA=="
BEDS = "data:application/json;base64,eyJhIjogMX0="


@pytest.mark.parametrize("dialect", ["chat", "messages", "contents", "converse", "lines", "prompt", "responses"])
def test_media_that_a_format_refuses_are_not_sent(dialect: str) -> None:
    def file(address: str) -> list[dict[str, Any]]:
        return [{"role": "user", "content": [{"type": "text", "text": "What?"}, {"type": "file", "file": {"filename": "a.x", "file_data": address}}]}]  # fmt: skip

    fake = FakeTransport([HttpReply(500, {}, b"{}")] * 9)
    with agouti.Client(config(dialect=dialect), transport=fake) as client:
        for address, words in ((TEXT, "Café"), (BEDS, '{"a": 1}')):
            with pytest.raises(agouti.ProviderFault):
                client.ask("n", file(address))
            body = (fake.requests[-1].body or b"").decode()
            data = address.partition(",")[2]
            assert json.dumps(words, ensure_ascii=False)[1:-1] in body or data in body or "Q2Fmw6k=" in body
            if dialect in ("messages", "lines", "prompt"):  # those take words alone
                assert data not in body
        sent = len(fake.requests)
        if dialect in ("messages", "lines", "prompt"):
            with pytest.raises(agouti.RequestError, match="takes no files of type"):
                client.ask("n", file(LETTER))
        for address in ("data:image/png;base64,@@@", "data:image/png;base64,", "data:image/png;base64,A"):
            with pytest.raises(agouti.RequestError):
                client.ask("n", "What?", images=[address])
        assert len(fake.requests) == sent
        if dialect != "prompt":
            with pytest.raises((agouti.ProviderFault, agouti.RequestError)):
                client.ask("n", "What?", images=["data:image/png;base64,AA\nAA"])
            assert "AA\\nAA" not in (fake.requests[-1].body or b"").decode()
