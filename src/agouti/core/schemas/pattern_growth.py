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
_MAX_COUNT = 10**10
"""More ways than these to share out a long text are too many."""
_MAX_STEPS = 50_000
"""Steps from place to place in one expression; one with more is not followed, and counts as too fast."""
_MAX_POSITIONS = 150
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
        positions = _Positions()
        positions.sequence(parsed)
        return _growth_of(parsed) > _MAX_COUNT or any(map(positions.doubles, positions.circles()))
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


_EMPTY_PART = _Part(empty=1)


class _Positions:
    """The places of an expression that take a letter, and which of them can follow which, in how many ways."""

    def __init__(self) -> None:
        self._letters: list[frozenset[str]] = []
        self._next: list[Counter[int]] = []
        self._rounds: list[range] = []
        self._steps = 0

    def sequence(self, parts: Iterable[tuple[Any, Any]]) -> _Part:
        part = _EMPTY_PART
        for kind, argument in parts:
            part = self._concatenate(part, self._part(kind, argument))
        return part

    def _part(self, kind: Any, argument: Any) -> _Part:
        if kind in _REPEATS:
            return self._repeat(*argument)
        if kind is _OF.BRANCH:
            return self._choice(map(self.sequence, argument[1]))
        if inner := _inner(kind, argument):
            return self._choice(map(self.sequence, inner))
        if kind is _OF.AT:
            return _EMPTY_PART
        self._letters.append(_letters(kind, argument))
        self._next.append(Counter())
        position = len(self._next) - 1
        return _Part(Counter([position]), Counter([position]))

    def _repeat(self, minimum: int, maximum: int, body: Any) -> _Part:
        if int(maximum) > _MANY and minimum != maximum:
            one = self._optional_loop(body)
            return _Part(one.first, one.last, one.empty + (minimum == 0))
        if int(maximum) > _MANY and not _is_plain(body):
            self._optional_loop(body)  # what is not free of choices is looked at as if it had no end
        part = _EMPTY_PART
        for _ in range(min(int(maximum), _MANY) - min(minimum, _MANY)):  # the rounds that may be missing: (x(x(x)?)?)?
            inner = self._concatenate(self.sequence(body), part)
            part = _Part(inner.first, inner.last, min(inner.empty + 1, 2))
        for _ in range(min(minimum, _MANY)):
            part = self._concatenate(self.sequence(body), part)
        return part

    def _optional_loop(self, body: Any) -> _Part:
        begin = len(self._next)
        one = self.sequence(body)
        self._join(one, one)
        self._rounds.append(range(begin, len(self._next)))
        return one

    def _concatenate(self, one: _Part, second: _Part) -> _Part:
        self._join(one, second)
        return _Part(
            one.first + _times(second.first, one.empty),
            second.last + _times(one.last, second.empty),
            min(one.empty * second.empty, 2),
        )

    def _join(self, one: _Part, second: _Part) -> None:
        for position, counts in one.last.items():
            for following, inner in second.first.items():
                self._next[position][following] += counts * inner
        self._steps += len(one.last) * len(second.first)
        if self._steps > _MAX_STEPS:
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
        if len(circle) > _MAX_POSITIONS:
            return True
        within = {position: [each for each in self._next[position] if each in circle] for position in circle}
        if any(self._next[position][each] > 1 for position in circle for each in within[position]):
            return True
        overlapping = {
            (one, second) for one in circle for second in circle if self._letters[one] & self._letters[second]
        }
        onward: dict[tuple[int, int], list[tuple[int, int]]] = {
            (one, second): [pair for a in within[one] for b in within[second] if (pair := (a, b)) in overlapping]
            for one, second in overlapping
        }
        backward: dict[tuple[int, int], list[tuple[int, int]]] = {pair: [] for pair in overlapping}
        for pair, following in onward.items():
            for each in following:
                backward[each].append(pair)
        together = [(position, position) for position in circle if self._letters[position]]
        parted = _reach(together, onward.__getitem__) & _reach(together, backward.__getitem__)
        return any(one != second for one, second in parted)


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


def _times(counts: Counter[int], number: int) -> Counter[int]:
    return Counter({position: count * number for position, count in counts.items()}) if number else Counter()


