"""Blanks of a prompt template: declared names in braces, filled with texts. Other braces stay braces."""

import re
from collections.abc import Mapping
from functools import lru_cache

from ..errors import RequestError


def filled(text: str, values: Mapping[str, str], where: str) -> str:
    """A text with its blanks filled, all at once: what a value holds is not looked at again.

    Args:
        values: every declared blank; an empty one must be given a value before the text can be used.
        where: whose text it is, for the error.

    Raises:
        RequestError: the text has a blank that is still empty.

    >>> filled("Translate into {language}: {x}.", {"language": "Italian"}, "translator")
    'Translate into Italian: {x}.'
    """
    if "{" not in text or not values:
        return text

    def value(match: re.Match[str]) -> str:
        name = match[1]
        if not values[name]:
            raise RequestError(
                f"{where} has a blank {name!r} that is not filled",
                hint=f'Pass variables={{"{name}": "..."}}; on the command line --var {name}=VALUE.',
            )
        return values[name]

    return _pattern(tuple(values)).sub(value, text)


@lru_cache(maxsize=256)
def _pattern(names: tuple[str, ...]) -> re.Pattern[str]:
    longest_first = sorted(names, key=len, reverse=True)
    return re.compile("\\{(" + "|".join(map(re.escape, longest_first)) + ")\\}")
