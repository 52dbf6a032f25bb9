"""Sentences of the guides and docstrings, each with a test that tries to make it false.

`tests/broken_promises.py` breaks them in the code one by one, and looks whether anything notices.
"""

import asyncio
import json
import socket
import threading
import time
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.core.canonical.chat import Choice, Completion
from agouti.core.canonical.parameters import PARAMETERS
from agouti.core.errors import AgoutiError
from agouti.core.http.address import is_local
from agouti.core.http.exchange import HttpReply, HttpRequest, Timeouts, TransportFailure
from agouti.core.http.har import Archive
from agouti.credentials.command import _expiry
from agouti.credentials.oauth import mint
from agouti.credentials.rotation import KeyRotation
from agouti.credentials.sources import parse_key
from agouti.dialects.registry import parse_address
from agouti.engine.attempts import error_policy as policy
from agouti.engine.attempts.time_limits import timeouts_within
from agouti.engine.providers.circuit_breaker import THRESHOLD
from agouti.engine.receiving.accumulate import ReplyAccumulator
from agouti.replies.reply import Reply
from agouti.testing import AsyncFakeTransport, FakeTransport
from agouti.transport.aiohttp_transport import AiohttpTransport
from agouti.transport.tls import Contexts
from agouti.transport.urllib3_transport import Urllib3Transport

from .conftest import Caller

GOOD = {"choices": [{"message": {"content": "In March."}, "finish_reason": "stop"}]}
LOST = TransportFailure("lost", "gone")
CALL = {"id": "c", "function": {"name": "days_to_frost", "arguments": '{"place": "x"}'}}


def calling(name: str, arguments: str = "{}") -> dict[str, Any]:
    call = {"id": "c", "function": {"name": name, "arguments": arguments}}
    return {"choices": [{"message": {"content": None, "tool_calls": [call]}, "finish_reason": "tool_calls"}]}


def config(**entry: Any) -> dict[str, Any]:
    return {
        "providers": {"p": {"address": "https://p.example/v1", "retries": {"max": 0}, **entry}, "q": {"address": "https://q.example/v1"}},
        "models": {"m": {"provider": "p", "name": "quill", "fallback": ["n"]}, "n": {"provider": "q", "name": "loam"}},
    }  # fmt: skip


def fails(answers: list[Any], label: str = "quill@p", **options: Any) -> AgoutiError:
    with agouti.Client(config(**options.pop("entry", {})), transport=FakeTransport(answers)) as client:
        with pytest.raises(AgoutiError) as failed:
            client.ask(label, "Peas?", **options)
    return failed.value


# The engine.


def test_deadline_shortens_every_limit_of_a_request() -> None:
    with agouti.Client(config()) as client:
        call = calls_of(client).chat("n", "Peas?", {"deadline": 2})
        limits = timeouts_within(call, call.targets[0])
        assert 1.5 < limits.connect <= 2
        assert 1.5 < limits.first_byte <= 2
        shared = calls_of(client).chat("m", "Peas?", {"deadline": 2})  # another model could take over
        assert 0.8 < timeouts_within(shared, shared.targets[0]).first_byte <= 1
        whole = calls_of(client).chat("m", "Peas?", {})
        assert timeouts_within(whole, whole.targets[0]) == Timeouts()


def test_kept_connection_is_tried_again_only_once() -> None:
    sent = TransportFailure("lost", "gone", sent=True)
    fake = FakeTransport([GOOD, sent, sent, GOOD])
    with agouti.Client(config(retries={"max": 3, "base": 0.0}), transport=fake) as client:
        client.ask("quill@p", "Peas?")
        with pytest.raises(agouti.ConnectionLost) as lost:
            client.ask("quill@p", "Peas?")
    assert len(lost.value.attempts) == 2


def test_lost_connections_open_the_circuit() -> None:
    assert THRESHOLD == 8  # as the guide says
    with agouti.Client(config(), transport=FakeTransport([LOST] * THRESHOLD)) as client:
        for _ in range(THRESHOLD):
            with pytest.raises(agouti.ConnectionLost):
                client.ask("quill@p", "Peas?")
        with pytest.raises(agouti.CircuitOpen):
            client.ask("quill@p", "Peas?")


