"""Properties of the core: what goes in comes out again."""

import shlex
import tomllib
from typing import Any

import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from agouti.adopt import curl
from agouti.config.origins import statement_lines
from agouti.core.canonical.chat import Choice, Completion, ToolCall, ToolFunction, Usage
from agouti.core.canonical.events import Text
from agouti.core.http import address
from agouti.core.http.exchange import HttpRequest
from agouti.core.http.har import TAIL, Archive, Received, entry, head
from agouti.core.secrets.masking import printable
from agouti.core.secrets.secret import SecretText
from agouti.core.text.suggest import similar_names
from agouti.dialects.registry import parse_address
from agouti.engine.receiving.accumulate import ReplyAccumulator, as_events

WORDS = st.text("abcdefghij", min_size=1, max_size=8)
TEXTS = st.text(max_size=20)
CALLS = st.builds(ToolCall, st.builds(ToolFunction, WORDS, TEXTS), WORDS)
CHOICES = st.builds(
    Choice,
    TEXTS,
    WORDS,
    st.none() | st.text(min_size=1, max_size=9),
    st.none() | WORDS,
    st.lists(CALLS, max_size=3).map(tuple),
)
COUNTS = st.none() | st.integers(0, 10**6)
COMPLETIONS = st.builds(
    Completion,
    st.lists(CHOICES, min_size=1, max_size=3).map(tuple),
    WORDS,
    WORDS,
    st.none() | st.builds(Usage, COUNTS, COUNTS, COUNTS, COUNTS, COUNTS),
)


@given(COMPLETIONS, st.integers(1, 5))
def test_events_of_a_completion_gather_to_it_again(completion: Completion, size: int) -> None:
    so_far = ReplyAccumulator()
    for event in as_events(completion):
        # Texts in pieces, as streams bring them.
        pieces = (
            [Text(event.text[at : at + size], event.choice) for at in range(0, len(event.text), size)]
            if isinstance(event, Text)
            else [event]
        )
        so_far.add(pieces, lambda: 1.0)  # type: ignore[arg-type]
    assert so_far.completion() == completion


def test_what_could_deceive_a_reader_is_not_printed() -> None:
    """Controls, marks of direction, isolates: everything by which a text looks other than it is."""
    steering = [*range(32), *range(127, 160), 0x61C, 0x200E, 0x200F, *range(0x2028, 0x202F), *range(0x2066, 0x206A)]
    for code in set(steering) - {9, 10}:
        assert printable(f"a{chr(code)}b") == "a\ufffdb", hex(code)
    for good in "\t\nä\u00a0\u200b漢🌱":
        assert printable(f"a{good}b") == f"a{good}b"


HOSTS = st.builds(
    lambda words, port: ".".join(words) + (f":{port}" if port else ""),
    st.lists(WORDS, min_size=2, max_size=4),
    st.integers(0, 65535),
)
PREFIXES = st.lists(WORDS, max_size=3).map(lambda words: "".join(f"/{word}" for word in words))


@given(
    HOSTS,
    PREFIXES,
    st.sampled_from(["", "/", "/chat/completions", "/responses", "/messages", "/embeddings", "/models", "/api/chat"]),
)
def test_operation_paths_come_off_and_what_is_left_is_stable(host: str, prefix: str, operation: str) -> None:
    base = f"https://{host}{prefix}"
    found = parse_address(f"{base}/v1{operation}" if operation != "/api/chat" else base + operation)
    assert found.base == (f"{base}/v1" if operation != "/api/chat" else base)
    assert parse_address(found.base).base == found.base
    assert address.origin_of(found.base).startswith("https://")


@given(
    st.dictionaries(st.from_regex(r"[a-z][a-z-]{1,8}", fullmatch=True), st.text(st.characters(codec="ascii", exclude_characters="\r\n\x00"), max_size=12), max_size=4),
    st.text(st.characters(codec="utf-8", exclude_characters="\r\n\x00"), max_size=30).filter(lambda text: not text.startswith("@")),
)  # fmt: skip
def test_quoted_commands_are_read_as_a_shell_would(headers: dict[str, str], body: str) -> None:
    words = ["curl", "https://a.example/v1/chat/completions"]
    for name, value in headers.items():
        words += ["-H", f"{name}: {value}"]
    if body:
        words += ["--data-raw", body]
    found = curl.read(" ".join(shlex.quote(word) for word in words).replace(" -H ", " \\\n  -H "))
    assert found.headers == {name: value.strip() for name, value in headers.items()}
    assert found.body == body


@given(st.lists(st.binary(max_size=30), max_size=5), st.binary(max_size=20), st.integers(200, 599))
def test_recorded_exchange_is_found_again_byte_for_byte(pieces: list[bytes], body: bytes, status: int) -> None:
    asked = HttpRequest(
        "POST",
        "https://a.example/v1?x=1",
        {"authorization": SecretText("Bearer planted")},
        body,
        SecretText("key=planted"),
    )
    received = Received(
        status, (("content-type", "text/event-stream"),), 0.1, [(0.2, piece) for piece in pieces if piece]
    )
    text = head("0") + entry(asked, received, 1795424400.0, 0.5) + TAIL
    assert b"planted" not in text
    found = Archive(text, "x.har").find(asked)
    assert found is not None
    assert [piece for _, piece in found.chunks] == [piece for piece in pieces if piece]
    assert found.status == status
    assert Archive(text, "x.har").find(HttpRequest("GET", "https://a.example/v1?x=1", {})) is None


TABLES = st.dictionaries(
    WORDS,
    st.dictionaries(
        WORDS,
        st.text("ab\n'\"# [=", max_size=12) | st.integers() | st.lists(st.integers(), max_size=3),
        min_size=1,
        max_size=4,
    ),
    min_size=1,
    max_size=4,
)


@given(TABLES, st.booleans())
def test_lines_are_where_the_statements_are(tables: dict[str, dict[str, Any]], multiline: bool) -> None:
    lines: list[str] = []
    expected: dict[tuple[str, ...], int] = {}
    for table, values in tables.items():
        lines += ["", f"[t.{table}]   # a comment"]
        expected["t", table] = len(lines)
        for name, value in values.items():
            expected["t", table, name] = len(lines) + 1
            item = (
                tomlkit.string(value, multiline=True, literal=False)
                if multiline and isinstance(value, str)
                else tomlkit.item(value)
            )
            lines += f"{name} = {item.as_string()}".split("\n")
    text = "\n".join(lines)
    assert set(tomllib.loads(text)["t"]) == set(tables)
    found = statement_lines(text)
    assert {path: found[path] for path in expected} == expected


@pytest.mark.parametrize(
    ("name", "nearest"),
    [
        ("quil-large", "quill-large"),
        ("QUILL-LARGE", "quill-large"),
        ("large", "quill-large"),
        ("zzz", None),
        ("", None),
        ("_", None),
    ],
)
def test_near_names(name: str, nearest: str | None) -> None:
    found = similar_names(name, ["quill-large", "loam-2b", "petal-embed"])
    assert (found[0] if found else None) == nearest
