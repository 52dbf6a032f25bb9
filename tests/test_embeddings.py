"""Texts into vectors: any number, in order, on every dialect that has them."""

import asyncio
import base64
import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy
import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.standins import Served
from agouti.standins.vectors import vector
from agouti.testing import FakeTransport

from .hostile.kit import Connection, reply, serving

MODELS = {
    "chat": "finder",
    "responses": "valley-embed@echo",
    "contents": "lock-embed-1@canal",
    "lines": "petal-embed:latest@barn",
    "predict": "grist-embed-1@mill",
    "converse": "hull.embed-1:0@quay",
}
NOTES = ["Broad beans like cold soil.", "Tomatoes want warmth.", "Carrots grow in sand."]


def embed(kind: str, config: Any, *arguments: Any, **options: Any) -> agouti.Embeddings:
    if kind == "sync":
        with agouti.Client(config) as client:
            return client.embed(*arguments, **options)

    async def go() -> agouti.Embeddings:
        async with agouti.AsyncClient(config) as client:
            return await client.embed(*arguments, **options)

    return asyncio.run(go())


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize("name", MODELS)
def test_vectors_of_every_dialect(served: Served, kind: str, name: str) -> None:
    notes = embed(kind, served.config, MODELS[name], NOTES, dimensions=48)
    assert (notes.vectors.shape, notes.vectors.dtype, notes.dimensions) == ((3, 48), numpy.float32, 48)
    for place, note in enumerate(NOTES):
        assert numpy.allclose(notes.vectors[place], vector(note, 48).numbers, atol=1e-6)
    query = embed(kind, served.config, MODELS[name], "a bean in the cold", dimensions=48)
    assert [near.index for near in notes.near(query, 1)] == [0]
    if name in ("chat", "responses", "lines", "converse"):
        assert notes.usage.input_tokens == 17
    assert notes.cost == (pytest.approx(17 * 0.02 / 1e6) if name == "chat" else None)


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_ten_thousand_texts_keep_their_order(served: Served, kind: str) -> None:
    texts = [f"packet {number}: {'pea' if number % 2 else 'bean'} {number % 977}" for number in range(10_000)]
    found = embed(kind, served.config, "finder", texts, dimensions=16, concurrency=8)
    assert found.texts == tuple(texts)
    for place in (0, 255, 256, 257, 5000, 9999):
        assert numpy.allclose(found.vectors[place], vector(texts[place], 16).numbers, atol=1e-6)


@pytest.mark.parametrize("kind", ["sync", "async"])
@pytest.mark.parametrize(
    ("texts", "error", "words"),
    [
        (["pea", " "], agouti.RequestError, "text 1 is empty"),
        (["pea", 3], agouti.RequestError, "text 1 is a int"),
        ([], agouti.RequestError, "no texts"),
        ([*["pea"] * 300, "pea " * 700, "bean"], agouti.ContextOverflow, r"text 300 \(2800 characters\) is too long"),
    ],
)
def test_wrong_text_is_named_by_its_place(
    served: Served, kind: str, texts: list[Any], error: type[Exception], words: str
) -> None:
    with pytest.raises(error, match=words) as wrong:
        embed(kind, served.config, "finder", texts)
    assert isinstance(wrong.value, agouti.AgoutiError)
    assert wrong.value.hint


def at(answers: list[Any]) -> tuple[agouti.Client, FakeTransport]:
    fake = FakeTransport(answers)
    return agouti.Client.at("https://p.example/v1", transport=fake), fake


def data(*vectors: Any) -> dict[str, Any]:
    return {"data": [{"index": place, "embedding": each} for place, each in enumerate(vectors)]}


def as_base64(*numbers: float) -> str:
    return base64.b64encode(numpy.array(numbers, dtype="<f4").tobytes()).decode()


@pytest.mark.parametrize(
    ("reply", "dimensions", "words"),
    [
        (data([1, 2], [1, 2, 3]), None, "text 1 got a vector of 3 numbers"),
        (data([1, 2], [3, 4]), 3, "where 3 were expected"),
        (data([1, 2]), None, "2 texts were sent and 1 vectors"),
        (data([], []), None, "empty vector"),
        (data(as_base64(1, 2), "AAA="), None, "not 32-bit floats"),
        (data(None, [1]), None, "vector is missing"),
        ({"choices": []}, None, "no `data`"),
        (b"<html>hello</html>", None, "web page|HTML"),
    ],
)
def test_vectors_that_cannot_be_are_refused(reply: Any, dimensions: int | None, words: str) -> None:
    client, _ = at([reply])
    with client, pytest.raises(agouti.AgoutiError, match=words) as wrong:
        client.embed("m", ["a", "b"], dimensions=dimensions)
    assert isinstance(wrong.value, (agouti.ReplyUnreadable, agouti.AddressWrong))


