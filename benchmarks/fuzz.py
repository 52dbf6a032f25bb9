"""Broken input of every kind, made by changing what is good: nothing but Agouti's own errors may come of it, and soon.

python benchmarks/fuzz.py [--minutes N] [--seed N]

Over the framing of streams, JSON in all its readers, the decoders of every dialect, curl commands, configurations,
``.env`` files, archives, token commands and headers. Ends with 1 and prints the input where something else is raised.
"""

# ruff: noqa: E501 - samples stand as they are

import collections
import contextlib
import json
import random
import sys
import tempfile
import time
import tomllib
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

import measure

from agouti.adopt import curl
from agouti.adopt.entries import adopt
from agouti.config.env_file import parsed
from agouti.config.load import load
from agouti.config.write import as_toml
from agouti.core.errors import AgoutiError, FramingError
from agouti.core.framing.binary import FrameDecoder
from agouti.core.framing.json_array import ArraySplitter
from agouti.core.framing.json_lines import LineSplitter
from agouti.core.framing.sse import SseDecoder
from agouti.core.http import har, retry_after
from agouti.core.http.exchange import TransportFailure
from agouti.core.http.headers import Headers
from agouti.core.json import extract as json_extract
from agouti.core.json import lenient as json_lenient
from agouti.core.json.partial import PartialReader
from agouti.core.secrets.masking import printable
from agouti.credentials.command import _read, _text
from agouti.credentials.sources import CommandKey
from agouti.dialects.registry import dialect, names
from agouti.replies.code_blocks import code_blocks
from agouti.transport.proxies import Proxies

# Longer than that for one input is a defect of its own.
SECONDS = 2.0
REPLY = {
    "id": "r1", "model": "loam-2b", "choices": [{"index": 0, "finish_reason": "stop", "message": {"role": "assistant",
    "content": "In March.", "tool_calls": [{"id": "c", "type": "function", "function": {"name": "f", "arguments": "{}"}}]}}],
    "usage": {"prompt_tokens": 3, "completion_tokens": 4}, "error": {"message": "busy", "code": 503},
    "content": [{"type": "text", "text": "May"}], "candidates": [{"content": {"parts": [{"text": "x"}]}}], "output": [
    {"type": "message", "content": [{"type": "output_text", "text": "x"}]}], "predictions": ["x"], "message": {"content": "y"},
    "output_text": "z", "data": [{"embedding": [0.5, 1e3], "index": 0}], "stop_reason": "end_turn", "status": "succeeded",
}  # fmt: skip
EVENTS = b"".join(
    b"event: %s\ndata: %s\n\n" % (name, json.dumps({**REPLY, "type": name.decode(), "delta": {"content": "x", "text": "y"}}).encode())
    for name in (b"message_start", b"content_block_delta", b"response.output_text.delta", b"message")
)  # fmt: skip
CURL = (
    "export K='sk-1'\nsudo curl -sSXPOST \"https://api.northbank.example/v1/chat/completions?key=$K&v=${V:-1}\" \\\n -H 'x-api-key: $K' "
    '-H $\'a: \\x41\' --data-raw \'{"model": "q", "messages": [], "top_p": 0.5}\' -u "me:$(cat k | jq .)" <<EOF | jq .\n{}\nEOF\n'
)
TOML = (
    '[providers.p]\naddress = "https://{r}.example/v1"\nkey = [{ env = "K" }, { command = ["a"] }]\nvalues = { r = "x" }\n'
    'headers = { a = { env = "B" } }\n[models.m]\nprovider = "p"\nname = "n"\nextends = "o"\nfallback = ["m"]\n'
    'parameters = { temperature = 0.5 }\nprice = { currency = "EUR", input = 1 }\n'
)
DOTENV = "# a\nexport K='a\\'b'\nB=\"x\\n${K}\"\n\nC = d # e\nF\n"
ARCHIVE = har.head("1") + b'{"request": {"method": "POST", "url": "https://a/b?c=d", "postData": {"text": "{}"}}, "response": ' \
    b'{"status": 200, "headers": [{"name": "a", "value": "b"}], "content": {"text": "x"}, "_pieces": [[1, 1]]}}' + har.TAIL  # fmt: skip
HEADERS = "retry-after: 3\nratelimit-reset: 5\nx-ratelimit-reset: 1800000000\ndate: Wed, 25 Nov 2026 10:00:00 GMT\n"
PROXY = "HTTPS_PROXY=http://me:pw@proxy.example:3128\nNO_PROXY=a.example,10.0.0.0/8,[::1]:80,*.b\n"
MARKDOWN = 'Try:\n```python title="days.py"\nx = 1\n```\n~~~\n{"a": [1, 2,]}\n~~~\n<think>hm</think> {\'a\': None}'


def framing(data: bytes) -> None:
    decoders: list[Any] = [SseDecoder(10_000), LineSplitter(10_000), ArraySplitter(10_000), FrameDecoder()]
    for decoder in decoders:
        with contextlib.suppress(FramingError):
            for start in range(0, len(data), 7):
                decoder.feed(data[start : start + 7])


def texts(data: bytes) -> None:
    text = data.decode("utf-8", "surrogateescape")
    printable(text)
    code_blocks(text)
    json_extract.json_in(text)
    reader = PartialReader()
    for start in range(0, len(text), 5):
        reader.feed(text[start : start + 5])


def json_readers(data: bytes) -> None:
    for read in (json_lenient.decode_json, json_lenient.any_json):
        with contextlib.suppress(*json_lenient.UNDECODABLE):
            read(data)


