"""Breaks of promises of `limits`: one change each, and the tests that have to notice."""

from .row import Row

ROWS = [
    Row('windows are sliding', 'limits/schedule.py', 'at = max(at, entry.counted + self.seconds)', 'at = max(at, now)', 'tests/limits'),
    Row('an abandoned call gives its place back', 'limits/schedule.py', '                self._row.remove(ticket)', '                pass', 'tests/limits'),
    Row('a request without a key gives its place back', 'limits/hook.py', '                schedule.leave(ticket)\n\n\ndef _tokens', '                schedule.sent(ticket)\n\n\ndef _tokens', 'tests/limits'),
    Row('what a request really took counts', 'limits/schedule.py', '                    window.weigh(entry, tokens)', '                    pass', 'tests/limits'),
    Row('programs share windows', 'limits/redis_script.py', '      while list.used + weight > most[at] and list[list.first] do', '      while false do', 'tests/limits/test_shared.py'),
    Row('permits of the killed come back', 'limits/redis_script.py', "      if not alive(each) then redis.call('ZREM', run, each) end", '', 'tests/limits/test_shared.py'),
    Row('a place that is given up is free for others', 'limits/shared.py', '        self._later("leave", ticket, ticket.day)\n\n    def ended', '        pass\n\n    def ended', 'tests/limits/test_shared.py'),
    Row('a shared request counts when it goes out', 'limits/shared.py', 'if ticket.at - ticket.counts_from > _SOON:', 'if False:', 'tests/limits/test_shared.py'),
    Row('a lost store is told of once', 'limits/hook.py', '        if first:', '        if True:', 'tests/limits/test_shared.py'),
]  # fmt: skip
