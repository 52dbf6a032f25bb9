"""Breaks of promises of `transport`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('a redirect is not followed, async', 'transport/aio.py', 'allow_redirects=False', 'allow_redirects=True', 'tests/test_promises.py'),
    Row('cookies are not kept', 'transport/aio.py', '            cookie_jar=aiohttp.DummyCookieJar(),\n', '', 'tests/test_promises.py'),
    Row('connections= is kept, async', 'transport/aio.py', 'limit_per_host=self._connections, ', '', 'tests/test_promises.py'),
    Row('connections= is kept, sync', 'transport/sync.py', ', "block": True}', '}', 'tests/test_promises.py'),
    Row('first_byte is a limit of its own, sync', 'transport/sync.py', 'read=timeouts.first_byte)', 'read=timeouts.connect)', 'tests/test_promises.py'),
    Row('a client certificate is loaded', 'transport/tls.py', '(("ca", tls.ca), ("certificate", tls.certificate))', '(("ca", tls.ca),)', 'tests/test_promises.py'),
    Row("a stranger's address reaches no private network", 'transport/public.py', 'not address.is_global or', 'False or', 'tests/test_promises.py'),
    Row('a forked process has connections of its own', 'transport/sync.py', 'self._pools, self._under_way, self._latest = {}, {}, {}', 'self._under_way, self._latest = {}, {}', 'tests/hostile'),
    Row('interim replies are read over', 'transport/connections.py', 'if not 101 < status < 200:', 'if True:', 'tests/hostile'),
    Row('a session belongs to its loop', 'transport/aio.py', 'if latest is not None and latest[0] is loop', 'if latest is not None', 'tests/hostile'),
    Row('a deadline holds while a head trickles', 'transport/sync.py', 'number = PATROLS.watch(timeouts.total, watched.end)', 'number = PATROLS.watch(1e9, watched.end)', 'tests/hostile'),
    Row('an archive is whole after a kill between two writes', 'transport/recorder.py', 'self._write(exchange + TAIL[:-1], size)', 'self._write(exchange + TAIL, size)', 'tests/hostile/test_archives.py'),
]  # fmt: skip
