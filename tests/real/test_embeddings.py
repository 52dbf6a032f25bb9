"""Vectors of a real model server: shapes, order and agreement, never values."""

import os

import numpy
import pytest

import agouti

from .test_chat import KEY

ADDRESS = os.environ.get("AGOUTI_REAL_EMBEDDINGS", "")
pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_EMBEDDINGS is not set")


def test_vectors_are_of_one_length_and_keep_the_order() -> None:
    texts = ["Broad beans like cold soil.", "Tomatoes want warmth.", "Broad beans like cold soil."]
    with agouti.Client.at(f"{ADDRESS}/v1", key=KEY or None) as client:
        found = client.embed("real-small", texts)
        alone = client.embed("real-small", texts[1])
    assert found.vectors.dtype == numpy.float32
    assert found.vectors.shape == (3, found.dimensions)
    unit = found.normalised().vectors
    assert float(unit[0] @ unit[2]) > 0.99
    assert float(unit[1] @ alone.normalised().vectors[0]) > 0.99
    assert float(unit[0] @ unit[1]) < 0.999
    assert (found.usage.input_tokens or 0) > 10
    assert found.near(alone, 1)[0].index == 1
