"""Whether the time that a regular expression takes can grow too fast with the text: seen from the expression alone.

The engine of the standard library tries one way after the other. Where a text can be taken apart in many ways, and none
of them fits, it tries all of them. Their number doubles with each letter where two ways lead from a place of the
expression back to it over the same letters; it grows with a power where several repeats of the same letters follow each
other. The first is found in the automaton of the expression's places: two walks through it that part and meet again.
"""

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from math import prod
from typing import Any

_PARSER: Any = re._parser  # type: ignore[attr-defined]
_OF: Any = re._constants  # type: ignore[attr-defined]
_REPEATS = (_OF.MAX_REPEAT, _OF.MIN_REPEAT)
_MANY = 8
"""A repeat of more rounds than these counts as one without an end."""
_LONG = 10_000
"""Letters of a long text."""
_WAYS = 10**10
"""More ways than these to share out a long text are too many."""
_MOST = 50_000
"""Steps from place to place in one expression; one with more is not followed, and counts as too fast."""
_PLACES = 150
"""Places that lead to each other; one with more is not followed either."""

# What stands for all letters: those of ASCII, and some of every kind that patterns tell apart.
_LETTERS = frozenset([*map(chr, range(128)), *"éßΩж中٣\u00a0\u2028"])


def grows_too_fast(pattern: str) -> bool:
    """Whether a text of some hundred letters can keep a pattern busy for ever.

    >>> grows_too_fast("^(a+)+$"), grows_too_fast("^(a|aa)+$"), grows_too_fast(r"^(\\w+\\s?)*$")
    (True, True, True)
    >>> grows_too_fast(r"^[a-z]+(_[a-z]+)*$"), grows_too_fast(r"^\\d+(\\.\\d+){0,3}$"), grows_too_fast("^(in|out)+$")
    (False, False, False)
    """
    try:
        parsed = _PARSER.parse(pattern)
        places = _Places()
        places.sequence(parsed)
        return _ways(parsed) > _WAYS or any(map(places.doubles, places.circles()))
    except _TooLong:
        return True
    except (re.error, RecursionError, OverflowError):
        return False  # whoever compiles it says so


class _TooLong(Exception):
    """An expression has too many places to be followed."""


@dataclass(frozen=True)
class _Part:
    """What a part begins and ends with: places, with the ways to each; and in how many ways it can be empty."""

    first: Counter[int] = field(default_factory=Counter)
    last: Counter[int] = field(default_factory=Counter)
    empty: int = 0


_NOTHING = _Part(empty=1)