def test_base64_is_asked_for_and_left_out_where_it_is_refused() -> None:
    refused = {"error": {"message": "Unknown parameter: 'encoding_format'.", "param": "encoding_format"}}
    client, fake = at(
        [data(as_base64(1, 0.5)), HttpReply(400, {}, json.dumps(refused).encode()), data([1, 0.5]), data([2, 2])]
    )
    with client:
        found = [client.embed("m", "a").vectors.tolist() for _ in range(3)]
    assert found == [[[1, 0.5]], [[1, 0.5]], [[2, 2]]]
    sent = [json.loads(request.body or b"").get("encoding_format") for request in fake.requests]
    assert sent == ["base64", "base64", None, None]


def test_batch_that_is_too_large_is_asked_for_in_halves() -> None:
    large = HttpReply(400, {}, b'{"error": {"message": "batch size 3 exceeds the limit of 2 inputs"}}')
    client, fake = at([large, data([1], [2]), data([3]), data([1], [2]), data([3])])
    with client:
        for _ in range(2):  # the limit is remembered, and what repeats itself is asked for once
            assert client.embed("m", ["a", "b", "a", "c"], concurrency=1).vectors.tolist() == [[1], [2], [1], [3]]
    assert [json.loads(request.body or b"")["input"] for request in fake.requests[1:]] == [["a", "b"], ["c"]] * 2


class Model:
    """A provider of vectors that takes so many texts at a time, and says so in its own words."""

    def __init__(self, most: int, words: str) -> None:
        self.asked: list[list[str]] = []
        self._most = most
        self._words = words

    def __call__(self, connection: Connection, _: int) -> None:
        texts = json.loads(connection.request.partition(b"\r\n\r\n")[2])["input"]
        self.asked.append(texts)
        refusal = self._words if len(texts) > self._most else ""
        for word, status in (("long", 400), ("refuse", 401), ("odd", 400), ("down", 500)):
            if not refusal and any(word in text for text in texts):
                told = {"code": "context_length_exceeded"} if word == "long" else {}
                error = json.dumps({"error": {"message": f"no: {word}", **told}})
                return connection.write(reply(error.encode(), f"{status} No"))
        if refusal:
            return connection.write(reply(json.dumps({"error": {"message": refusal}}).encode(), "400 No"))
        first = 1e39 if any("huge" in text for text in texts) else None
        found = data(*[[first or float(len(text)), 1.0] for text in texts])
        return connection.write(reply(json.dumps(found).encode()))


@contextmanager
def fake_model(most: int, words: str = "too many inputs") -> Iterator[tuple[agouti.Client, Model]]:
    model = Model(most, words)
    with serving(model) as server, agouti.Client.at(server.address, retries={"max": 0}) as client:
        yield client, model


