"""Breaks of promises of `services`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row("a refused key ends a model's part", 'services/compare.py', '                self._ended.add(cell.label)', '                pass', 'tests/test_compare.py'),
    Row('kept answers are not asked for again', 'services/compare.py', '        if kept is None:', '        if True:', 'tests/test_compare.py'),
    Row('no other model takes over in a comparison', 'services/compare.py', 'replace(model, fallback=())', 'model', 'tests/test_compare.py'),
]  # fmt: skip
