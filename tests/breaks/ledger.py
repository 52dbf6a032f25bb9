"""Breaks of promises of `ledger`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('sums and rows are kept together', 'ledger/store.py', '            self._execute_many(_ADD, [(*key, *sums[key]) for key in sorted(sums)])', '            pass', 'tests/ledger'),
    Row('a budget is reserved before anything is sent', 'ledger/budgets.py', '            if cost > left:', '            if False:', 'tests/ledger'),
    Row('budgets of programs are one', 'ledger/store.py', '                if already + amount > int(budget.exact * PICO):', '                if already > int(budget.exact * PICO):', 'tests/ledger'),
    Row('whoever settles waits for whoever reserves', 'ledger/postgres.py', '                    if alone:', '                    if False:', 'tests/ledger/test_postgres.py'),
    Row("a ledger's connection is made anew", 'ledger/postgres.py', '(database.closed and not self._within)', 'False', 'tests/ledger/test_postgres.py'),
    Row('what is cached has a row', 'ledger/hook.py', '        self._writing().queue.put((row_of(result, time.time(), prompts=self._settings.prompts), []))', '        pass', 'tests/test_cache.py'),
]  # fmt: skip