@pytest.mark.parametrize(
    "first", [[b": nothing\n\n"], HttpReply(429, {}, b""), [b'data: {"choices":[{"delta":{"role":"assistant"}}]}\n\n']]
)
def test_next_model_takes_over_where_nothing_had_come(first: Any) -> None:
    good = [b'data: {"choices":[{"delta":{"content":"In March."},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n']
    with agouti.Client(config(), transport=FakeTransport([first, good])) as client:
        stream = client.stream("m", "Peas?")
        assert "".join(stream) == "In March."
        assert [attempt.provider for attempt in stream.reply.attempts] == ["p", "q"]


def test_rows_of_the_policy_that_the_guide_promises() -> None:
    def named(**column: Any) -> set[str]:
        ((name, value),) = column.items()
        return {kind.__name__ for kind, row in policy.POLICY.items() if getattr(row, name) == value}

    assert named(repeat=policy.Repeat.ALWAYS) == {"NotRunning", "RateLimited", "Overloaded", "ProviderFault"}
    assert named(repeat=policy.Repeat.UNANSWERED) == {"ConnectionLost", "StreamCut"}
    assert named(next_model=False) == {
        "AgoutiError", "ConfigError", "LabelUnknown", "RequestError", "NotRecorded", "ParameterUnsupported", "ProviderError",
        "RequestRefused", "ContextOverflow", "ContentRefused", "ReplyError", "NotFilled", "ToolCallInvalid", "TooManyRounds", "DeadlineExceeded",
        "LedgerUnavailable", "CallRefused", "NotAccepted",
    }  # fmt: skip
    assert named(exit_code=2) == {
        "ConfigError",
        "LabelUnknown",
        "RequestError",
        "NotRecorded",
        "ParameterUnsupported",
        "CredentialMissing",
    }
    assert {each.__name__ for each in policy.POLICY if each.may_pass} == {
        "ConnectionFailed", "NotRunning", "ConnectionLost", "TimedOut", "CircuitOpen", "LimitReached", "RateLimited", "Overloaded", "ProviderFault", "StreamCut", "DeadlineExceeded", "LedgerUnavailable",
    }  # fmt: skip


def test_names_are_listed_where_none_is_near() -> None:
    unknown = HttpReply(404, {}, b'{"error": {"code": "model_not_found", "message": "no"}}')
    listed = {"data": [{"id": "loam"}, {"id": "petal"}]}
    error = fails([unknown, listed], "zzz@p")
    assert isinstance(error, agouti.ModelUnknown)
    assert (error.near, "It has: loam, petal" in error.hint) == ((), True)


def test_long_stream_loses_no_text() -> None:
    so_far = ReplyAccumulator()
    for number in range(300_000):
        so_far.add([agouti.events.Text(f"{number} ")], lambda: 0.0)
    assert so_far.completion().choices[0].text == "".join(f"{number} " for number in range(300_000))


def test_first_token_is_counted_from_the_call() -> None:
    with agouti.Client(config()) as client:
        call = calls_of(client).chat("m", "Peas?", {})
    so_far = ReplyAccumulator()
    so_far.begin(call.targets[0], 5.0, [])
    so_far.add([agouti.events.Text("a")], lambda: 7.0)
    assert so_far.first_token == 2.0


@pytest.mark.parametrize("name", ["x-request-id", "request-id", "x-amzn-requestid", "x-correlation-id", "cf-ray"])
def test_request_id_is_told_with_answers_and_errors(name: str) -> None:
    body = b'{"choices": [{"message": {"content": "x"}}]}'
    with agouti.Client(config(), transport=FakeTransport([HttpReply(200, {name: "r-7"}, body)])) as client:
        assert client.ask("quill@p", "Peas?").request_id == "r-7"
    assert fails([HttpReply(500, {name: "r-8"}, b"")]).request_id == "r-8"


