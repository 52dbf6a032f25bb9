"""Lists of models of all providers, joined with the entries."""

import asyncio
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.config.edit import with_values
from agouti.core.http.exchange import HttpReply
from agouti.testing import AsyncFakeTransport, FakeTransport

ENTRIES: dict[str, Any] = {
    "providers": {"nb": {"address": "https://nb.example/v1"}, "shed": {"address": "https://shed.example/v1"}},
    "models": {
        "kids": {"extends": "big", "context": 9},
        "big": {
            "provider": "nb",
            "name": "big-1",
            "price": {"input": 2, "output": 3, "currency": "EUR"},
            "context": 500,
        },
        "gone": {"provider": "nb", "name": "gone-1"},
        "local": {"provider": "shed", "name": "loam", "inputs": ["text"]},
    },
}
NO_KEY = {"address": "https://shed.example/v1", "key": {"env": "NOPE"}}
LIST = {
    "data": [
        {
            "id": "big-1",
            "context_length": 800,
            "pricing": {"prompt": "0.000001", "completion": "1e-6"},
            "owned_by": "Fen",
        },
        {"id": "dear", "context_window": 900, "pricing": {"prompt": "0.000009", "completion": "0.000009"}},
        {
            "id": "gift",
            "pricing": {"prompt": "0", "completion": "0"},
            "architecture": {"input_modalities": ["text", "image"]},
        },
        {"id": "varies", "pricing": {"prompt": "-1", "completion": "nan"}},
        {"id": "gift", "owned_by": "twice"},
    ]
}


def models(kind: str, answers: list[Any], **config: Any) -> agouti.ModelList:
    made: Any = {**ENTRIES, **config}
    if kind == "sync":
        with agouti.Client(made, transport=FakeTransport(answers)) as client:
            return client.models()

    async def go() -> agouti.ModelList:
        async with agouti.AsyncClient(made, transport=AsyncFakeTransport(answers)) as client:
            return await client.models()

    return asyncio.run(go())


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_lists_and_entries_are_joined_and_a_failure_hides_nothing(kind: str) -> None:
    found = models(kind, [LIST], providers={"nb": ENTRIES["providers"]["nb"], "shed": NO_KEY})
    rows = {(row.provider, row.name): row for row in found}
    assert len(found) == len(rows) == 6
    big = rows["nb", "big-1"]
    assert (big.labels, big.label, big.context, big.input_price, big.currency) == (
        ("big", "kids"),
        "big",
        500,
        2,
        "EUR",
    )
    assert (big.owner, big.free, big.listed) == ("Fen", False, True)
    assert (rows["nb", "dear"].input_price, rows["nb", "dear"].currency, rows["nb", "dear"].label) == (9, "USD", None)
    assert (rows["nb", "gift"].free, rows["nb", "gift"].owner) == (True, None)
    assert (rows["nb", "varies"].input_price, rows["nb", "varies"].free) == (None, None)
    assert (rows["nb", "gone-1"].listed, rows["shed", "loam"].listed) == (False, None)
    assert list(found.failures) == ["shed"]


def test_failures_of_servers_are_values() -> None:
    answers = [HttpReply(500, {}, b"oops"), HttpReply(500, {}, b"oops")]
    found = models("sync", answers)
    assert {label: type(each) for label, each in found.failures.items()} == {
        "nb": agouti.ProviderFault,
        "shed": agouti.ProviderFault,
    }
    assert [row.label for row in found.sorted("label")] == ["big", "gone", "local"]


@pytest.mark.parametrize(
    ("where", "by", "names"),
    [
        ({}, "price", ["big-1", "gift", "dear", "gone-1", "loam", "varies"]),
        ({}, "context", ["dear", "big-1", "gift", "gone-1", "loam", "varies"]),
        ({"free": True}, "name", ["gift"]),
        ({"text": "FEN"}, "name", ["big-1"]),
        ({"text": "kids"}, "name", ["big-1"]),
        ({"inputs": "image"}, "name", ["gift"]),
        ({"inputs": ["text"]}, "name", ["gift", "loam"]),
        ({"min_context": 600}, "name", ["dear"]),
        ({"provider": "shed"}, "name", ["loam"]),
    ],
)
def test_filters_and_orders(where: dict[str, Any], by: Any, names: list[str]) -> None:
    found = models("sync", [LIST], providers={"nb": ENTRIES["providers"]["nb"], "shed": NO_KEY})
    assert [row.name for row in found.where(**where).sorted(by)] == names
    with pytest.raises(agouti.RequestError, match="'size'"):
        found.sorted("size")  # type: ignore[arg-type]


@pytest.mark.parametrize("suffix", ["csv", "jsonl", "parquet"])
def test_lists_are_frames_and_files(tmp_path: Path, suffix: str) -> None:
    import pandas

    found = models("sync", [LIST], providers={"nb": ENTRIES["providers"]["nb"], "shed": NO_KEY})
    path = tmp_path / f"models.{suffix}"
    found.save(path)
    read = {"csv": pandas.read_csv, "parquet": pandas.read_parquet, "jsonl": lambda p: pandas.read_json(p, lines=True)}
    again = read[suffix](path)  # type: ignore[operator]
    assert list(again["name"]) == list(found.frame()["name"])
    assert again["input_price"].fillna(-1).tolist() == found.frame()["input_price"].fillna(-1).tolist()
    for wrong in ("models.txt", "nowhere/models.csv"):
        with pytest.raises(agouti.RequestError):
            found.save(tmp_path / wrong)


def test_files_keep_every_character(tmp_path: Path) -> None:
    import csv

    odd = 'a\rb,"c"\n\u2028 \x00'.replace("\x00", "")
    models("sync", [{"data": [{"id": odd}]}, {"data": []}]).where(text="a").save(tmp_path / "m.csv")
    with (tmp_path / "m.csv").open(newline="", encoding="utf-8") as file:
        assert odd in [row["name"] for row in csv.DictReader(file)]


FILE = """# ours
[models.a]   # the first
name = "x"
price = { input = 1, output = 2 }  # old

[models.b.price]
input = 1  # kept
output = 2

[models."c d"]
name = 'y'
"""


@pytest.mark.parametrize("label", ["a", "b", "c d"])
@given(
    st.dictionaries(
        st.sampled_from(["context", "price", "inputs", "means"]),
        st.integers(1, 9)
        | st.fixed_dictionaries({"input": st.just(7.5), "currency": st.just("EUR")})
        | st.just(["text"]),
        max_size=3,
    )
)
def test_entries_are_changed_in_place(label: str, values: dict[str, Any]) -> None:
    changed = with_values(FILE, "models", label, values)
    before = tomllib.loads(FILE)
    before["models"][label].update(values)
    assert tomllib.loads(changed) == before
    assert "# ours" in changed
    assert "# the first" in changed


@pytest.mark.parametrize("text", ["", "[models]\n", "models = 3\n", "models = { a = 1 }\n", "x ="])
def test_entries_that_cannot_be_changed(text: str) -> None:
    with pytest.raises(agouti.ConfigError):
        with_values(text, "models", "a", {"context": 1})