class _Places:
    """The places of an expression that take a letter, and which of them can follow which, in how many ways."""

    def __init__(self) -> None:
        self._letters: list[frozenset[str]] = []
        self._next: list[Counter[int]] = []
        self._rounds: list[range] = []
        self._steps = 0

    def sequence(self, parts: Iterable[tuple[Any, Any]]) -> _Part:
        whole = _NOTHING
        for kind, what in parts:
            whole = self._behind(whole, self._part(kind, what))
        return whole

    def _part(self, kind: Any, what: Any) -> _Part:
        if kind in _REPEATS:
            return self._repeat(*what)
        if kind is _OF.BRANCH:
            return self._choice(map(self.sequence, what[1]))
        if inner := _inner(kind, what):
            return self._choice(map(self.sequence, inner))
        if kind is _OF.AT:
            return _NOTHING
        self._letters.append(_letters(kind, what))
        self._next.append(Counter())
        place = len(self._next) - 1
        return _Part(Counter([place]), Counter([place]))

    def _repeat(self, least: int, most: int, body: Any) -> _Part:
        if int(most) > _MANY and least != most:
            one = self._again(body)
            return _Part(one.first, one.last, one.empty + (least == 0))
        if int(most) > _MANY and not _is_plain(body):
            self._again(body)  # what is not free of choices is looked at as if it had no end
        whole = _NOTHING
        for _ in range(min(int(most), _MANY) - min(least, _MANY)):  # the rounds that may be missing: (x(x(x)?)?)?
            more = self._behind(self.sequence(body), whole)
            whole = _Part(more.first, more.last, min(more.empty + 1, 2))
        for _ in range(min(least, _MANY)):
            whole = self._behind(self.sequence(body), whole)
        return whole

    def _again(self, body: Any) -> _Part:
        begin = len(self._next)
        one = self.sequence(body)
        self._join(one, one)
        self._rounds.append(range(begin, len(self._next)))
        return one

    def _behind(self, one: _Part, other: _Part) -> _Part:
        self._join(one, other)
        return _Part(
            one.first + _times(other.first, one.empty),
            other.last + _times(one.last, other.empty),
            min(one.empty * other.empty, 2),
        )

    def _join(self, one: _Part, other: _Part) -> None:
        for place, ways in one.last.items():
            for following, more in other.first.items():
                self._next[place][following] += ways * more
        self._steps += len(one.last) * len(other.first)
        if self._steps > _MOST:
            raise _TooLong

    def _choice(self, parts: Iterable[_Part]) -> _Part:
        first: Counter[int] = Counter()
        last: Counter[int] = Counter()
        empty = 0
        for each in parts:
            first, last, empty = first + each.first, last + each.last, empty + each.empty
        return _Part(first, last, min(empty, 2))

    def circles(self) -> Iterable[set[int]]:
        """The groups of places of which each leads to each: those of a repeat that stands in no other."""
        end = len(self._next)
        for each in sorted(self._rounds, key=lambda each: (-each.stop, each.start)):
            if each.stop <= end and each:
                end = each.start
                yield set(each)

    def doubles(self, circle: set[int]) -> bool:
        """Whether two ways lead from a place to itself over the same letters."""
        if len(circle) > _PLACES:
            return True
        within = {place: [each for each in self._next[place] if each in circle] for place in circle}
        if any(self._next[place][each] > 1 for place in circle for each in within[place]):
            return True
        alike = {(one, other) for one in circle for other in circle if self._letters[one] & self._letters[other]}
        onward: dict[tuple[int, int], list[tuple[int, int]]] = {
            (one, other): [pair for a in within[one] for b in within[other] if (pair := (a, b)) in alike]
            for one, other in alike
        }
        backward: dict[tuple[int, int], list[tuple[int, int]]] = {pair: [] for pair in alike}
        for pair, following in onward.items():
            for each in following:
                backward[each].append(pair)
        together = [(place, place) for place in circle if self._letters[place]]
        parted = _reach(together, onward.__getitem__) & _reach(together, backward.__getitem__)
        return any(one != other for one, other in parted)


def _reach(start: Iterable[Any], following: Any) -> set[Any]:
    """What can be reached from a start, in one step or more."""
    found: set[Any] = set()
    ahead = list(start)
    while ahead:
        for each in following(ahead.pop()):
            if each not in found:
                found.add(each)
                ahead.append(each)
    return found


def _times(ways: Counter[int], number: int) -> Counter[int]:
    return Counter({place: count * number for place, count in ways.items()}) if number else Counter()


def _is_plain(body: Any) -> bool:
    """Whether it takes letters one by one, without a choice."""
    return all(not _inner(kind, what) and kind is not _OF.BRANCH for kind, what in body)


def _inner(kind: Any, what: Any) -> list[Any]:
    """The expressions within a part of an expression."""
    if kind in _REPEATS:
        return [what[2]]
    if kind is _OF.BRANCH:
        return list(what[1])
    parts = what if isinstance(what, tuple) else (what,)
    return [each for each in parts if isinstance(each, _PARSER.SubPattern)]


def _ways(parsed: Any) -> int:
    """In how many ways the repeats that follow each other, and can take the same letters, share out a long text.

    A search adds a place to begin at.
    """
    parts = list(parsed)
    begins = bool(parts) and parts[0] in ((_OF.AT, _OF.AT_BEGINNING), (_OF.AT, _OF.AT_BEGINNING_STRING))
    if parts and parts[-1][0] in _REPEATS:
        parts.pop()  # whatever it leaves behind is no reason to try again
    steps = [each for part in parts for each in _steps(*part)]
    if not begins:
        steps.insert(0, _Step(_LETTERS, _LONG, 1))
    return max((_shared(steps[place:]) for place, each in enumerate(steps) if each.ways > 1), default=1)