def test_left_stream_is_closed_and_not_read_on() -> None:
    pieces = [b'data: {"choices":[{"delta":{"content":"a"}}]}\n\n'] * 5
    fake, other = FakeTransport([pieces]), AsyncFakeTransport([pieces])
    with agouti.Client(config(), transport=fake) as client, client.stream("quill@p", "Peas?") as stream:
        next(iter(stream))

    async def go() -> None:
        async with agouti.AsyncClient(config(), transport=other) as client, client.stream("quill@p", "?") as stream:
            async for _ in stream:
                break

    asyncio.run(go())
    assert [each.aborted for each in (*fake.replies, *other.replies)] == [True, True]


def test_wrong_call_after_a_good_round_may_be_corrected_again() -> None:
    def frost(place: str) -> int:
        return 3

    answers = [calling("rain"), calling("frost", '{"place": "x"}'), calling("rain"), GOOD]
    with agouti.Client(config(), transport=FakeTransport(answers)) as client:
        assert client.ask("quill@p", "?", tools=[frost], run_tools=True).text == "In March."
    with agouti.Client(config(), transport=FakeTransport([calling("rain"), calling("rain")])) as client:
        with pytest.raises(agouti.ToolCallInvalid):
            client.ask("quill@p", "?", tools=[frost], run_tools=True)


def test_an_error_of_ours_in_a_function_is_told_like_any_other() -> None:
    def frost() -> int:
        raise agouti.RateLimited("elsewhere", hint="for the developer")

    fake = FakeTransport([calling("frost"), GOOD])
    with agouti.Client(config(), transport=fake) as client:
        assert client.ask("quill@p", "?", tools=[frost], run_tools=True).text
        told = json.loads(fake.requests[-1].body or b"{}")["messages"][-1]["content"]
        assert told == "Error: RateLimited: elsewhere"

    def slow() -> int:
        time.sleep(0.2)
        raise agouti.DeadlineExceeded("over")

    with agouti.Client(config(), transport=FakeTransport([calling("slow"), GOOD])) as client:
        with pytest.raises(agouti.DeadlineExceeded):
            client.ask("quill@p", "?", tools=[slow], run_tools=True, deadline=0.1)


@pytest.mark.parametrize("error", [KeyboardInterrupt(), SystemExit(3)])
def test_what_a_model_must_not_be_told_is_raised(error: BaseException) -> None:
    def frost() -> int:
        raise error

    with agouti.Client(config(), transport=FakeTransport([calling("frost"), GOOD])) as client:
        with pytest.raises(type(error)):
            client.ask("quill@p", "?", tools=[frost], run_tools=True)


def test_functions_are_not_run_where_that_is_forbidden() -> None:
    def frost() -> int:
        raise AssertionError("it was forbidden")

    for make in ({"run_tools": False}, {}):
        with agouti.Client(config(), transport=FakeTransport([calling("frost")] * 2)) as client:
            assert client.ask("quill@p", "?", tools=[frost], **make).calls[0].name == "frost"  # type: ignore[arg-type]
            if make:
                talk = client.conversation("quill@p", tools=[frost], run_tools=False)
                assert [call.name for call in talk.say("?").calls] == ["frost"]
                assert [message.role for message in talk.messages] == ["user", "assistant"]


def test_warning_points_at_the_line_of_the_caller() -> None:
    with agouti.Client(config(dialect="messages", unsupported="warn"), transport=FakeTransport([b"{}"])) as client:
        with warnings.catch_warnings(record=True) as said, pytest.raises(AgoutiError):
            warnings.simplefilter("always")
            client.ask("quill@p", "?", seed=7)
    assert [warning.filename for warning in said] == [__file__]


def test_what_one_model_refuses_is_still_sent_to_the_others_of_its_provider() -> None:
    refusal = HttpReply(400, {}, b'{"error": {"message": "no temperature", "param": "temperature"}}')
    fake = FakeTransport([refusal, GOOD, GOOD])
    with agouti.Client(config(unsupported="warn"), transport=fake) as client:
        with pytest.warns(agouti.AgoutiWarning):
            client.ask("thinker@p", "?", temperature=0.5)
        client.ask("chatty@p", "?", temperature=0.5)
    assert ["temperature" in (request.body or b"").decode() for request in fake.requests] == [True, False, True]


@pytest.mark.parametrize("dialect", ["messages", "contents"])
def test_effort_that_a_format_does_not_know_is_named(dialect: str) -> None:
    error = fails([], reasoning_effort="extreme", entry={"dialect": dialect})
    assert isinstance(error, agouti.ParameterUnsupported)
    assert (error.parameter, "extreme" in error.message) == ("reasoning_effort", True)


