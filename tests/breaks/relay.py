"""Breaks of promises of the relay: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('a token without a price in its currency is refused', 'relay/spending.py', 'if price is not None and price.currency == token.currency:', 'if price is not None:', 'tests/relay/test_door.py'),
    Row('what has no price and wants a secret is refused', 'relay/spending.py', 'if price is None and not attempt.outgoing.target.provider.wants_secrets:', 'if price is None:', 'tests/relay/test_money.py'),
    Row('a count of tokens is free', 'relay/spending.py', 'if not attempt.outgoing.paid:', 'if False:', 'tests/relay/test_door.py tests/relay/test_money.py tests/relay/test_formats.py'),
    Row('a budget of a token has one spelling of its currency', 'relay/tokens.py', 'self.currency.strip().upper()', 'self.currency', 'tests/cli/test_options.py'),
    Row('a token may ask its labels alone', 'relay/tokens.py', 'return self.labels is None or label in self.labels', 'return True', 'tests/relay/test_door.py'),
    Row('a token is taken back within a second', 'relay/tokens.py', 'if now - self._looked < 1.0:', 'if now - self._looked < 30.0:', 'tests/relay/test_door.py'),
    Row('a token is kept as its hash', 'relay/tokens.py', 'return hashlib.sha256(token.encode("utf-8", "surrogatepass")).hexdigest()', 'return token', 'tests/relay/test_door.py'),
    Row('the name of a token is printable', 'relay/tokens.py', 'not name.isprintable()', 'False', 'tests/relay'),
    Row('a token has a rate above nothing', 'relay/tokens.py', 'token.requests_per_minute < 1', 'token.requests_per_minute < -9', 'tests/relay'),
    Row('one name has one token', 'relay/tokens.py', 'if (name in names) is not there:', 'if False:', 'tests/relay/test_door.py'),
    Row('calls that are numbered get identifiers of their own', 'relay/turns.py', '>= _LONG', '>= 0', 'tests/relay/test_streams.py'),
    Row('a call that is told in pieces keeps the identifier it was given', 'relay/turns.py', 'return replace(piece, id=self._given[key]) if piece.id else piece', 'return piece', 'tests/relay/test_streams.py tests/relay/test_formats.py'),
    Row('turns are remembered by unique identifiers alone', 'relay/turns.py', 'not all(map(is_unique, choice.tool_calls))', 'False', 'tests/relay/test_streams.py tests/relay/test_formats.py'),
    Row('turns are their owners alone', 'relay/turns.py', 'told = [owner]', 'told = ["all"]', 'tests/relay/test_formats.py'),
    Row('turns are remembered for six hours', 'relay/turns.py', '_SECONDS = 6 * 3600.0', '_SECONDS = 360.0', 'tests/relay/test_streams.py'),
    Row('at most five thousand turns are remembered', 'relay/turns.py', '_MOST = 5000', '_MOST = 50_000', 'tests/relay/test_formats.py'),
    Row('turns take 64 MB at most', 'relay/turns.py', '_BYTES = 64_000_000', '_BYTES = 640_000_000', 'tests/relay/test_formats.py'),
    Row('a caller who sends its thinking back has it as it is', 'relay/turns.py', 'message.role == "assistant" and message.tool_calls and not told', 'message.role == "assistant" and message.tool_calls', 'tests/relay'),
    Row('the label alone chooses the model', 'relay/answers.py', 'if named := sorted(_CHOOSES & request.extra.keys()):', 'if named := []:', 'tests/relay/test_money.py'),
    Row('what another format cannot say is named', 'relay/answers.py', 'if named := sorted(form.alone & said.keys()):', 'if named := []:', 'tests/relay/test_money.py'),
    Row("a server's own tools go to that server alone", 'relay/answers.py', 'if kind not in ("function", "custom"):', 'if False:', 'tests/relay/test_money.py'),
    Row('vectors that are asked in base64 come so', 'relay/answers.py', 'if request.base64 else made.vectors.tolist()', 'if False else made.vectors.tolist()', 'tests/relay/test_formats.py'),
]  # fmt: skip