@pytest.mark.parametrize(
    ("most", "words", "requests"),
    [
        (7, "too many inputs", 5000 // 4 + 30),
        (7, "batch of 5000 exceeds the limit of 7 inputs.", 5000 // 7 + 8),
        (7, "`input` may have a maximum of 7 items", 5000 // 7 + 8),
        (0, "Invalid input: model requires 'input_type'", 8),
        (0, "batch: no", 50),
    ],
)
def test_limit_of_a_batch_costs_few_requests(most: int, words: str, requests: int) -> None:
    with fake_model(most, words) as (client, model):
        if most:
            texts = [f"packet {number}" for number in range(5000)]
            assert client.embed("m", texts).vectors[:, 0].tolist() == [len(text) for text in texts]
            asked = len(model.asked)
            client.embed("m", texts[:70])
            assert len(model.asked) - asked <= 70 // 4 + 1
        else:
            with pytest.raises(agouti.RequestRefused):
                client.embed("m", ["x"] * 10 + [f"packet {number}" for number in range(5000)])
            asked = len(model.asked)
        assert asked <= requests


@pytest.mark.parametrize(
    ("wrong", "error", "lost"),
    [
        ({300: "a long one"}, agouti.ContextOverflow, 1),
        ({3: "long", 299: "long again"}, agouti.ContextOverflow, 2),
        ({300: "odd"}, agouti.RequestRefused, 256),
        ({300: "down"}, agouti.ProviderFault, 256),
        ({300: "huge"}, agouti.ReplyUnreadable, 256),
        ({0: "refuse"}, agouti.CredentialRefused, None),
    ],
)
def test_failure_costs_its_own_batch(wrong: dict[int, str], error: type[agouti.AgoutiError], lost: int | None) -> None:
    texts = [wrong.get(number, f"packet {number}") for number in range(2000)]
    with fake_model(300) as (client, model):
        with pytest.raises(error) as failed:
            client.embed("m", texts, concurrency=1)
        if error is agouti.ContextOverflow:
            assert f"text {min(wrong)} " in str(failed.value)
        if lost is None:
            assert len(model.asked) == 1
            assert failed.value.partial is None
            return
        partial = failed.value.partial
        assert len(partial) == 2000 - lost
        assert partial.vectors[:, 0].tolist() == [len(text) for text in partial.texts]
        assert "only_missing=" in failed.value.hint
        model.asked.clear()
        mended = ["mended" if number in wrong else text for number, text in enumerate(texts)]
        whole = client.embed("m", mended, only_missing=partial)
        assert sum(map(len, model.asked)) == len(set(mended) - set(partial.texts))
        assert whole.texts == tuple(mended)
        assert whole.vectors[:, 0].tolist() == [len(text) for text in mended]


def test_only_what_compares_is_joined() -> None:
    def of(model: str | None, *numbers: float) -> agouti.Embeddings:
        return agouti.Embeddings(["pea"], [numbers], label="other", model=model)

    with fake_model(9) as (client, _):
        for known, words in (("pea", "only_missing cannot be a str"), (of("m", 1, 2, 3), "3 dimensions, not 2")):
            with pytest.raises(agouti.RequestError, match=words):
                client.embed("m", "x", dimensions=2, only_missing=known)  # type: ignore[arg-type]
        with pytest.raises(agouti.ReplyUnreadable, match="where 3 were expected"):
            client.embed("m", "x", only_missing=agouti.Embeddings(["pea"], [[1, 2, 3]]))
    client, _ = at([{**data([1, 2]), "model": "b"}])
    with client, pytest.raises(agouti.RequestError, match="of the model a, those that came of b") as failed:
        client.embed("m", ["pea", "bean"], only_missing=agouti.Embeddings(["pea"], [[1, 2]], model="a"))
    assert failed.value.partial.texts == ("bean",)
    assert (of("a", 1, 2) + of("a", 3, 4)).vectors.tolist() == [[1, 2], [3, 4]]
    assert of("a", 1, 2).near(of(None, 1, 2))[0].score == pytest.approx(1)
    for other in (of("b", 1, 2), of("a", 1, 2, 3)):
        with pytest.raises(agouti.RequestError):
            of("a", 1, 2) + other
        with pytest.raises(agouti.RequestError):
            of("a", 1, 2).near(other)
    two = {"providers": {"p": {"address": "http://127.0.0.1:9/v1"}},
           "models": {"a": {"provider": "p", "name": "x"}, "other": {"provider": "p", "name": "y"}}}  # fmt: skip
    with agouti.Client(two) as client, pytest.raises(agouti.RequestError, match=r"of other \(y\)"):
        client.embed("a", "pea", only_missing=of(None, 1, 2))


@pytest.mark.parametrize("size", [3, 16, 1537])
def test_ties_keep_the_order_of_the_texts(size: int) -> None:
    vector = numpy.random.default_rng(size).standard_normal(size)
    notes = agouti.Embeddings([str(number) for number in range(1000)], numpy.tile(vector, (1000, 1)))
    assert [near.index for near in notes.near(vector, 3)] == [0, 1, 2]
    assert [[near.index for near in each] for each in notes.near_each([vector, -vector], 2)] == [[0, 1]] * 2


def test_vectors_are_numbers() -> None:
    for wrong in ([[1.0]], [[1.0], [float("inf")]], [[1.0], [1e39]], [["x"], [1]], [1, 2], [[1], [1, 2]]):
        with pytest.raises(agouti.RequestError) as refused:
            agouti.Embeddings(["a", "b"], wrong)
        assert refused.value.hint
    notes = agouti.Embeddings(["a", "b"], [[1e30, 0], [1e-30, 1e-30]])
    assert [round(near.score, 3) for near in notes.near([1e38, 0])] == [1, 0.707]
    for k in (-1, True, 2.5, "3"):
        with pytest.raises(agouti.RequestError, match="k cannot be"):
            notes.near([1, 0], k)  # type: ignore[arg-type]
    for dtype, bits in (("<f8", "64"), ("<f2", "16")):
        numbers = numpy.ones(16) / 4
        client, _ = at([data(base64.b64encode(numbers.astype(dtype).tobytes()).decode())])
        with client, pytest.raises(agouti.ReplyUnreadable, match=f"{bits}-bit floats"):
            client.embed("m", "a")


def test_parts_of_embeddings() -> None:
    notes = agouti.Embeddings(list("abcd"), numpy.arange(8).reshape(4, 2), model="m")
    assert notes[-1].tolist() == [6, 7]
    assert [row.tolist() for row in notes] == notes.vectors.tolist()
    assert [notes[place].texts for place in (slice(1, 3), [3, 0], [True, False, False, True], [])] == [
        ("b", "c"), ("d", "a"), ("a", "d"), ()]  # fmt: skip
    assert notes[1:3].model == "m"
    with pytest.raises(IndexError):
        notes[4]


@pytest.mark.parametrize("suffix", [".npz", ".parquet"])
def test_what_is_saved_is_loaded(suffix: str, tmp_path: Path) -> None:
    path = tmp_path / f"notes{suffix}"
    notes = agouti.Embeddings(["pea\0", "bohne ü\n"], [[1, 2], [3, 0.1]], label="f", model="m", provider="p", cost=0.5)
    notes.save(path)
    again = agouti.Embeddings.load(str(path))
    assert again.texts == notes.texts
    assert (again.vectors == notes.vectors).all()
    assert (again.label, again.model, again.provider, again.cost) == ("f", "m", "p", 0.5)
    agouti.Embeddings([], numpy.empty((0, 3))).save(path)
    assert agouti.Embeddings.load(path).vectors.shape == (0, 3)
    whole = path.read_bytes()
    for broken in (b"", whole[: len(whole) // 2], b"PAR1 PAR1"):
        path.write_bytes(broken)
        with pytest.raises(agouti.RequestError, match="holds no embeddings"):
            agouti.Embeddings.load(path)
    for wrong in ("no/such.npz", "notes.csv", "."):
        with pytest.raises(agouti.RequestError):
            agouti.Embeddings.load(tmp_path / wrong)
        with pytest.raises(agouti.RequestError):
            notes.save(tmp_path / wrong)


def test_near_ranks_and_says_what_does_not_compare() -> None:
    notes = agouti.Embeddings(["a", "b", "c", "d"], numpy.array([[2, 0], [0, 3], [1, 1], [0, 0]], dtype=numpy.float32))
    assert [(near.text, round(near.score, 3)) for near in notes.near([1, 0], 3)] == [
        ("a", 1.0),
        ("c", 0.707),
        ("b", 0.0),
    ]
    assert [near.text for near in notes.near(notes.vectors[1:2], 9)] == ["b", "c", "a", "d"]
    assert notes.near([1, 0], 0) == []
    assert numpy.allclose(numpy.linalg.norm(notes.normalised().vectors, axis=1), [1, 1, 1, 0])
    for wrong in ("a text", [1, 2, 3], notes, [float("nan"), 1]):
        with pytest.raises(agouti.RequestError) as refused:
            notes.near(wrong)
        assert refused.value.hint


def test_what_has_no_vectors_says_who_has(served: Served) -> None:
    with agouti.Client(served.config) as client:
        for model in ("envelope-2@letterbox", "potters/clinker-7b@kiln", "almanac"):
            with pytest.raises(agouti.AgoutiError, match="embeddings"):
                client.embed(model, "pea")
        with pytest.raises(agouti.RequestError, match="dimensions"):
            client.embed("finder", "pea", dimensions=0)
        with pytest.raises(agouti.RequestError, match="concurrency"):
            client.embed("finder", "pea", concurrency=0)
        for texts in (None, 3, b"pea", {"pea": 1}):
            with pytest.raises(agouti.RequestError, match="texts cannot be"):
                client.embed("finder", texts)  # type: ignore[arg-type]
        with pytest.raises(agouti.DeadlineExceeded):
            client.embed("finder", ["pea"] * 3000, deadline=1e-9)
