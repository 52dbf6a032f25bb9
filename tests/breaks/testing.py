"""Breaks of promises of `testing`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('nothing goes out of a script', 'testing/script.py', '        guarded = Guarded(network, _nothing_goes_out)', '        guarded = Guarded(network, lambda _: None)', 'tests/test_testing.py'),
    Row('an error that was caught fails the test', 'testing/network.py', '    if guard.tried:', '    if False:', 'tests/test_testing.py'),
    Row('replay asks nothing new', 'testing/network.py', '        if network is None and archive is not None:', '        if False:', 'tests/test_testing.py'),
]  # fmt: skip
