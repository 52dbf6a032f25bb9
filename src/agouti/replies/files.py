"""Files of a reply: images and audio that a model has made, with their bytes, and saved."""

import base64
import os
from pathlib import Path

from ..core.canonical.chat import MediaFile
from ..core.errors import RequestError
from ..core.messages.media_types import suffix_of


class ReplyFile:
    """A file that is part of an answer: an image, or audio.

    Attributes:
        media_type: such as ``image/png``; empty where the provider does not say.
        address: where it is, where the provider gives only that; empty otherwise.

    Example:
        >>> ReplyFile(MediaFile("text/plain", "UGVhcw==")).data
        b'Peas'
    """

    def __init__(self, file: MediaFile, number: int = 1) -> None:
        self.media_type = file.media_type
        self.address = file.address
        self._base64 = file.data
        self._number = number

    @property
    def data(self) -> bytes:
        """Its bytes.

        Raises:
            RequestError: the provider gave only an address.
        """
        if not self._base64:
            raise RequestError(
                "the provider gave only the address of this file", hint="Fetch it from there: it is in .address."
            )
        return base64.b64decode(self._base64)

    def save(self, folder: "str | os.PathLike[str]" = ".", name: str | None = None) -> Path:
        """Write it into a folder, which is made where it is missing; a file that is there already stays.

        Args:
            name: of the file; ``answer-1.png`` or the like where not given.

        Returns:
            Where it was written.
        """
        target = Path(folder)
        target.mkdir(parents=True, exist_ok=True)
        data = self.data
        file_name = name or f"answer-{self._number}{suffix_of(self.media_type)}"
        stem, dot, suffix = file_name.rpartition(".")
        number = 1
        while True:
            path = target / (
                file_name if number == 1 else f"{stem or file_name}-{number}{dot + suffix if stem else ''}"
            )
            try:
                with path.open("xb") as opened:
                    opened.write(data)
            except FileExistsError:
                number += 1
                continue
            return path

    def __repr__(self) -> str:
        return f"ReplyFile({self.media_type or 'unknown'!r}, {self.address or f'{len(self._base64) * 3 // 4} bytes'})"