@dataclass(frozen=True)
class _Step:
    """A part of a sequence: the letters that it takes, and how many different numbers of them.

    What can be missing says with how many parts, itself counted, it can.
    """

    letters: frozenset[str]
    ways: int
    skips: int = 0


def _steps(kind: Any, what: Any) -> list[_Step]:
    """The parts that follow each other in one part; rounds of a short repeat each count."""
    if kind is _OF.AT:
        return []
    if kind is _OF.BRANCH:
        each_way = [[step for part in each for step in _steps(*part)] for each in what[1]]
        longest = max(each_way, key=lambda steps: prod(each.ways for each in steps))
        return [
            _Step(each.letters, each.ways, each.skips or len(longest) - place) for place, each in enumerate(longest)
        ]
    inner = _inner(kind, what)
    if not inner:
        return [_Step(_taken([(kind, what)]), 1)]
    least, most = (what[0], int(what[1])) if kind in _REPEATS else (1, 1)
    if most > _MANY or (most > 1 and _is_plain(inner[0])):
        return [_Step(_taken([(kind, what)]), min(most - least + 1, _LONG), int(least == 0))]
    once = [step for part in inner[0] for step in _steps(*part)]
    if len(once) * most > _MOST:
        raise _TooLong
    every = once * most
    certain = len(once) * least
    return [
        _Step(each.letters, each.ways, each.skips or (len(every) - place if place >= certain else 0))
        for place, each in enumerate(every)
    ]


def _shared(steps: list[_Step]) -> int:
    """The ways of the first of these and of what follows it, up to what none of the letters so far can be."""
    common, ways = _LETTERS, 1
    place = 0
    while place < len(steps):
        each = steps[place]
        place += 1
        if common & each.letters:
            common, ways = (common & each.letters, ways * each.ways) if each.ways > 1 else (common, ways)
        elif each.skips:
            place += each.skips - 1
        else:
            break
    return ways


def _taken(body: Any) -> frozenset[str]:
    """All letters that it takes somewhere."""
    found: frozenset[str] = frozenset()
    for kind, what in body:
        inner = _inner(kind, what)
        found |= frozenset().union(*map(_taken, inner)) if inner else _letters(kind, what)
    return found


def _letters(kind: Any, what: Any) -> frozenset[str]:
    """The letters that one place of an expression takes."""
    if kind is _OF.LITERAL:
        return frozenset(chr(what))
    if kind is _OF.NOT_LITERAL:
        return _LETTERS - {chr(what)}
    if kind is _OF.IN:
        negated = bool(what) and what[0][0] is _OF.NEGATE
        taken = frozenset().union(*[_members(*each) for each in what if each[0] is not _OF.NEGATE])
        return _LETTERS - taken if negated else taken
    if kind is _OF.AT:
        return frozenset()
    return _LETTERS  # any letter, or what is not known here


def _members(kind: Any, what: Any) -> frozenset[str]:
    if kind is _OF.LITERAL:
        return frozenset(chr(what))
    if kind is _OF.RANGE:
        low, high = what
        return frozenset([each for each in _LETTERS if low <= ord(each) <= high] or [chr(low)])
    tests = {
        _OF.CATEGORY_DIGIT: str.isdigit,
        _OF.CATEGORY_SPACE: str.isspace,
        _OF.CATEGORY_WORD: lambda each: each.isalnum() or each == "_",
    }
    opposites = {
        _OF.CATEGORY_NOT_DIGIT: _OF.CATEGORY_DIGIT,
        _OF.CATEGORY_NOT_SPACE: _OF.CATEGORY_SPACE,
        _OF.CATEGORY_NOT_WORD: _OF.CATEGORY_WORD,
    }
    if what in tests:
        return frozenset(filter(tests[what], _LETTERS))
    if what in opposites:
        return _LETTERS - frozenset(filter(tests[opposites[what]], _LETTERS))
    return _LETTERS
