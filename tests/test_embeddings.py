"""Texts into vectors: any number, in order, on every dialect that has them."""

import asyncio
import base64
import json
from typing import Any

import numpy
import pytest

import agouti
from agouti.core.http import HttpReply
from agouti.standins import Served
from agouti.standins.vectors import vector
from agouti.testing import FakeTransport

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
    client, fake = at([large, data([1]), data([2], [3])])
    with client:
        assert client.embed("m", ["a", "b", "c"]).vectors.tolist() == [[1], [2], [3]]
    assert [json.loads(request.body or b"")["input"] for request in fake.requests[1:]] == [["a"], ["b", "c"]]


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
    for wrong in ("a text", [1, 2, 3], notes, agouti.Embeddings(["x"], notes.vectors[:1], label="other")):
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