def decoders(data: bytes) -> None:
    for name in names():
        each = dialect(name)
        for decode in (each.decode_chat, each.decode_models, each.decode_vectors):
            with contextlib.suppress(AgoutiError, NotImplementedError):  # the latter: there is no such operation
                decode(data)
        each.classify(400, Headers(), data)
        stream = each.stream_decoder()
        if stream is not None:
            with contextlib.suppress(AgoutiError):
                stream.feed(data[: len(data) // 2])
                stream.feed(data[len(data) // 2 :])
                stream.last()
                stream.end()


def commands(data: bytes) -> None:
    found = adopt(curl.read(data.decode("utf-8", "replace"), lambda path: "{}"))
    tomllib.loads(as_toml(found.entries))


def configurations(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "agouti.toml")
        path.write_bytes(data)
        load(path, environment={})


def dotenvs(data: bytes) -> None:
    parsed(data.decode("utf-8", "replace"), [])


def archives(data: bytes) -> None:
    har.Archive(data, "x")


def tokens(data: bytes) -> None:
    _read(_text(data), CommandKey(("x",)), 0.0)


def heads(data: bytes) -> None:
    pairs = [line.partition(":")[::2] for line in data.decode("latin-1").splitlines()]
    retry_after.asked_wait(Headers([(name, value.strip()) for name, value in pairs]), data)


def proxies(data: bytes) -> None:
    pairs = dict(line.partition("=")[::2] for line in data.decode("utf-8", "replace").splitlines())
    with contextlib.suppress(TransportFailure):
        Proxies(pairs).of("https://p.example:444")


TARGETS: list[tuple[Callable[[bytes], None], list[bytes]]] = [
    (framing, [EVENTS, json.dumps([REPLY, REPLY]).encode(), b"\x00\x00\x00\x10\x00\x00\x00\x00" + b"x" * 20]),
    (json_readers, [json.dumps(REPLY).encode(), b"\xef\xbb\xbf{}", b'{"a": NaN, "b": "\\ud83c"}']),
    (texts, [MARKDOWN.encode(), json.dumps(REPLY).encode()]),
    (decoders, [json.dumps(REPLY).encode(), EVENTS, json.dumps([REPLY]).encode()]),
    (commands, [CURL.encode(), b'curl ^"https://a.example^" ^\n -H ^"a: b^"', b"https://u:p@a.example/v1?key=1"]),
    (configurations, [TOML.encode()]),
    (dotenvs, [DOTENV.encode()]),
    (archives, [ARCHIVE]),
    (tokens, [b'{"token": "t", "expires_in": 3, "expiry": "2026-01-01"}', b"export T='x'\n"]),
    (heads, [HEADERS.encode(), b'{"retry_after": "3s"} try again in 2.5s']),
    (proxies, [PROXY.encode()]),
]
ODD = [
    b"\x00", b"\xff", b"\n", b"\r", b"\r\n", b'"', b"'", b"\\", b"{", b"}", b"[", b"]", b",", b":", b"$", b"`", b"%", b"<<", b"-", b"9" * 400,
    b"1e999", b"NaN", b"null", b"true", b"\xef\xbb\xbf", "\u2028".encode(), "\U0001f331".encode(), b"[" * 5000, b'{"a":' * 3000, b"=", b"#",
    b" ", b"\t", b"$(", b"${", b"\\u0000", b"\\ud800", b"data:", b"\x1b[2J", b"-1", b"0", b".", b"//", b"@", b"?",
]  # fmt: skip


def changed(data: bytes, chance: random.Random) -> bytes:
    """The same with some things wrong."""
    for _ in range(chance.randint(1, 6)):
        place, length = chance.randint(0, len(data)), chance.choice((0, 1, 1, 2, 8, 40))
        match chance.randint(0, 4):
            case 0:
                data = data[:place] + data[place + length :]
            case 1:
                data = data[:place] + chance.choice(ODD) + data[place + length :]
            case 2:
                data = data[:place] + data[place : place + length] * chance.randint(1, 5) + data[place:]
            case 3:
                data = data[:place] + bytes(chance.randrange(256) for _ in range(length)) + data[place + length :]
            case _:
                other = chance.randint(0, len(data))
                data = data[:place] + data[other : other + 60] + data[place:]
    return data[:200_000]


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--minutes", type=float, default=1.0)
    options.add_argument("--seed", type=int, default=int(time.time()))
    given = options.parse_args()
    chance, until = random.Random(given.seed), time.monotonic() + given.minutes * 60
    inputs: collections.Counter[str] = collections.Counter()
    errors: collections.Counter[str] = collections.Counter()
    worst: dict[str, float] = {}
    wrong = 0
    while time.monotonic() < until and wrong < 10:
        target, samples = chance.choice(TARGETS)
        data = changed(chance.choice(samples), chance)
        began = time.process_time()
        try:
            target(data)
        except AgoutiError as error:
            errors[type(error).__name__] += 1
        except Exception:
            wrong += 1
            print(f"{target.__name__} with {data[:2000]!r}:\n{traceback.format_exc()}")
        took = time.process_time() - began
        inputs[target.__name__] += 1
        worst[target.__name__] = max(worst.get(target.__name__, 0.0), took)
        if took > SECONDS:
            wrong += 1
            print(f"{target.__name__} took {took:.1f} s with {data[:2000]!r}")
    print(f"seed {given.seed}, {sum(inputs.values())} inputs: {dict(inputs)}")
    print(f"our own errors: {dict(errors)}")
    print("slowest, ms: " + ", ".join(f"{name} {seconds * 1e3:.0f}" for name, seconds in sorted(worst.items())))
    print("all well" if not wrong else f"{wrong} defects")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
