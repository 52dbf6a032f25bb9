"""Breaks of promises of `config`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('the environment wins over .env', 'config/load.py', 'return Environment(variables, values, shown_path(path), remark)', 'return Environment({**variables, **values}, {}, shown_path(path), remark)', 'tests/test_promises.py'),
    Row('AGOUTI_CONFIG is read', 'config/find.py', 'return [*paths_found, Path(named).expanduser()], ""', 'return paths_found, ""', 'tests/test_promises.py'),
    Row('no file is read twice', 'config/find.py', 'if nearest is not None and nearest != own:', 'if nearest is not None:', 'tests/test_promises.py'),
    Row('.env beside a named file is read', 'config/load.py', '        beside = Path(config).absolute().parent\n', '', 'tests/test_promises.py'),
    Row('paths name operations', 'config/checks.py', 'if operation not in PATHS:', 'if False:', 'tests/test_promises.py'),
    Row('a password in a store is not shown', 'config/singles.py', '    return f"{scheme}://{rest.partition(\'?\')[0].rpartition(\'@\')[2]}"', '    return store.reveal()', 'tests/ledger/test_postgres.py'),
]  # fmt: skip
