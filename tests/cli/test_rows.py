"""Rows of files as texts, and rows as CSV: whatever people keep their notes in."""

import csv
import io
from pathlib import Path
from typing import Any

import click
import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.cli.input_rows import kind_of, read_rows
from agouti.tables.table import as_csv

CSV = 'crop,note\npea,"18 of 24, up"\nbean,\n,alone\n'
JSONL = '{"crop": "pea", "note": "18 of 24"}\n\n{"crop": "bean", "n": {"a": 1}}\n"a text"\n7\nnull\n'


@pytest.mark.parametrize(
    ("name", "text", "column", "rows"),
    [
        ("a.txt", "one\n\n  two  \r\nthree", None, ["one", "two", "three"]),
        ("notes", "one\ntwo", None, ["one", "two"]),
        ("a.md", "\ufeffone", None, ["one"]),
        ("a.csv", CSV, None, ["crop: pea\nnote: 18 of 24, up", "crop: bean", "note: alone"]),
        ("a.CSV", CSV, "note", ["18 of 24, up", "alone"]),
        ("a.csv", 'note\n"two\nlines"\n', "note", ["two\nlines"]),
        ("a.jsonl", JSONL, None, ["crop: pea\nnote: 18 of 24", 'crop: bean\nn: {"a": 1}', "a text", "7"]),
        ("a.ndjson", '{"n": [1, 2]}\n', "n", ["[1, 2]"]),
    ],
)
def test_rows_are_read_as_the_suffix_says(
    tmp_path: Path, name: str, text: str, column: str | None, rows: list[str]
) -> None:
    path = tmp_path / name
    path.write_bytes(text.encode())
    assert [row.text for row in read_rows(str(path), column).rows if row.text] == rows


@pytest.mark.parametrize(
    ("name", "text", "column", "words"),
    [
        ("a.txt", b"\xff\xfea", None, "not utf-16"),
        ("a.txt", b" \n\n", None, "nothing in"),
        ("a.txt", b"one", "note", "no columns"),
        ("a.csv", b"crop,note\n", None, "nothing in"),
        ("a.csv", b"crop,note\npea,x\n", "day", "it has crop, note"),
        ("a.csv", b"", "day", "it has none"),
        ("a.jsonl", b'{"a": 1}\n{"a": \n', None, "line 2: it is not JSON"),
        ("a.jsonl", b'{"a": 1}\n{"b": 1}\n', "a", "line 2 has no field 'a'"),
        ("a.jsonl", b'{"a": 1}\n7\n', "a", "line 2 has no field 'a'"),
        ("missing.txt", None, None, "cannot be read"),
    ],
)
def test_what_cannot_be_read_says_which_line(
    tmp_path: Path, name: str, text: bytes | None, column: str | None, words: str
) -> None:
    if text is not None:
        (tmp_path / name).write_bytes(text)
    with pytest.raises((click.UsageError, agouti.RequestError), match=words):
        read_rows(str(tmp_path / name), column)


VALUES = st.none() | st.booleans() | st.integers() | st.text(max_size=9) | st.lists(st.integers(), max_size=2)


@given(st.lists(st.dictionaries(st.sampled_from(["crop", "note", "n"]), VALUES), min_size=1, max_size=4))
def test_written_rows_have_every_column_and_are_read_again(rows: list[dict[str, Any]]) -> None:
    found = list(csv.reader(io.StringIO(as_csv(rows), newline="")))
    names = list(dict.fromkeys(name for row in rows for name in row))
    assert found[0] == names
    if names:
        assert len([row for row in found[1:] if row or len(names) == 1]) >= sum(any(row.values()) for row in rows)
        assert all(len(row) in (0, len(names)) for row in found)


@pytest.mark.parametrize(
    ("out", "kind"), [(None, ".jsonl"), ("a.csv", ".csv"), ("b/a.JSONL", ".jsonl"), ("a.xls", ""), ("a", "")]
)
def test_kind_of_a_file_is_told_by_its_suffix(out: str | None, kind: str) -> None:
    if kind:
        assert kind_of(out, (".jsonl", ".csv")) == kind
        return
    with pytest.raises(click.UsageError, match=r"\.jsonl or \.csv"):
        kind_of(out, (".jsonl", ".csv"))