def _is_plain(body: Any) -> bool:
    """Whether it takes letters one by one, without a choice."""
    return all(not _inner(kind, argument) and kind is not _OF.BRANCH for kind, argument in body)


def _inner(kind: Any, argument: Any) -> list[Any]:
    """The expressions within a part of an expression."""
    if kind in _REPEATS:
        return [argument[2]]
    if kind is _OF.BRANCH:
        return list(argument[1])
    parts = argument if isinstance(argument, tuple) else (argument,)
    return [each for each in parts if isinstance(each, _PARSER.SubPattern)]


def _growth_of(parsed: Any) -> int:
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
    return max((_shared(steps[position:]) for position, each in enumerate(steps) if each.count > 1), default=1)


@dataclass(frozen=True)
class _Step:
    """A part of a sequence: the letters that it takes, and how many different numbers of them.

    What can be missing says with how many parts, itself counted, it can.
    """

    letters: frozenset[str]
    count: int
    skips: int = 0


def _steps(kind: Any, argument: Any) -> list[_Step]:
    """The parts that follow each other in one part; rounds of a short repeat each count."""
    if kind is _OF.AT:
        return []
    if kind is _OF.BRANCH:
        each_way = [[step for part in each for step in _steps(*part)] for each in argument[1]]
        longest = max(each_way, key=lambda steps: prod(each.count for each in steps))
        return [
            _Step(each.letters, each.count, each.skips or len(longest) - position)
            for position, each in enumerate(longest)
        ]
    inner = _inner(kind, argument)
    if not inner:
        return [_Step(_letters_of([(kind, argument)]), 1)]
    minimum, maximum = (argument[0], int(argument[1])) if kind in _REPEATS else (1, 1)
    if maximum > _MANY or (maximum > 1 and _is_plain(inner[0])):
        return [_Step(_letters_of([(kind, argument)]), min(maximum - minimum + 1, _LONG), int(minimum == 0))]
    once = [step for part in inner[0] for step in _steps(*part)]
    if len(once) * maximum > _MAX_STEPS:
        raise _TooLong
    every = once * maximum
    certain = len(once) * minimum
    return [
        _Step(each.letters, each.count, each.skips or (len(every) - position if position >= certain else 0))
        for position, each in enumerate(every)
    ]


def _shared(steps: list[_Step]) -> int:
    """The ways of the first of these and of what follows it, up to what none of the letters so far can be."""
    common, counts = _LETTERS, 1
    position = 0
    while position < len(steps):
        each = steps[position]
        position += 1
        if common & each.letters:
            common, counts = (common & each.letters, counts * each.count) if each.count > 1 else (common, counts)
        elif each.skips:
            position += each.skips - 1
        else:
            break
    return counts


def _letters_of(body: Any) -> frozenset[str]:
    """All letters that it takes somewhere."""
    found: frozenset[str] = frozenset()
    for kind, argument in body:
        inner = _inner(kind, argument)
        found |= frozenset().union(*map(_letters_of, inner)) if inner else _letters(kind, argument)
    return found


def _letters(kind: Any, argument: Any) -> frozenset[str]:
    """The letters that one place of an expression takes."""
    if kind is _OF.LITERAL:
        return frozenset(chr(argument))
    if kind is _OF.NOT_LITERAL:
        return _LETTERS - {chr(argument)}
    if kind is _OF.IN:
        negated = bool(argument) and argument[0][0] is _OF.NEGATE
        excluded = frozenset().union(*[_members(*each) for each in argument if each[0] is not _OF.NEGATE])
        return _LETTERS - excluded if negated else excluded
    if kind is _OF.AT:
        return frozenset()
    return _LETTERS  # any letter, or what is not known here


def _members(kind: Any, argument: Any) -> frozenset[str]:
    if kind is _OF.LITERAL:
        return frozenset(chr(argument))
    if kind is _OF.RANGE:
        low, high = argument
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
    if argument in tests:
        return frozenset(filter(tests[argument], _LETTERS))
    if argument in opposites:
        return _LETTERS - frozenset(filter(tests[opposites[argument]], _LETTERS))
    return _LETTERS
