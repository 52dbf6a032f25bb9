"""Places in a JSON value (RFC 6901): read one, or write one and what is missing on the way to it."""

from functools import lru_cache
from typing import Any

from ..canonical.chat import Json
from ..errors import ConfigError


class _Missing:
    """Nothing stands there: not even a null."""


MISSING = _Missing()


@lru_cache(1024)
def steps(pointer: str) -> tuple[str, ...]:
    """The names and numbers on the way.

    Raises:
        ConfigError: it is no pointer.

    >>> steps("/result/0/a~1b")
    ('result', '0', 'a/b')
    """
    if not pointer:
        return ()
    if not pointer.startswith("/"):
        raise ConfigError(f"{pointer!r} is no JSON Pointer", hint=f'It begins with a slash: "/{pointer}".')
    return tuple([step.replace("~1", "/").replace("~0", "~") for step in pointer[1:].split("/")])


def read(value: Json, pointer: str) -> Json:
    """What stands at a place; `MISSING` where nothing does.

    >>> read({"result": [{"words": "Hi"}]}, "/result/0/words")
    'Hi'
    """
    for step in steps(pointer):
        if isinstance(value, dict) and step in value:
            value = value[step]
        elif isinstance(value, list) and step.isdecimal() and step.isascii() and int(step[:9]) < len(value):
            value = value[int(step)]
        else:
            return MISSING
    return value


def remove_at(value: Json, pointer: str) -> Json:
    """What stands at a place in objects, taken out of there; `MISSING` where nothing does.

    >>> body = {"input": {"seed": 7}}
    >>> remove_at(body, "/input/seed"), body
    (7, {'input': {}})
    """
    *outer, last = steps(pointer)
    for step in outer:
        value = value.get(step) if isinstance(value, dict) else None
    return value.pop(last, MISSING) if isinstance(value, dict) else MISSING


def write(target: dict[str, Any], pointer: str, value: Json) -> None:
    """Put a value at a place: objects and arrays on the way are made, ``0`` and ``-`` append to an array.

    Raises:
        ConfigError: something else stands in the way.

    >>> body = {}
    >>> write(body, "/input/texts/0/text", "Hi")
    >>> body
    {'input': {'texts': [{'text': 'Hi'}]}}
    """
    path = steps(pointer)
    if not path:
        raise ConfigError(
            "the empty pointer is the whole body: nothing can be written there", hint='Name a field: "/x".'
        )
    inner: Any = target
    for step, following in zip(path, (*path[1:], None), strict=True):
        last = following is None
        container: Any = value if last else [] if following in ("0", "-") else {}
        if isinstance(inner, list):
            if step not in ("0", "-") and not (step.isdecimal() and int(step[:9]) <= len(inner)):
                raise ConfigError(f"{pointer}: {step!r} is no place in an array", hint="Arrays take 0, 1, ... or -.")
            index = len(inner) if step == "-" else int(step)
            if index == len(inner):
                inner.append(container)
            elif last:
                inner[index] = container
            inner = inner[index]
        elif isinstance(inner, dict):
            if last or step not in inner:
                inner[step] = container
            inner = inner[step]
        else:
            raise ConfigError(f"{pointer}: {step!r} stands behind a {type(inner).__name__}", hint="Check the pointers.")
