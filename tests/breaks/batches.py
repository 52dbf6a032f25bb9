"""Breaks of promises of `batches`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('no row of a batch is asked twice', 'batches/work.py', 'if state == "done" or (state == "failed"', 'if state == "never" or (state == "failed"', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a batch asked otherwise is not mixed in', 'batches/results.py', 'if before is not None and before != asks and not keep:', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a changed row is asked again', 'batches/index.py', 'if before is not None and before != content:', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('two rows of one key are an error before anything is sent', 'batches/sources.py', '                _check_alone(seen, row, key)', '                pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a torn result is cut off', 'batches/results.py', '        if end < size and not self._trial:', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('the index is made anew of the results', 'batches/results.py', 'if size < end or not index.fact("whole", True) or not self._fits(index, end):', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('what cannot be written is told', 'batches/results.py', '                raised.lines = (line,)', '                pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('what holds for all rows ends a batch', 'batches/work.py', '        if isinstance(came, HOLDS_FOR_ALL):', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('failures alone end a batch', 'batches/streak.py', '        return count if earliest >= self._first else 0', '        return 0', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('an outage marks no rows', 'batches/work.py', '        if idle + wait > self._settings.patience:', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a refusal slows a batch down', 'batches/pace.py', 'self.limit = max(int(self.limit * _STEP_BACK), 1)', 'pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a pace that gets no more done is not kept', 'batches/pace.py', '            self.limit = self._kept\n            self._growing', '            self._growing', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a plan changes nothing', 'batches/index.py', '"ROLLBACK" if self._trial or undo else "COMMIT"', '"COMMIT"', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a batch handed over is not handed over again', 'batches/deferred.py', '            if self._results.is_handed(unit.digest, unit.prompt.digest):', '            if False:', 'tests/batches/test_deferred.py'),
    Row('a batch whose name was lost is found', 'batches/deferred.py', '                    self._note(replace(batch, name=found))', '                    self._forget(batch)', 'tests/batches/test_deferred.py'),
]  # fmt: skip
