"""What decoding one chunk costs on each dialect, against splitting the same bytes and decoding the JSON in them.

The bytes are those of a stand-in's stream, repeated. The floor splits at the format's own marks and decodes every
payload with msgspec into plain values; the dialect gives typed events for the same bytes.
"""

import sys
from collections.abc import Callable
from time import perf_counter
from typing import Any

import measure
import msgspec

import agouti
from agouti.calls.calls import calls_of
from agouti.core.canonical.events import Event
from agouti.core.framing.binary import FrameDecoder
from agouti.dialects.base import StreamDecoder
from agouti.dialects.registry import dialect
from agouti.dialects.wire import Fault
from agouti.standins import serve

MODELS = {
    "chat": "quill-large@northbank",
    "responses": "valley-4@echo",
    "prompt": "vellum-base@scroll",
    "messages": "envelope-2@letterbox",
    "contents": "narrow-3@canal",
    "lines": "loam-2b:latest@barn",
    "jobs": "potters/clinker-7b@kiln",
    "converse": "hull.deck-2:0@quay",
}


class Tape:
    """A stream decoder that keeps the bytes it is fed."""

    def __init__(self, inner: StreamDecoder) -> None:
        self._inner = inner
        self.data = bytearray()

    @property
    def done(self) -> bool:
        return self._inner.done

    @property
    def failure(self) -> Fault | None:
        return self._inner.failure

    def feed(self, data: bytes) -> list[Event]:
        self.data += data
        return self._inner.feed(data)

    def last(self) -> list[Event]:
        return self._inner.last()

    def end(self) -> bool:
        return self._inner.end()


def streamed(client: agouti.Client, model: str) -> bytes:
    """The bytes of a stream."""
    spoken: Any = calls_of(client).provider(model.rpartition("@")[2]).dialect
    tape = Tape(spoken.stream_decoder())
    spoken.stream_decoder = lambda: tape
    with client.stream(model, "Plan my spring bed.") as stream:
        for _ in stream:
            pass
    return bytes(tape.data)


def floor(name: str, data: bytes) -> int:
    """Split and decode; how many payloads there were."""
    decode = msgspec.json.decode
    if name == "converse":
        payloads = [frame.payload for frame in FrameDecoder().feed(data)]
    elif name == "lines":
        payloads = data.split(b"\n")
    else:
        payloads = [block.rpartition(b"data: ")[2] for block in data.split(b"\n\n")]
    count = 0
    for payload in payloads:
        if payload[:1] == b"{" and name != "jobs":
            decode(payload)
        count += 1
    return count


def best(work: Callable[[], object], rounds: int) -> float:
    """Seconds of the quickest round."""
    found = float("inf")
    for _ in range(rounds):
        started = perf_counter()
        work()
        found = min(found, perf_counter() - started)
    return found


def main() -> int:
    """Measure all of them."""
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=200)
    given = options.parse_args()
    rounds, bounds = given.rounds, measure.Bounds(judged=not given.smoke)
    print(f"{'dialect':<10} {'chunks':>6} {'us/chunk':>9} {'floor':>6} {'ratio':>6}")
    with serve() as served, agouti.Client(served.config) as client:
        for name, model in MODELS.items():
            data = streamed(client, model)

            def typed(name: str = name, data: bytes = data) -> None:
                decoder = dialect(name).stream_decoder()
                if decoder is not None:
                    decoder.feed(data)

            chunks = floor(name, data)
            ours, theirs = best(typed, rounds), best(lambda name=name, data=data: floor(name, data), rounds)  # type: ignore[misc]
            per_chunk = 1e6 / chunks
            print(f"{name:<10} {chunks:>6} {ours * per_chunk:>9.2f} {theirs * per_chunk:>6.2f} {ours / theirs:>6.2f}")
            bounds.at_most(name, ours / theirs, 6 if name == "jobs" else 4)
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
