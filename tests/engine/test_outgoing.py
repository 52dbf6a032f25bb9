"""The request as it goes out: one identity, one bound, and nobody else who draws a picture of it."""

import ast
import json
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import agouti
from agouti.core.http.exchange import HttpRequest
from agouti.dialects.registry import names
from agouti.engine.hooks import AnsweringHook
from agouti.testing import FakeTransport

from ..examples import examples

SOURCE = Path(agouti.__file__).parent
NINE = sorted(set(names()) - {"board"})
# Who signs and traces is told by the account, and changes no answer.
_ACCOUNT = {"authorization", "x-api-key", "x-goog-api-key", "api-key", "x-amz-date", "x-amz-content-sha256"}
_NO_ANSWER = {"user-agent", "accept", "accept-encoding", "content-type", "content-length", "idempotency-key"}


class Looking(AnsweringHook):
    """Sees what would go out."""

    def __init__(self) -> None:
        self.outgoing: Any = None
        self.fingerprint = ""

    def identifies(self, attempt: agouti.AttemptDetails) -> bool:
        return True

    def kept(self, attempt: agouti.AttemptDetails) -> Any:
        self.outgoing, self.fingerprint = attempt.outgoing, attempt.outgoing.fingerprint
        return None
        yield


DIMENSIONS: dict[str, Any] = {
    "prompt": st.sampled_from(["Peas?", "Kale?", "Pé as ☘ 豆"]),
    "system": st.sampled_from([None, "Be brief."]),
    "key": st.sampled_from(["sk-one-account", "sk-two-account"]),
    "path": st.sampled_from(["", "/north"]),
    "add": st.sampled_from([{}, {"shelf": 1}, {"shelf": {"at": 2}}]),
    "drop": st.sampled_from([(), ("temperature",)]),
    "rename": st.sampled_from([{}, {"temperature": "warmth"}]),
    "headers": st.sampled_from([{}, {"x-tenant": "a"}, {"x-tenant": "b"}]),
    "query": st.sampled_from([{}, {"place": "a"}]),
    "temperature": st.sampled_from([None, 0.5, 0.7]),
    "max_tokens": st.sampled_from([None, 7, 70]),
    "extra": st.sampled_from([{}, {"own": [1]}, {"own": [2]}]),
    "call_headers": st.sampled_from([{}, {"x-shelf": "south"}, {"X-Request-Id": "7"}, {"idempotency-key": "8"}]),
    "tags": st.sampled_from([{}, {"feature": "letters"}]),
    "deadline": st.sampled_from([None, 30.0]),
}
SETUPS = st.fixed_dictionaries(DIMENSIONS)


def sent(dialect: str, setup: dict[str, Any]) -> tuple[HttpRequest, Looking]:
    provider = {
        "address": f"https://p.example{setup['path']}/v1",
        "dialect": dialect,
        "key": setup["key"],
        "retries": {"max": 0},
        **{name: setup[name] for name in ("add", "rename", "headers", "query") if setup[name]},
        **({"drop": list(setup["drop"])} if setup["drop"] else {}),
    }
    price = {"input": 1.0, "output": 1.0, "currency": "USD"}
    config = {"providers": {"p": provider}, "models": {"m": {"provider": "p", "name": "m", "price": price}}}
    options = {name: setup[name] for name in ("system", "temperature", "max_tokens", "tags", "deadline", "extra")}
    options = {name: value for name, value in options.items() if value}
    if setup["call_headers"]:
        options["headers"] = setup["call_headers"]
    fake, looking = FakeTransport([agouti.core.http.exchange.HttpReply(500, {}, b"{}")]), Looking()
    with agouti.Client(config, transport=fake, hooks=[looking]) as client, pytest.raises(agouti.AgoutiError):
        client.ask("m", setup["prompt"], **options)
    [request] = fake.requests
    return request, looking


def seen(request: HttpRequest) -> Any:
    """What a provider sees, the account left out."""
    headers = {
        name.lower(): str(value)
        for name, value in request.headers.items()
        if name.lower() not in _ACCOUNT | _NO_ANSWER | {"x-request-id"}
    }
    url = request.target.partition("?")[0] if "key=" in str(request.target) else request.target
    return request.method, str(url), headers, json.loads(request.body or b"null")


@pytest.mark.parametrize("dialect", NINE)
@examples(60, suppress_health_check=list(HealthCheck))
@given(one=SETUPS, other=SETUPS, changed=st.sets(st.sampled_from(sorted(DIMENSIONS)), max_size=2))
def test_the_fingerprint_changes_exactly_with_bytes_address_or_account(
    dialect: str, one: dict[str, Any], other: dict[str, Any], changed: set[str]
) -> None:
    other = {name: value if name in changed else one[name] for name, value in other.items()}
    (first, looked), (second, looked_again) = sent(dialect, one), sent(dialect, other)
    alike = seen(first) == seen(second) and one["key"] == other["key"]
    assert (looked.fingerprint == looked_again.fingerprint) == alike


