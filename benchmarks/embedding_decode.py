"""What 256 vectors of 1536 numbers cost from reply to array: as base64, and as JSON numbers."""

import base64
import json
import sys
from time import perf_counter

import measure
import numpy

from agouti.core.canonical.usage import Usage
from agouti.core.canonical.vectors import Vectors
from agouti.dialects.chat.dialect import ChatDialect
from agouti.embeddings.assembly import assembled, embedding_request
from agouti.engine.operations.vectors import Embedded, Gathered


def arrays(body: bytes, count: int) -> "numpy.ndarray[tuple[int, ...], numpy.dtype[numpy.float32]]":
    """The array of a reply, by the way that `Client.embed` takes."""
    found = ChatDialect().decode_vectors(body)
    if not isinstance(found, Vectors):
        raise TypeError(found)
    piece = Embedded(start=0, vectors=found, provider="", usage=Usage(), cost=None, attempts=())
    texts = [f"packet {number}" for number in range(count)]
    asked = embedding_request(texts, None, label="", name="", dimensions=None)
    return assembled(asked, Gathered([piece], []), elapsed=0).vectors


def main() -> int:
    """Measure both."""
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=9)
    options.add_argument("--count", type=int, default=256)
    options.add_argument("--length", type=int, default=1536)
    given = options.parse_args()
    chance = numpy.random.default_rng(1)
    vectors = chance.standard_normal((given.count, given.length)).astype("<f4")
    as_text = [base64.b64encode(vector.tobytes()).decode() for vector in vectors]
    bodies = {
        "numbers": json.dumps(
            {"data": [{"index": i, "embedding": v.tolist()} for i, v in enumerate(vectors)]}
        ).encode(),
        "base64": json.dumps({"data": [{"index": i, "embedding": text} for i, text in enumerate(as_text)]}).encode(),
    }
    taken: dict[str, list[float]] = {name: [] for name in bodies}
    for _ in range(given.rounds):
        for name, body in bodies.items():
            started = perf_counter()
            found = arrays(body, given.count)
            taken[name].append(perf_counter() - started)
            if not (found == vectors).all():
                raise AssertionError(name)
    for name, times in taken.items():
        print(f"{name:<8} {len(bodies[name]) / 1e6:6.1f} MB {sorted(times)[len(times) // 2] * 1e3:8.1f} ms")
    ratios = sorted(a / b for a, b in zip(taken["numbers"], taken["base64"], strict=True))
    print(f"base64 is {ratios[len(ratios) // 2]:.1f} times as fast")
    bounds = measure.Bounds(judged=not given.smoke)
    bounds.at_least("base64", ratios[len(ratios) // 2], 8)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
