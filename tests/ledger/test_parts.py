"""Budgets by parts, providers, keys and tokens; what is told of them, and to whom."""

import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.ledger.notify import BudgetWarning
from agouti.testing import FakeTransport

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": {"prompt_tokens": 10, "completion_tokens": 10}}  # fmt: skip
PRICE = {"input": 1.0, "output": 1.0, "currency": "USD"}
HEARD: list[BudgetWarning] = []


def client_of(folder: Path | None, count: int = 60, **budget: Any) -> agouti.Client:
    made: dict[str, Any] = {
        "providers": {
            "shed": {"address": "http://shed.example/v1", "plain_http": True},
            "nb": {"address": "https://nb.example/v1", "key": {"env": "NB_PASS"}},
        },
        "models": {
            "a": {"provider": "shed", "name": "loam", "price": PRICE},
            "b": {"provider": "nb", "name": "quill", "price": PRICE},
            "free": {"provider": "shed", "name": "clay"},
        },
        "budgets": {"club": budget},
    }
    if folder is not None:
        made["ledger"] = {"store": str(folder / "u.sqlite")}
    return agouti.Client(made, transport=FakeTransport([GOOD] * count))


def let_through(client: agouti.Client, label: str, **tags: str) -> int:
    """How many of ten calls are."""
    count = 0
    for _ in range(10):
        try:
            client.ask(label, "Peas?", max_tokens=10, tags=tags)
            client.usage() if client.config.ledger is not None else None
        except agouti.BudgetExceeded:
            break
        count += 1
    return count


@pytest.fixture(autouse=True)
def key(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NB_PASS", "abc")


@pytest.mark.filterwarnings("ignore:budget")
@pytest.mark.parametrize("per", ["run", "day"])
def test_each_value_has_the_whole_amount(per: str, tmp_path: Path) -> None:
    budget = {"amount": 0.0002, "currency": "USD", "per": per, "each": "tag:member"}
    with client_of(tmp_path if per == "day" else None, **budget) as client:
        fits = let_through(client, "a", member="carl")
        assert 0 < fits < 10
        assert [let_through(client, "a", member="ada"), let_through(client, "a"), let_through(client, "a", member="carl")] == [fits, fits, 0]  # fmt: skip
        told = {each.part: float(each.spent) for each in client.budgets()}
        assert told == {part: pytest.approx(fits * 0.00002) for part in ("", "ada", "carl")}
    with client_of(tmp_path if per == "day" else None, **budget) as again:  # a day's is kept
        assert let_through(again, "a", member="carl") == (0 if per == "day" else fits)


@pytest.mark.filterwarnings("ignore:budget")
@pytest.mark.parametrize("per", ["run", "day"])
@pytest.mark.parametrize(
    ("what", "counts"),
    [
        ({"providers": ["nb"]}, {"b"}),
        ({"keys": ["NB_PASS"]}, {"b"}),
        ({"models": ["a"]}, {"a"}),
        ({"each": "provider"}, {"a", "b"}),
        ({"each": "model"}, {"a", "b"}),
    ],
)
def test_what_counts(per: str, what: dict[str, Any], counts: set[str], tmp_path: Path) -> None:
    with client_of(tmp_path if per == "day" else None, amount=0.0002, currency="USD", per=per, **what) as client:
        assert {label for label in ("a", "b") if let_through(client, label) < 10} == counts


@pytest.mark.filterwarnings("ignore:budget")
@pytest.mark.parametrize("per", ["run", "week"])
def test_tokens_count_whatever_they_cost(per: str, tmp_path: Path) -> None:
    with client_of(tmp_path if per == "week" else None, tokens=250, per=per) as client:
        first = let_through(client, "free")
        assert 0 < first < 10
        with pytest.raises(agouti.BudgetExceeded, match="tokens left, and this call to a could take"):
            client.ask("a", "Peas?", max_tokens=200)
        [state] = client.budgets()
        assert (state.unit, int(state.spent), state.reserved) == ("tokens", 20 * first, 0)
        assert (state.until is None) == (per == "run")


@pytest.mark.parametrize(
    ("budget", "what"),
    [
        ({"amount": 1, "currency": "USD", "tags": {"member": "*"}}, 'each = "tag:member"'),
        ({"amount": 1, "currency": "USD", "each": "colour"}, "is nothing that a call has"),
        ({"amount": 1, "currency": "USD", "each": "tag:"}, "is nothing that a call has"),
        ({"tokens": 5, "amount": 1, "currency": "USD"}, "not both"),
        ({"tokens": 0}, "out of range"),
        ({"amount": 1, "currency": "USD", "providers": ["nowhere"]}, "no provider 'nowhere'"),
        ({"amount": 1, "currency": "USD", "notify": "me"}, "no function and no address"),
    ],
)
def test_budgets_that_cannot_be(budget: dict[str, Any], what: str) -> None:
    with pytest.raises(agouti.ConfigError) as told:
        client_of(None, per="run", **budget)
    assert what in f"{told.value.message} {told.value.hint}"


def hear(warning: BudgetWarning) -> None:
    HEARD.append(warning)


def test_somebody_is_told_that_it_is_nearly_spent(monkeypatch: pytest.MonkeyPatch) -> None:
    bodies: list[Any] = []

    class Hook(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            bodies.append(json.loads(self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: Any) -> None:
            return

    server = HTTPServer(("127.0.0.1", 0), Hook)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    HEARD.clear()
    address = f"http://127.0.0.1:{server.server_port}/hook"
    monkeypatch.setenv("CLUB_HOOK", address)
    for whom in (address, {"env": "CLUB_HOOK"}, f"{__name__}:hear", f"{__name__}:nobody"):
        with client_of(None, amount=0.0004, currency="USD", per="run", warn=0.5, notify=whom) as client:
            assert address not in f"{client.config.budgets!r}"
            with pytest.warns(agouti.AgoutiWarning, match="club is nearly spent"):
                let_through(client, "a")
    for thread in threading.enumerate():
        if thread.name == "agouti-notify":
            thread.join(10)
    server.shutdown()
    server.server_close()
    assert [(each["budget"], each["unit"], each["share"] >= 0.5) for each in bodies] == [("club", "USD", True)] * 2
    assert [each.budget for each in HEARD] == ["club"]
