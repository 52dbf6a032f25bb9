"""Breaks of promises of the modules beside the packages: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('x-request-id is reported', 'reply.py', '("x-request-id", "request-id"', '("request-id"', 'tests/test_promises.py'),
    Row('truncated means the cap', 'reply.py', 'self.finish_reason == "length"', 'self.finish_reason in ("length", "content_filter")', 'tests/test_promises.py'),
    Row('a loop that is left closes its stream', 'streams.py', '            except GeneratorExit:  # the loop around it was left\n                self._driver.close()\n                raise', '            except GeneratorExit:\n                raise', 'tests/hostile'),
    Row('texts that are equally near keep their order', 'embeddings.py', 'numpy.argsort(-scores, kind="stable")', 'numpy.argsort(scores)[::-1]', 'tests/test_embeddings.py'),
    Row('vectors of two models do not compare', 'embeddings.py', 'other.model != self.model', 'False', 'tests/test_embeddings.py'),
    Row('halves of letters are refused', 'form.py', '            _check_letters(value)\n', '', 'tests/fill'),
    Row('a second turn beside one is refused', 'conversation.py', 'if not self._lock.acquire(blocking=False):', 'if not self._lock.acquire(blocking=False) and False:', 'tests/test_tools.py'),
    Row('a client knows its options', 'arguments.py', 'if name not in OF_CALL_SET:', 'if False:', 'tests/test_client.py'),
    Row('a blank that is missing is told before anything is sent', 'calls.py', '            check_blanks(question, targets)', '            pass', 'tests/test_personas.py'),
    Row('a file that is torn is not written over', 'conversation_files.py', 'if any(remark.startswith("line") for remark in kept.remarks):', 'if False:', 'tests/test_conversations.py'),
    Row('a full window stays as it is for a while', 'conversation_window.py', '        self._now(kept, history)', '        pass', 'tests/test_conversations.py'),
    Row('a provider that fails hides nothing', 'calls.py', 'attempted(one(label), AgoutiError)', 'one(label)', 'tests/test_models.py'),
    Row('what the entry says of a model counts first', 'model_list.py', 'listed.input_price if price is None else price.input', 'listed.input_price', 'tests/test_models.py'),
    Row('prompts stand in no span', 'telemetry.py', '    if content and isinstance', '    if isinstance', 'tests/test_telemetry.py'),
    Row('the span of a call ends', 'telemetry.py', '        traced.span.end()', '        pass', 'tests/test_telemetry.py'),
    Row('tags of a client are in every call', 'calls.py', '        if self._tags:', '        if False:', 'tests/ledger/test_ledger.py'),
    Row('a fork waits for SQLite', 'forking.py', '        self.condition.wait_for(lambda: self.count == 0, _PATIENCE)', '        pass', 'tests/engine/test_hooks.py'),
]  # fmt: skip
