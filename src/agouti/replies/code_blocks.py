"""Code in an answer, to be saved: the fenced blocks of its Markdown, each with the name of a file."""

import re
from pathlib import Path

from ..core.errors import RequestError
from ..core.text import code_blocks as core


class CodeBlock(core.CodeBlock, frozen=True):
    """A block of code; see `agouti.core.text.code_blocks.CodeBlock` for what it holds."""

    def save(self, folder: "str | Path", *, name: str = "", overwrite: bool = False) -> Path:
        """Write it into a folder, which is made where it is not there; never outside of it.

        Args:
            name: another name than its own.
            overwrite: replace a file of that name; otherwise the new one gets a number.

        Returns:
            the path of the file.

        Raises:
            RequestError: the name leads out of the folder, or nothing can be written there.
        """
        where = Path(folder)
        file_name = name or self.file_name
        if re.split(r"[/\\]", file_name)[-1] != file_name or file_name in ("", ".", "..") or "\0" in file_name:
            raise RequestError(f"{file_name!r} is no name of a file", hint="Give a plain name, without folders.")
        try:
            where.mkdir(parents=True, exist_ok=True)
            stem, dot, suffix = file_name.rpartition(".")
            path = where / file_name
            number = 2
            while not overwrite or path.is_symlink():
                try:
                    # Exclusive, so that neither a link nor another process can turn it elsewhere.
                    with path.open("x", encoding="utf-8", newline="") as file:
                        file.write(self.code)
                    return path
                except FileExistsError:
                    path = where / (f"{stem}-{number}{dot}{suffix}" if dot else f"{file_name}-{number}")
                    number += 1
            path.write_text(self.code, encoding="utf-8", newline="")
            return path
        except OSError as error:
            raise RequestError(
                f"{file_name} cannot be written into {where} ({error.strerror or error})", hint="Name another folder."
            ) from None


def code_blocks(text: str) -> tuple[CodeBlock, ...]:
    """The fenced blocks of a text; each can be saved.

    >>> [block.file_name for block in code_blocks("Try:\\n```python\\nprint(1)\\n```")]
    ['block-1.py']
    """
    return core.code_blocks(text, CodeBlock)
