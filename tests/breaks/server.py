"""Breaks of promises of formats of the relay: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('a prompt of a list is one text', 'dialects/server/prompt.py', 'if not isinstance(prompt, str):', 'if False:', 'tests/dialects/test_server.py'),
    Row('events of several lines are one', 'dialects/server/base.py', 'if b"\\n" in payload:', 'if False:', 'tests/relay/test_streams.py'),
    Row('counts that were not asked for are kept from the caller', 'dialects/server/base.py', 'if counts or b\'"usage"\' not in payload or not _counts_alone(payload) else b""', '', 'tests/relay/test_money.py'),
    Row('an empty stream of messages has a block', 'dialects/server/messages_reply.py', 'elif self._index < 0:', 'elif False:', 'tests/relay/test_streams.py'),
    Row('thinking has a block of its own', 'dialects/server/messages_reply.py', '    if choice.reasoning:', '    if False:', 'tests/dialects/test_server.py'),
    Row('a whole answer of messages has a block', 'dialects/server/messages_reply.py', 'if text or not (choice.tool_calls or choice.files):', 'if text:', 'tests/dialects/test_server.py tests/relay'),
    Row('stop strings of messages are kept', 'dialects/server/messages.py', 'if (stop := field(body, "stop_sequences", list, "a list of texts")) is not None:', 'if (stop := None) is not None:', 'tests/dialects/test_server.py'),
    Row('a budget of thinking is one', 'dialects/server/messages.py', 'elif thinking.get("type") == "enabled":', 'elif False:', 'tests/dialects/test_server.py'),
    Row('one call at a time where that is said', 'dialects/server/messages.py', 'if choice.get("disable_parallel_tool_use") is True:', 'if False:', 'tests/dialects/test_server.py'),
    Row('strict tools are strict', 'dialects/server/messages.py', 'if tool.get("strict") is not None:', 'if False:', 'tests/dialects/test_server.py'),
    Row('results of tools stay apart from the words', 'dialects/server/messages.py', 'if block.get("type") == "tool_result":', 'if False:', 'tests/dialects/test_server.py'),
    Row('the cap of responses is one', 'dialects/server/responses.py', 'if (cap := field(body, "max_output_tokens", int, "a whole number")) is not None:', 'if (cap := None) is not None:', 'tests/dialects/test_server.py'),
    Row('effort of responses is kept', 'dialects/server/responses.py', 'if (effort := field(reasoning, "effort", str, "a text", "reasoning.")) is not None:', 'if (effort := None) is not None:', 'tests/dialects/test_server.py'),
    Row('refusals have a place of their own', 'dialects/server/responses_reply.py', '        if choice.refusal:', '        if False:', 'tests/dialects/test_server.py'),
    Row('vectors are asked of texts', 'dialects/server/vectors.py', 'if not isinstance(texts, list) or not texts or not all(isinstance(each, str) for each in texts):', 'if False:', 'tests/relay'),
    Row('a length of vectors is above nothing', 'dialects/server/vectors.py', 'dimensions < 1', 'dimensions < -9', 'tests/relay'),
    Row('calls end a completion with stop', 'dialects/server/prompt.py', 'return "stop" if word == "tool_calls" else word', 'return word', 'tests/relay tests/dialects/test_server.py'),
]  # fmt: skip
