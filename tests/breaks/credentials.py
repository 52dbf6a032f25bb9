"""Breaks of promises of `credentials`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('a token that worked is renewed again', 'credentials/rotation.py', 'self._renewed -= {key for key, held in self._held.items() if held is credential}', 'pass', 'tests/test_promises.py'),
    Row('a relative key file stands beside the file', 'credentials/sources.py', 'str(own if own.is_absolute() else folder / own)', 'path', 'tests/test_promises.py'),
    Row('an expiry as a date is read', 'credentials/command.py', 'return datetime.fromisoformat(value).timestamp()', 'return None', 'tests/test_promises.py'),
    Row('expires_in is kept', 'credentials/oauth.py', 'None if lifetime is None else now + lifetime', 'None', 'tests/test_promises.py'),
    Row('the scope is sent', 'credentials/oauth.py', 'scope=key.scope or None)', 'scope=None)', 'tests/test_promises.py'),
    Row('client_auth = body is kept', 'credentials/oauth.py', 'if key.client_auth == "basic"', 'if True', 'tests/test_promises.py'),
    Row('a token request is not recorded', 'credentials/oauth.py', ', confidential=True', '', 'tests/test_promises.py'),
    Row('a key that cannot be sent is told before', 'credentials/credential.py', 'check_key(value, credential.found, ascii_only=way in ("bearer", "header"))', 'pass', 'tests/hostile'),
]  # fmt: skip
