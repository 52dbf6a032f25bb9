"""Where each value of a configuration came from.

TOML parsers give no line numbers. Statements of TOML are separated by line ends, though, so a file
that is known to parse can be cut into statements by parsing a growing run of lines until it holds:
a real parser decides, and each statement is parsed once or a few times. It is done only when somebody asks
(an error, ``explain``, ``check``), never on the way to a call.
"""

from typing import TypeAlias

from msgspec import Struct

from ..core.canonical.chat import Json
from ..core.errors import ConfigError

Path: TypeAlias = tuple[str, ...]


class Origin(Struct, frozen=True):
    """Where one value came from: a file and line, a variable, code or a default."""

    kind: str
    name: str = ""
    line: int | None = None

    def __str__(self) -> str:
        if self.kind == "file":
            return f"{self.name}:{self.line}" if self.line else self.name
        return f"{self.name} ({self.kind})" if self.name else self.kind


DEFAULT = Origin("default")
ARGUMENT = Origin("argument")


class Source:
    """One layer: its values, and the text that they were read from where it was a file.

    No struct, so that nothing that walks over fields comes upon a literal key in the values.
    """

    __slots__ = ("kind", "name", "names", "text", "values")

    def __init__(
        self, kind: str, name: str, values: dict[str, Json], text: str = "", names: dict[Path, str] | None = None
    ) -> None:
        self.kind = kind
        self.name = name
        self.values = values
        self.text = text
        self.names = names or {}

    def __repr__(self) -> str:
        return f"Source({self.kind!r}, {self.name!r})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Source) and (self.kind, self.name, self.values) == (
            other.kind,
            other.name,
            other.values,
        )

    def __hash__(self) -> int:
        return hash((self.kind, self.name))

    def __reduce__(self) -> "tuple[object, tuple[str, str, dict[str, Json]]]":
        return Source, (self.kind, self.name, {})

    def origin(self, path: Path) -> Origin | None:
        """Where in this layer the value of a path was set; `None` where it was not."""
        value: Json = self.values
        for part in path:
            if not isinstance(value, dict) or part not in value:
                return None
            value = value[part]
        if self.kind != "file":
            within = (name for each, name in self.names.items() if each[: len(path)] == path)
            return Origin(self.kind, self.names.get(path) or next(within, self.name))
        lines = statement_lines(self.text)
        for size in range(len(path), 0, -1):
            if path[:size] in lines:
                return Origin("file", self.name, lines[path[:size]])
        return Origin("file", self.name)


class Origins(Struct, frozen=True):
    """All layers, the last one winning."""

    sources: tuple[Source, ...] = ()

    def of(self, *path: str) -> Origin:
        """Where the value of a path came from.

        >>> Origins((Source("file", "agouti.toml", {"a": {"b": 1}}, "[a]\\nb = 1"),)).of("a", "b").line
        2
        """
        for source in reversed(self.sources):
            lines_by_path = source.origin(path)
            if lines_by_path is not None:
                return lines_by_path
        return DEFAULT


def statement_lines(text: str) -> dict[Path, int]:
    """The line (from 1) at which each key path of a TOML text is set."""
    import tomllib

    lines_by_path: dict[Path, int] = {}
    table: Path = ()
    pending: list[str] = []
    for number, line in enumerate(text.splitlines(), 1):
        pending.append(line)
        try:
            statement = tomllib.loads("\n".join(pending))
        except tomllib.TOMLDecodeError:
            continue
        start = number - len(pending) + 1
        is_header = pending[0].lstrip().startswith("[")
        pending = []
        if is_header:
            table = ()
            _note(statement, (), start, lines_by_path)
            while statement:
                (part, inner), *_ = statement.items()
                table += (part,)
                statement = inner[0] if isinstance(inner, list) else inner
        else:
            _note(statement, table, start, lines_by_path)
    return lines_by_path


def _note(value: Json, path: Path, line: int, lines_by_path: dict[Path, int]) -> None:
    for part, inner in value.items():
        lines_by_path.setdefault((*path, part), line)
        if isinstance(inner, dict):
            _note(inner, (*path, part), line, lines_by_path)


def placed(error: ConfigError, origin: Origin) -> ConfigError:
    """The same error, with the place put before it."""
    if origin.kind == "file":
        error.file, error.line = origin.name, origin.line
    if origin.kind in ("file", "environment") and origin.name not in error.message:
        error.message = f"{origin}: {error.message}"
        error.args = (error.message,)
    return error