@pytest.mark.parametrize("dialect", NINE)
def test_an_answer_in_pieces_is_the_same_answer(dialect: str) -> None:
    """Also where the format has another address for it."""
    looking = Looking()
    provider = {"address": "https://p.example/v1", "dialect": dialect, "key": "sk-1", "retries": {"max": 0}}
    answers = [agouti.core.http.exchange.HttpReply(500, {}, b"{}")] * 2
    with agouti.Client({"providers": {"p": provider}}, transport=FakeTransport(answers), hooks=[looking]) as client:
        found = []
        for ask in (client.ask, lambda *prompt: list(client.stream(*prompt))):
            with pytest.raises(agouti.AgoutiError):
                ask("m@p", "Peas?")
            found.append(looking.fingerprint)
    assert found[0] == found[1] != ""


def test_half_of_a_letter_is_an_error_that_says_so(tmp_path: Path) -> None:
    """Also where the request is only looked up, or named in a file."""
    entries = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"m": {"provider": "p", "name": "m"}},
        "cache": {"store": str(tmp_path / "c.sqlite")},
    }
    with agouti.Client(entries, transport=(fake := FakeTransport([]))) as client:
        with pytest.raises(agouti.RequestError, match="cannot be written as JSON"):
            client.ask("m", "x\ud800", temperature=0)
        with pytest.raises(agouti.RequestError, match="cannot be written as JSON"):
            agouti.compare(client, ["m"], "x\ud800", checkpoint=tmp_path / "k.jsonl")
    assert fake.requests == []


def test_the_key_that_a_cached_answer_belongs_to_is_the_key_that_was_sent(tmp_path: Path) -> None:
    """Several keys are used in turn: an answer is kept for the account that has paid for it."""
    good = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}]}
    entries = {
        "providers": {"p": {"address": "https://p.example/v1", "key": [{"env": "ONE"}, {"env": "TWO"}]}},
        "cache": {"store": str(tmp_path / "c.sqlite")},
    }
    loaded = agouti.load_config(entries, environment={"ONE": "sk-one-account", "TWO": "sk-two-account"})
    fake, looking = FakeTransport([good] * 4), Looking()
    with agouti.Client(loaded, transport=fake, hooks=[looking]) as client:
        asked = {}
        for number in range(4):
            client.ask("m@p", f"{number}?")
            key = fake.requests[-1].headers["authorization"].reveal()
            asked.setdefault(key, looking.outgoing._credential.fingerprint)
            assert asked[key] == looking.outgoing._credential.fingerprint
    assert len(asked) == len(set(asked.values())) == 2


@pytest.mark.parametrize("dialect", NINE)
def test_caps_that_contradict_each_other_are_named_before_anything_is_sent(dialect: str) -> None:
    for more in (
        {"extra": {"max_completion_tokens": 9}},
        {"extra": {}, "add": {"max_new_tokens": 9}},
        {"extra": {"max_new_tokens": -9}},
    ):
        provider = {"address": "https://p.example/v1", "dialect": dialect, "add": more.get("add", {})}
        with agouti.Client({"providers": {"p": provider}}, transport=(fake := FakeTransport([]))) as client:
            with pytest.raises(agouti.RequestError, match=r"two caps that differ: .*= -?9|sets max_completion_tokens"):
                client.ask("m@p", "Peas?", max_tokens=7, extra=more["extra"])
        assert fake.requests == []


def asked_for(value: Any, names: tuple[str, ...]) -> list[int]:
    found: list[int] = []
    if isinstance(value, dict):
        for name, each in value.items():
            if name in names and isinstance(each, int):
                found.append(each)
            elif isinstance(each, dict):
                found += asked_for(each, names)
    return found


@cache
def names_used() -> dict[str, set[str]]:
    """The names that each module uses."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        nodes = list(ast.walk(ast.parse(path.read_text())))
        used = {node.attr for node in nodes if isinstance(node, ast.Attribute)}
        found[path.relative_to(SOURCE).as_posix()] = used | {node.id for node in nodes if isinstance(node, ast.Name)}
    return found


@pytest.mark.parametrize(
    ("names", "modules"),
    [
        ({"estimate_tokens"}, {"core/messages/token_estimate.py", "engine/outgoing.py", "testing/script.py"}),
        ({"estimate_message"}, {"core/messages/token_estimate.py", "core/messages/context_window.py", "conversations/window.py"}),
        # Of answers, by what came.
        ({"estimate_text"}, {"core/messages/token_estimate.py", "engine/outgoing.py", "engine/attempts/hook_calls.py", "testing/script.py"}),
        ({"caps_of", "media_of"}, {"core/messages/paid_units.py", "engine/outgoing.py"}),
        # Of files, keys and passwords that are no requests.
        (
            {"sha256", "blake2b", "md5", "sha1", "file_digest"},
            {
                "batches/result_index.py", "batches/prompts.py", "cli/model_cache.py", "core/sigv4.py", "credentials/credential.py",
                "credentials/oauth.py", "credentials/signing.py", "limits/day_counter.py", "engine/outgoing.py", "engine/providers/provider.py",
                "engine/question.py", "ledger/budget_sums.py", "limits/hook.py", "relay/access_tokens.py", "relay/turn_memory.py", "services/compare/judge.py",
                "testing/script.py",
            },
        ),
    ],
    ids=["tokens", "messages", "texts", "caps", "digests"],
)  # fmt: skip
def test_nobody_else_estimates_or_digests_a_request(names: set[str], modules: set[str]) -> None:
    found = {place for place, used in names_used().items() if names & used and not place.startswith("standins/")}
    assert found <= modules