@pytest.mark.parametrize("framing", ["sse", "lines", "array"])
def test_declared_dialect_reads_a_whole_reply_where_a_stream_was_asked_for(framing: str) -> None:
    board = {"path": "/talk", "prompt": "/q", "text": "/a", "stream": {"framing": framing, "text": "/a"}}
    entry = {"providers": {"p": {"address": "https://p.example", "dialect": "board"}}, "dialects": {"board": board}}
    whole = HttpReply(200, {"content-type": "application/json"}, b'{"a": "In March."}')
    with agouti.Client(entry, transport=FakeTransport([whole])) as client:
        assert "".join(client.stream("m@p", "Peas?")) == "In March."


def test_stream_of_a_growing_value_ends_with_a_reply_however_it_is_read() -> None:
    pieces = [b'data: {"choices":[{"delta":{"content":"[18, "}}]}\n\n', b'data: {"choices":[{"delta":{"content":"24]"},"finish_reason":"stop"}]}\n\ndata: [DONE]\n\n']  # fmt: skip
    with agouti.Client(config(), transport=FakeTransport([pieces, pieces, pieces])) as client:
        by_events = client.stream_fill("quill@p", list[int], "?", output_method="prompt")
        assert list(by_events.events())
        assert (by_events.reply.text, by_events.filled.value) == ("[18, 24]", [18, 24])
        twice = client.stream_fill("quill@p", list[int], "?", output_method="prompt")
        assert list(twice)[-1] == [18, 24]
        assert (list(twice), list(twice.events())) == ([], [])
        early = client.stream_fill("quill@p", list[int], "?", output_method="prompt")
        next(iter(early))
        with pytest.raises(agouti.RequestError, match="not come to a good end"):
            _ = early.filled


def test_every_name_is_sent_as_it_is_to_the_only_provider() -> None:
    fake = FakeTransport([GOOD, GOOD])
    with agouti.Client.at("https://a.example/v1", transport=fake) as client:
        for name in ("grist-1@002", "loam-2b"):
            client.ask(name, "?")
    assert [json.loads(request.body or b"")["model"] for request in fake.requests] == ["grist-1@002", "loam-2b"]


# Addresses, parameters, replies, archives.


def test_only_this_machine_is_local() -> None:
    assert [is_local(host) for host in ("barn.local", "localhost", "a.localhost", "127.0.0.9", "128.0.0.1")] == [False, True, True, True, False]  # fmt: skip


@pytest.mark.parametrize("name", ["key", "api_key", "apikey", "api-key", "access_token", "token", "subscription-key"])
def test_key_in_a_pasted_address_is_taken_for_one(name: str) -> None:
    found = parse_address(f"https://a.example/v1/chat/completions?{name}=sk-1&v=2")
    assert (found.key_name, found.key, found.query) == (name, "sk-1", {"v": "2"})


@pytest.mark.parametrize(
    ("name", "good", "bad"),
    [
        ("temperature", [0, 2.5, 5], [-0.1, 5.1, True, float("nan"), "1"]),
        ("top_p", [0, 1], [1.1, -0.1]),
        ("presence_penalty", [-2, 2], [-2.1, 2.1]),
        ("frequency_penalty", [-2, 2], [-2.1, 2.1]),
        ("n", [1], [0, 1.5, True]),
        ("top_logprobs", [0, 200], [-1, 201]),
        ("max_tokens", [1], [0, -2, 1.0, True]),
        ("stop", ["a", ["a"]], [1]),
    ],
)
def test_bounds_of_parameters(name: str, good: list[Any], bad: list[Any]) -> None:
    assert all(PARAMETERS[name].allows(value) for value in good)
    assert not any(PARAMETERS[name].allows(value) for value in bad)


def test_only_a_cap_makes_a_reply_truncated() -> None:
    def truncated(reason: str) -> bool:
        completion = Completion((Choice("x", reason),))
        return Reply.of(completion, label="", provider="", price=None, elapsed=0, attempts=()).truncated

    reasons = ("length", "content_filter", "stop", "tool_calls", "refusal", "error")
    assert [truncated(each) for each in reasons] == [True] + [False] * 5


