"""Breaks of promises of `adopt`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('text behind a command is its data', 'adopt/curl.py', 'text == "@-" or _is_cat(text)', '_is_cat(text)', 'tests/adopt'),
]  # fmt: skip
