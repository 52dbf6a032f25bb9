"""A text that matches a regular expression, for forms with patterns: literals, classes, repeats, groups and choices."""

import random
import re
import string
from typing import Any

_PARSER: Any = re._parser  # type: ignore[attr-defined]  # the module that the standard library itself parses with
_SOME = string.ascii_letters + string.digits + " -_"
_CLASSES = {"CATEGORY_DIGIT": string.digits, "CATEGORY_WORD": string.ascii_lowercase, "CATEGORY_SPACE": " "}


def matching(pattern: str, chance: random.Random) -> str:
    """A text in which the pattern is found.

    >>> matching("^[A-C]{2}-[0-9]{3}$", random.Random(1))
    'AC-141'
    """
    return "".join(_made(item, chance) for item in _PARSER.parse(pattern))


def _made(item: Any, chance: random.Random) -> str:
    operation, value = str(item[0]), item[1]
    match operation:
        case "LITERAL":
            return chr(value)
        case "NOT_LITERAL":
            return next(each for each in _SOME if ord(each) != value)
        case "ANY":
            return chance.choice(string.ascii_lowercase)
        case "IN":
            return _one_of(value, chance)
        case "MAX_REPEAT" | "MIN_REPEAT" | "POSSESSIVE_REPEAT":
            least, most, inner = value
            count = min(int(most), max(least, 1))
            return "".join(_made(each, chance) for _ in range(count) for each in inner)
        case "SUBPATTERN":
            return "".join(_made(each, chance) for each in value[3])
        case "BRANCH":
            return "".join(_made(each, chance) for each in chance.choice(value[1]))
        case _:
            return ""  # anchors and looks around take no room


def _one_of(items: list[Any], chance: random.Random) -> str:
    allowed: list[str] = []
    negated = False
    for operation, value in items:
        match str(operation):
            case "NEGATE":
                negated = True
            case "LITERAL":
                allowed.append(chr(value))
            case "RANGE":
                allowed += [chr(code) for code in range(value[0], value[1] + 1)]
            case "CATEGORY":
                allowed += _CLASSES.get(str(value), "x")
    return next(each for each in _SOME if each not in allowed) if negated else chance.choice(allowed)
