"""Values of an application's types as JSON: every field, defaults included, whatever kinds are mixed in it."""

import dataclasses
import enum
from collections.abc import AsyncIterator, Iterator, Mapping
from itertools import islice
from typing import Any

import msgspec


def plain_value(value: Any) -> Any:
    """The value as JSON has it.

    >>> @dataclasses.dataclass
    ... class Sown:
    ...     crop: str
    ...     rows: int = 2
    >>> plain_value([Sown("pea")])
    [{'crop': 'pea', 'rows': 2}]
    """
    if hasattr(value, "model_dump"):
        return value.model_dump(mode="json", by_alias=True)
    if value is None or isinstance(value, (bool, int, float, str)):
        return value.value if isinstance(value, enum.Enum) else value
    if isinstance(value, enum.Enum):
        return plain_value(value.value)
    if isinstance(value, Mapping):
        return {_key(name): plain_value(each) for name, each in value.items()}
    if hasattr(value, "_asdict"):
        return [plain_value(each) for each in value]
    if isinstance(value, (list, tuple, set, frozenset)):
        return [plain_value(each) for each in value]
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: plain_value(getattr(value, field.name)) for field in dataclasses.fields(value)}
    if hasattr(type(value), "__attrs_attrs__"):
        return {each.name: plain_value(getattr(value, each.name)) for each in type(value).__attrs_attrs__}
    return msgspec.to_builtins(value, enc_hook=_of_object, str_keys=True)


def _of_object(value: Any) -> Any:
    """What an object of no known kind says: its words, or its attributes where it has none."""
    kind: Any = type(value)
    says_nothing = kind.__str__ is object.__str__ and kind.__repr__ is object.__repr__
    if says_nothing and hasattr(value, "__dict__"):
        return {name: plain_value(each) for name, each in vars(value).items() if not name.startswith("_")}
    return str(value)


def _key(name: Any) -> str:
    name_value = plain_value(name)
    return (
        name_value
        if isinstance(name_value, str)
        else str(name_value).lower()
        if isinstance(name_value, bool)
        else str(name_value)
    )


_MOST_ITEMS = 10_000


def with_items(result: Any) -> Any:
    """What a function gave, with the items of an iterator in a list: it is run where the function runs.

    Of more than 10,000 items, the first are there, and a remark for the model.
    """
    if isinstance(result, AsyncIterator):
        return _collected(result)
    return _first(list(islice(result, _MOST_ITEMS + 1))) if isinstance(result, Iterator) else result


async def _collected(values: AsyncIterator[Any]) -> list[Any]:
    items: list[Any] = []
    async for each in values:
        items.append(each)
        if len(items) > _MOST_ITEMS:
            break
    return _first(items)


def _first(items: list[Any]) -> list[Any]:
    if len(items) > _MOST_ITEMS:
        items[_MOST_ITEMS:] = [f"... there are more than these {_MOST_ITEMS:,}"]
    return items
