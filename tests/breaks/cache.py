"""Breaks of promises of `cache`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('other questions have other keys', 'cache/hook.py', 'bytes.fromhex(attempt.outgoing.fingerprint)', 'bytes(24)', 'tests/test_cache.py'),
    Row('an answer of another place is another one', 'engine/outgoing.py', '_revealed(http.target), sorted', 'http.url[:8], sorted', 'tests/test_cache.py'),
    Row('a cut answer is not kept', 'cache/hook.py', 'choice.finish_reason in _WHOLE and not choice.refusal', 'not choice.refusal', 'tests/test_cache.py'),
    Row('many who ask the same ask once', 'cache/hook.py', '                other = self._under_way.get(key)', '                other = None', 'tests/test_cache.py'),
    Row('old answers are asked again', 'cache/store.py', 'time.time() - found[0] > self._age', 'False', 'tests/test_cache.py'),
]  # fmt: skip
