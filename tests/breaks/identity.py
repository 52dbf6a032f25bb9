"""Breaks of promises of results and the questions that they answer: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('a changed row is asked anew', 'batches/index.py', 'if before is not None and before != content:', 'if False:', 'tests/batches/test_identity.py'),
    Row('a row that was met is answered only when it is', 'batches/index.py', '"UPDATE rows SET place = ?, line = ?, asked = ?, run = ? WHERE key = ?",\n            (place, line, content, self.run, key),', '"UPDATE rows SET place = ?, line = ?, content = ?, run = ? WHERE key = ?",\n            (place, line, content, self.run, key),', 'tests/batches/test_identity.py'),
    Row('an answer wins over an error', 'batches/index.py', 'return not failed and found[0] != content', 'return found[0] != content', 'tests/batches/test_identity.py tests/batches/test_deferred.py'),
    Row('what was fetched before a kill is not kept twice', 'batches/index.py', 'coalesce((SELECT content FROM handed_rows WHERE key = ?1), content)', 'content', 'tests/batches/test_deferred.py'),
    Row('rows of other questions are not handed over', 'batches/index.py', 'found is not None and (found[0] is None or bytes(found[0]) == content)', 'found is not None', 'tests/batches/test_identity.py'),
    Row('a batch is adopted with proof alone', 'batches/deferred.py', 'if mark != (self.mark if dash else "") or len(digest) != 32:', 'if len(digest) != 32:', 'tests/batches/test_deferred.py'),
    Row('a batch that could be ours is waited for', 'batches/deferred.py', '            if not unclear:', '            if True:', 'tests/batches/test_deferred.py'),
    Row('lost batches are found by their mark', 'batches/deferred.py', 'if each.mark == batch.mark or (batch.file and each.file == batch.file):', 'if False:', 'tests/batches/test_deferred.py'),
    Row('a failed batch is handed over again', 'batches/deferred.py', 'if handed.state == "failed":', 'if False:', 'tests/batches/test_deferred.py'),
    Row('what came of a batch is fetched', 'batches/deferred.py', 'if handed.state == "ended":', 'if handed.state == "over":', 'tests/batches/test_deferred.py'),
    Row('torn lines are errors of their rows', 'batches/deferred.py', 'for digest in self._results.handed_keys(batch.mark) if torn else ():', 'for digest in ():', 'tests/batches/test_identity.py'),
    Row('a torn line loses no other', 'dialects/deferred.py', '            torn += 1\n            continue', '            raise', 'tests/batches/test_identity.py'),
    Row('files of errors are fetched', 'dialects/deferred.py', 'files = [fields.get("output_file_id"), fields.get("error_file_id")]', 'files = [fields.get("output_file_id")]', 'tests/batches/test_deferred.py'),
    Row('anew waits for the first new result', 'batches/results.py', '        if self._begins_anew:\n            ', '        if False:\n            ', 'tests/batches/test_identity.py'),
    Row('results that are gone are an error', 'batches/results.py', '            if gone and not keep:', '            if False:', 'tests/batches/test_identity.py'),
    Row('another request is another run', 'batches/results.py', 'if before is not None and before != content:', 'if False:', 'tests/batches/test_identity.py'),
    Row('functions have a stable name', 'batches/results.py', 'return f"{module}.{name}" if isinstance(name, str) else str(value)', 'return str(value)', 'tests/batches/test_identity.py'),
    Row('a line that was being written is cut off', 'batches/results.py', 'if end < size and not self._trial:', 'if False:', 'tests/batches/test_batch.py'),
    Row('pictures are part of a row', 'batches/prompts.py', 'return file_digest(file, "blake2b").digest()', 'return b""', 'tests/batches/test_identity.py'),
    Row('a cache keeps what fits its form', 'cache/hook.py', 'return attempt.fits is None or attempt.fits(answer)', 'return True', 'tests/batches/test_identity.py'),
    Row('answers with a part of the providers memory are not kept', 'cache/hook.py', '_BOUND = ("previous_response_id",)', '_BOUND = ()', 'tests/test_cache.py'),
    Row('the oldest answers go first', 'cache/store.py', 'OVER (ORDER BY at, key ', 'OVER (ORDER BY at DESC, key ', 'tests/test_cache.py'),
    Row('old answers are asked again', 'cache/store.py', 'time.time() - found[0] > self._age', 'False', 'tests/test_cache.py'),
    Row('a cut answer is not kept', 'cache/hook.py', '_WHOLE = frozenset({"stop", "tool_calls"})', '_WHOLE = frozenset({"stop", "tool_calls", "length"})', 'tests/test_cache.py'),
]  # fmt: skip