def test_archive_repeats_failures_and_tells_of_no_encoding_that_is_gone() -> None:
    response: dict[str, Any] = {
        "status": 200,
        "headers": [{"name": "Content-Encoding", "value": "gzip"}],
        "content": {"text": "x"},
    }
    request = {"method": "GET", "url": "https://a.example/v1"}
    text = json.dumps(
        {"log": {"entries": [{"request": request, "response": {**response, "_failure": ["lost", "gone", None]}}]}}
    )
    received = Archive(text.encode(), "x.har").find(HttpRequest("GET", "https://a.example/v1", {}))
    assert received is not None
    assert (received.failure, received.headers) == (("lost", "gone", None), ())


# Keys.


def test_token_that_worked_is_renewed_again_when_it_is_refused() -> None:
    rotation = KeyRotation(parse_key({"command": ["x"]}))
    for _ in range(3):
        place = rotation.next(0.0)
        token = agouti.Secret("t")
        from agouti.credentials.credential import Credential

        credential = Credential(token, "here", renewable=True)
        rotation.store(place, credential)  # type: ignore[arg-type]
        rotation.succeeded(credential)
        assert rotation.refused(credential)


def test_keys_are_used_by_many_threads_at_once() -> None:
    import sys

    from agouti.credentials.credential import Credential

    keys = [parse_key({"env": f"K{number}"}) for number in range(40)]
    rotation = KeyRotation(parse_key([{"env": f"K{number}"} for number in range(40)]))
    credentials = [Credential(agouti.Secret(str(number)), "", renewable=True) for number in range(40)]
    errors: list[BaseException] = []

    def use(kind: int) -> None:
        try:
            for step in range(300):
                key, credential = keys[step % 40], credentials[step % 40]
                (rotation.store(key, credential), rotation.refused(credential)) if kind else rotation.succeeded(
                    credential
                )
        except BaseException as error:
            errors.append(error)

    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        threads = [threading.Thread(target=use, args=(number % 2,)) for number in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        sys.setswitchinterval(before)
    assert errors == []


def test_relative_key_file_stands_beside_the_configuration(tmp_path: Path) -> None:
    (tmp_path / "sub").mkdir()
    (tmp_path / "sub" / "key.txt").write_text("sk-1")
    (tmp_path / "sub" / "agouti.toml").write_text(
        '[providers.p]\naddress = "https://p.example/v1"\nkey = { file = "key.txt" }\n'
    )
    fake = FakeTransport([GOOD])
    with agouti.Client(tmp_path / "sub" / "agouti.toml", transport=fake) as client:
        client.ask("m@p", "?")
    assert fake.requests[0].headers["authorization"].encode() == b"Bearer sk-1"


def test_expiry_of_a_token_is_read_in_every_form() -> None:
    assert _expiry({"expiry": "2026-11-25T10:00:00+00:00"}, 0) == 1795600800.0
    assert _expiry({"expires_on": "2026-11-25T10:00:00Z"}, 0) == 1795600800.0
    assert _expiry({"expires_at": 7}, 0) == 7.0
    assert _expiry({"expires_in": 60}, 10) == 70.0


@pytest.mark.parametrize("way", ["basic", "body"])
def test_token_request_says_what_the_entry_says_and_the_token_ends_when_it_is_told(way: str) -> None:
    sent: list[HttpRequest] = []

    def post(request: HttpRequest) -> HttpReply:
        sent.append(request)
        return HttpReply(200, {}, b'{"access_token": "t", "expires_in": 60}')

    key = parse_key({"oauth": "client_credentials", "token_address": "https://t.example/token", "client_id": "me", "client_secret": {"env": "S"}, "client_auth": way, "scope": "read"})  # fmt: skip
    credential = mint(key, lambda _: agouti.Secret("s3"), post, 100.0)  # type: ignore[arg-type]
    assert credential.expires == 160.0
    body = (sent[0].body or b"").decode()
    assert "scope=read" in body
    assert ("client_secret=s3" in body) is (way == "body")
    assert ("authorization" in sent[0].headers) is (way == "basic")
    assert sent[0].confidential


def test_token_goes_through_the_callers_own_transport(caller: Caller) -> None:
    key = {
        "oauth": "client_credentials",
        "token_address": "https://t.example/token",
        "client_id": "me",
        "client_secret": {"env": "S"},
    }
    entry = {"providers": {"p": {"address": "https://p.example/v1", "key": key}}}
    loaded = agouti.load_config(entry, environment={"S": "s3"})
    answers = [{"access_token": "t-1"}, GOOD]
    fake = FakeTransport(answers) if caller.kind == "sync" else AsyncFakeTransport(answers)
    if caller.kind == "sync":
        with agouti.Client(loaded, transport=fake) as client:  # type: ignore[arg-type]
            client.ask("m@p", "?")
    else:

        async def go() -> None:
            async with agouti.AsyncClient(loaded, transport=fake) as client:  # type: ignore[arg-type]
                await client.ask("m@p", "?")

        asyncio.run(go())
    assert [request.url for request in fake.requests] == [
        "https://t.example/token",
        "https://p.example/v1/chat/completions",
    ]
    assert fake.requests[1].headers["authorization"].encode() == b"Bearer t-1"


def test_token_endpoint_out_of_reach_may_pass(caller: Caller) -> None:
    key = {
        "oauth": "client_credentials",
        "token_address": "http://127.0.0.1:9/token",
        "client_id": "me",
        "client_secret": {"env": "S"},
    }
    loaded = agouti.load_config(
        {"providers": {"p": {"address": "https://p.example/v1", "key": key}}}, environment={"S": "s"}
    )
    with pytest.raises(agouti.CredentialRefused) as refused:
        caller.ask(loaded, "m@p", "?")
    assert refused.value.retryable


# The configuration.


def test_environment_wins_over_dotenv_which_stands_beside_the_named_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "sub"
    folder.mkdir()
    (folder / "agouti.toml").write_text('[providers.p]\naddress = "https://p.example/v1"\n')
    (folder / ".env").write_text("A_KEY=from-file\nB_KEY=from-file\n")
    monkeypatch.setenv("A_KEY", "from-environment")
    found = agouti.load_config(folder / "agouti.toml").environment
    assert (found["A_KEY"], found["B_KEY"]) == ("from-environment", "from-file")


def test_named_file_is_read_and_no_file_twice(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    named = tmp_path / "named.toml"
    named.write_text('[providers.named]\naddress = "https://n.example/v1"\n')
    monkeypatch.setenv("AGOUTI_CONFIG", str(named))
    assert set(agouti.load_config().providers) == {"named"}
    monkeypatch.delenv("AGOUTI_CONFIG")
    own = tmp_path / "user" / "agouti"
    own.mkdir(parents=True)
    (own / "agouti.toml").write_text('[providers.own]\naddress = "https://o.example/v1"\n')
    monkeypatch.chdir(own)
    assert len(agouti.load_config().files) == 1


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('paths = { chta = "/x" }', "Did you mean chat"),
        ('[models.m]\nprovider = "p"\nname = "n"\nparameters = { temperature = 7 }', "a number from 0 to 5"),
        ('[models.m]\nprovider = "p"\nname = "n"\nparameters = { temprature = 1 }', "Did you mean temperature"),
    ],
)
def test_setting_that_would_never_work_is_said_when_it_is_loaded(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "agouti.toml"
    path.write_text(f'[providers.p]\naddress = "https://p.example/v1"\n{text}\n')
    with pytest.raises(agouti.ConfigError) as wrong:
        agouti.load_config(path)
    assert words in wrong.value.hint
    assert wrong.value.line is not None


# Transports.


@contextmanager
def serving(handle: Any) -> Iterator[str]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("content-length") or 0))
            handle(self)

        do_GET = do_POST  # noqa: N815

        def log_message(self, *_: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.01})
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


