"""Entries of agouti.toml changed: values set in place, comments and all else kept as they are."""

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..core.canonical.chat import Json
from ..core.errors import ConfigError
from ..runtime.atomic_files import alone_in, write_whole


def set_values(path: Path, table: str, label: str, values: Mapping[str, Json]) -> bool:
    """Set values of an entry that stands in a file; returns whether anything has changed.

    Raises:
        ConfigError: the file cannot be read or written, or has no such entry.
    """
    try:
        with alone_in(path.parent):
            text = path.read_text(encoding="utf-8-sig")
            changed = with_values(text, table, label, values)
            if changed == text:
                return False
            write_whole(path, changed)
            return True
    except (OSError, UnicodeDecodeError) as error:
        raise ConfigError(f"{path} cannot be changed ({error})", hint="Change it by hand.") from None


def with_values(text: str, table: str, label: str, values: Mapping[str, Json]) -> str:
    """The text of a file with values of an entry set.

    Raises:
        ConfigError: it has no such entry, or it is written in a way that cannot be changed.

    >>> print(with_values('[models.a]  # mine\\nname = "x"\\n', "models", "a", {"context": 8192}))
    [models.a]  # mine
    name = "x"
    context = 8192
    <BLANKLINE>
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document = tomlkit.parse(text)
        before = document.unwrap()
        entry: Any = document[table]
        entry = entry[label]
        for name, value in values.items():
            old = before[table][label].get(name)
            if isinstance(old, dict) and isinstance(value, Mapping) and old.keys() <= value.keys():
                for key, each in value.items():  # in place: what stands beside it is kept
                    if old.get(key) != each:
                        entry[name][key] = _item(each)
            elif old != value:
                entry[name] = _item(value)
        changed = tomlkit.dumps(document)
        expected = {**before, table: {**before[table], label: {**before[table][label], **values}}}
        if tomllib.loads(changed) == expected:
            return changed
    except KeyError:
        raise ConfigError(f"there is no entry [{table}.{label}] in the file", hint="Add it first.") from None
    except (TOMLKitError, tomllib.TOMLDecodeError, TypeError, ValueError, AttributeError):
        pass
    lines = "; ".join(f"{name} = {_item(value).as_string()}" for name, value in values.items())
    raise ConfigError(
        f"[{table}.{label}] is written in a way that cannot be changed here", hint=f"Put it in by hand: {lines}"
    )


def _item(value: Json) -> Any:
    import tomlkit

    if not isinstance(value, Mapping):
        return tomlkit.item(value)
    table = tomlkit.inline_table()
    for name, each in value.items():
        table[name] = _item(each)
    return table
