"""Prompts with the columns of a row: ``{note}`` stands for the column ``note``; braces around anything else stay."""

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from hashlib import blake2b, file_digest
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct

from ..core.errors import RequestError
from ..core.text.suggest import near_hint, similar_names
from ..tables.row_files import Row
from ..tables.table import text_of

if TYPE_CHECKING:
    pass

_PLACEHOLDER = re.compile(r"\{([^{}\n]{1,200})\}")


class NothingToAsk(RequestError):
    """A row that cannot be asked; the others can."""


class Template:
    """A prompt with the columns of a row in it.

    Args:
        text: the prompt; `None`: all of the row, as ``name: value`` lines, or its text where it has no columns.
        columns: the names that rows have.

    Attributes:
        names: the columns that the prompt takes.

    Raises:
        RequestError: it takes none, or one that is not there but looks like one that is.

    Example:
        >>> Template("Sort {crop}: {weed} {x}", ["crop", "note"]).of(Row(1, {"crop": "pea"}))
        'Sort pea: {weed} {x}'
    """

    def __init__(self, text: str | None, columns: Sequence[str]) -> None:
        self.text = text
        self.names: tuple[str, ...] = ()
        if text is None:
            return
        found = list(dict.fromkeys(name for name in _PLACEHOLDER.findall(text)))
        self.names = tuple(name for name in found if name in columns)
        for name in found:
            # A word in braces that is nearly a column is one that was mistyped; anything else is part of the prompt.
            column = _CONVERSION.sub("", name).strip()
            if (
                name not in columns
                and _NAME.fullmatch(column)
                and (column in columns or similar_names(column, columns))
            ):
                raise _no_column(name, columns, column)
        if not self.names:
            if found and found[0].isidentifier():
                raise _no_column(found[0], columns)
            raise RequestError(
                "the prompt has no column in it, so that every row would be asked the same",
                hint=f"Write one in braces: {', '.join('{' + name + '}' for name in list(columns)[:8])}.",
            )

    @classmethod
    def of_column(cls, column: str, columns: Sequence[str]) -> "Template":
        """A prompt that is one column, as it is.

        Raises:
            RequestError: there is no such column.
        """
        if column not in columns:
            raise RequestError(f"there is no column {column!r}", hint=near_hint(column, columns, "column"))
        prompt = cls(None, columns)
        prompt.names = (column,)
        return prompt

    def of(self, row: Row) -> str:
        """The prompt of a row.

        Raises:
            NothingToAsk: the row has not all of its columns.
        """
        if self.text is None and not self.names:
            return row.describe()
        for name in self.names:
            if name not in row.columns:
                raise NothingToAsk(
                    f"it has no column {name!r}", hint=near_hint(name, row.columns, "column") if row.columns else ""
                )
        if self.text is None:
            return row.describe(self.names[0])
        return _PLACEHOLDER.sub(lambda found: self._value(row, found), self.text)

    def _value(self, row: Row, found: "re.Match[str]") -> str:
        return text_of(row.columns[found[1]]) if found[1] in self.names else found[0]


# What may stand behind a name in braces elsewhere, and names that columns have.
_CONVERSION = re.compile(r"[!:][^{}]*$")
_NAME = re.compile(r"[\w][\w .-]*")


def _no_column(name: str, columns: Sequence[str], column: str = "") -> RequestError:
    hint = f"Write {{{column}}}, and nothing else in the braces."
    if column not in columns:
        hint = near_hint(column or name, columns, "column")
    return RequestError(
        f"the prompt has {{{name}}}, and there is no such column",
        hint=hint or near_hint(column or name, columns, "column"),
    )


def _inside(source: str | bytes) -> bytes:
    """A digest of what is in a file: another picture under the same name is another question."""
    if isinstance(source, bytes) or "://" in source or source.startswith("data:"):
        return b""  # it stands in the prompt itself
    try:
        with open(source, "rb") as file:
            return file_digest(file, "blake2b").digest()
    except OSError:
        return b""


class RowPrompt(Struct, frozen=True):
    """What is asked of a row.

    Attributes:
        text: the prompt as text.
        images, files: beside it.
    """

    text: str
    images: tuple[str | bytes, ...] = ()
    files: tuple[str | bytes, ...] = ()

    @property
    def digest(self) -> bytes:
        """Eight bytes that are others where anything else is asked."""
        try:
            encoded = msgspec.json.encode(self)
        except UnicodeEncodeError:  # half of a letter
            encoded = repr(self).encode("utf-8", "surrogatepass")
        digest = blake2b(encoded, digest_size=8)
        for source in (*self.images, *self.files):
            digest.update(_inside(source))
        return digest.digest()


class RowPrompts:
    """Makes the prompt of each row.

    Args:
        images, files: the columns that name one each; a row may leave them empty.
        folder: where the rows come from: a relative path in a column is looked for there first.
    """

    def __init__(
        self, template: Template, images: Sequence[str] = (), files: Sequence[str] = (), folder: Path | None = None
    ) -> None:
        self._template = template
        self._images = images
        self._files = files
        self._folder = folder

    def of(self, row: Row) -> RowPrompt:
        """What is asked of a row.

        Raises:
            NothingToAsk: there is nothing to ask, or a file that it names is not there.
        """
        text = self._template.of(row)
        images = self._named(row.columns, self._images)
        files = self._named(row.columns, self._files)
        if not text.strip():
            if not images and not files:
                raise NothingToAsk("the prompt is empty: nothing was asked")
            text = "Describe it." if self._template.text is None else text
        return RowPrompt(text, images, files)

    def _named(self, columns: Mapping[str, Any], names: Sequence[str]) -> tuple[str | bytes, ...]:
        named = [columns.get(name) for name in names]
        return tuple(
            each if isinstance(each, bytes) else self._resolve_path(text_of(each).strip())
            for each in named
            if each and (isinstance(each, bytes) or text_of(each).strip())
        )

    def _resolve_path(self, source: str) -> str:
        if "://" in source or source.startswith("data:"):
            return source
        with suppress(OSError, ValueError, RuntimeError):  # a name that is none
            path = Path(source).expanduser()
            in_folder = self._folder / path if self._folder is not None else path
            for each in (in_folder, path):
                if each.exists():
                    return str(each)
        raise NothingToAsk(f"{source[:200]} is not there", hint="Name files from the folder of the rows.")