def answer(handler: Any, status: int = 200, body: bytes = json.dumps(GOOD).encode(), **headers: str) -> None:
    handler.send_response(status)
    for name, value in {"content-type": "application/json", "content-length": str(len(body)), **headers}.items():
        handler.send_header(name.replace("_", "-"), value)
    handler.end_headers()
    handler.wfile.write(body)


def test_redirect_is_not_followed_and_cookies_are_not_kept(caller: Caller) -> None:
    seen: list[tuple[str, str | None]] = []

    def handle(handler: Any) -> None:
        seen.append((handler.path, handler.headers.get("cookie")))
        if handler.path.startswith("/moved"):
            answer(handler, 307, b"", location="/v1/chat/completions")
        else:
            answer(handler, set_cookie="a=b")

    with serving(handle) as bare:
        base = bare.replace("127.0.0.1", "localhost")  # jars of cookies do not trust bare numbers
        with pytest.raises(agouti.AddressWrong, match="redirects"):
            caller.ask({"providers": {"p": {"address": f"{base}/moved"}}}, "m@p", "?")
        if caller.kind == "sync":
            with agouti.Client({"providers": {"p": {"address": f"{base}/v1"}}}) as client:
                [client.ask("m@p", "?") for _ in range(2)]
        else:

            async def go() -> None:
                async with agouti.AsyncClient({"providers": {"p": {"address": f"{base}/v1"}}}) as client:
                    [await client.ask("m@p", "?") for _ in range(2)]

            asyncio.run(go())
    assert seen == [("/moved/chat/completions", None)] + [("/v1/chat/completions", None)] * 2


