"""Breaks of promises of `dialects`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('an unknown effort is named', 'dialects/messages.py', '    if budget is None:\n', '    if False:\n', 'tests/test_promises.py'),
    Row('a last event counts without its line end', 'dialects/streams.py', 'self.feed(self.terminator) if self.terminator else []', '[]', 'tests/dialects/test_sloppy.py'),
    Row("blocks of a provider's own tools are no calls", 'dialects/messages_stream.py', 'if fields.type == "tool_use":', 'if "tool_use" in (fields.type or ""):', 'tests/dialects/test_sloppy.py'),
    Row('a new identifier is a new call', 'dialects/call_numbers.py', 'begins = name is not None and bool(identifier)', 'begins = False', 'tests/dialects/test_sloppy.py'),
    Row('signatures of a stream are kept', 'dialects/messages_stream.py', 'block.signature += delta.signature', 'pass', 'tests/dialects/test_wire.py'),
    Row('a turn of several blocks is kept whole in a stream', 'dialects/contents_stream.py', 'self.parts.append(raw)', 'pass', 'tests/dialects/test_wire.py'),
    Row('thinking that is kept nowhere is not sent without its contents', 'dialects/responses.py', 'if store is not False or _is_whole(item)', '', 'tests/dialects/test_wire.py'),
    Row('thinking takes no temperature', 'dialects/messages.py', '        _without_thinking("temperature", parameters)', '        pass', 'tests/dialects/test_wire.py'),
    Row('the cap of the caller stays', 'dialects/messages.py', '    if cap is None:\n        body', '    if True:\n        body', 'tests/dialects/test_wire.py'),
    Row('a source is told once', 'dialects/contents_stream.py', 'if citation not in turn.cited:', 'if True:', 'tests/dialects/test_wire.py'),
    Row('blank texts are not sent', 'dialects/messages.py', 'not (isinstance(part, TextPart) and not part.text.strip())', 'True', 'tests/dialects/test_wire.py'),
]  # fmt: skip