def test_no_more_connections_to_a_provider_than_it_may_have(caller: Caller) -> None:
    lock, now, most = threading.Lock(), [0], [0]

    def handle(handler: Any) -> None:
        with lock:
            now[0] += 1
            most[0] = max(most[0], now[0])
        time.sleep(0.03)
        with lock:
            now[0] -= 1
        answer(handler)

    with serving(handle) as base:
        entry = {"providers": {"p": {"address": f"{base}/v1"}}}
        if caller.kind == "sync":
            with agouti.Client(entry, connections=2) as client:
                threads = [threading.Thread(target=client.ask, args=("m@p", "?")) for _ in range(8)]
                [thread.start() for thread in threads]  # type: ignore[func-returns-value]
                [thread.join() for thread in threads]  # type: ignore[func-returns-value]
        else:

            async def go() -> None:
                async with agouti.AsyncClient(entry, connections=2) as client:
                    await asyncio.gather(*(client.ask("m@p", "?") for _ in range(8)))

            asyncio.run(go())
    assert most[0] == 2


def test_first_byte_has_a_limit_of_its_own(caller: Caller) -> None:
    def handle(handler: Any) -> None:
        time.sleep(0.4)
        answer(handler)

    with serving(handle) as base:
        entry: dict[str, Any] = {"address": f"{base}/v1", "retries": {"max": 0}}
        slow = {"providers": {"p": {**entry, "timeouts": {"connect": 0.1, "first_byte": 5}}}}
        assert caller.ask(slow, "m@p", "?").text == "In March."
        quick = {"providers": {"p": {**entry, "timeouts": {"connect": 5, "first_byte": 0.1}}}}
        with pytest.raises(agouti.TimedOut) as late:
            caller.ask(quick, "m@p", "?")
        assert late.value.phase == "first byte"


def test_client_certificate_is_loaded(tmp_path: Path) -> None:
    (tmp_path / "me.pem").write_text("no certificate")
    with pytest.raises(agouti.ConfigError, match=r"tls\.certificate"):
        Contexts().of(agouti.Tls(certificate=str(tmp_path / "me.pem")))


def test_calls_to_addresses_of_strangers_share_no_connection_with_others() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        url = f"http://127.0.0.1:{server.getsockname()[1]}/"
        for public in (True, False):
            transport = Urllib3Transport()
            with pytest.raises(TransportFailure) as failed:
                transport.open(HttpRequest("GET", url, {}, public_only=public), Timeouts(first_byte=0.05))
            assert failed.value.reason == ("private" if public else "timeout")

        async def go() -> None:
            transport = AiohttpTransport()
            for public in (True, False):
                with pytest.raises(TransportFailure) as failed:
                    await transport.open(HttpRequest("GET", url, {}, public_only=public), Timeouts(first_byte=0.05))
                assert failed.value.reason == ("private" if public else "timeout")
            await transport.close()

        asyncio.run(go())
