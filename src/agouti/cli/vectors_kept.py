"""Vectors of a run: on disk portion by portion, found again by the next run, one file at the end."""

import json
import os
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..client import Client
from ..config.files import replaced
from ..core.errors import AgoutiError
from ..core.usage import Usage
from .journal import opened_alone

if TYPE_CHECKING:
    from ..embeddings import Embeddings


class VectorsKept:
    """The file of vectors, and beside it what came until it can be written whole.

    The file beside it is a line of JSON for each portion (texts, dimensions, what is known of them), and after it the
    bytes of the vectors, little-endian 32-bit floats.

    Attributes:
        known: what is there already of the same model.

    Raises:
        click.UsageError: it cannot be written, or what is there is of another model.
    """

    def __init__(self, out: Path, kind: str, label: str, dimensions: int | None, *, anew: bool) -> None:
        self._out = out
        self._kind = kind
        self._label = label
        self._journal = out.with_name(f".{out.name}.part")
        self.known: Embeddings | None = None
        self._pieces: list[Embeddings] = []
        try:
            self._file = opened_alone(self._journal, out)
            try:
                if anew:
                    self._file.truncate(0)
                else:
                    self._read(dimensions)
            except BaseException:
                self.close()
                raise
        except OSError as error:
            raise click.UsageError(f"{out} cannot be written ({error.strerror or error})") from None

    def close(self) -> None:
        """Let go of the file; what came is kept in it for the next run."""
        if not self._file.closed and not os.fstat(self._file.fileno()).st_size:
            self._journal.unlink(missing_ok=True)
        self._file.close()

    def _read(self, dimensions: int | None) -> None:
        found = []
        if self._out.exists() and self._kind != ".npy":
            from ..embeddings import Embeddings

            try:
                found.append(Embeddings.load(self._out))
            except AgoutiError as error:
                raise click.UsageError(f"{error.what}: name another file, or say --anew") from None
        found += self._portions()
        for each in found:
            if each.label != self._label or dimensions not in (None, each.dimensions):
                size = f", {dimensions} dimensions" if dimensions is not None else ""
                raise click.UsageError(
                    f"{self._out} has vectors of {each.label or 'another model'}, {each.dimensions} dimensions, not of "
                    f"{self._label}{size}: name another file, or say --anew"
                )
        self._pieces = found
        self.known = self._joined() if found else None

    def _portions(self) -> "list[Embeddings]":
        """What an earlier run has left; what was being written when it was killed is cut off."""
        import numpy

        from ..embeddings import Embeddings

        portions, whole = [], 0
        with self._journal.open("rb") as file:
            while line := file.readline():
                try:
                    about = json.loads(line)
                    texts, size = about["texts"], about["dimensions"]
                    data = file.read(len(texts) * size * 4)
                    vectors = numpy.frombuffer(data, dtype="<f4").reshape(len(texts), size)
                    portions.append(Embeddings(texts, vectors, label=about["label"], model=about["model"]))
                except (ValueError, KeyError, TypeError, AgoutiError):
                    break  # the last one was not written to its end
                whole = file.tell()
        if whole < self._journal.stat().st_size:
            os.truncate(self._journal, whole)
        return portions

    def _joined(self) -> "Embeddings":
        """All that is there, joined at once: one by one each would be copied again and again."""
        import numpy

        from ..embeddings import Embeddings

        first = self._pieces[0]
        for each in self._pieces:
            self._check_same(each)
        texts = [text for each in self._pieces for text in each.texts]
        vectors = numpy.concatenate([each.vectors for each in self._pieces])
        return Embeddings(texts, vectors, label=first.label, model=first.model)

    def _check_same(self, came: "Embeddings") -> None:
        try:
            if self._pieces:
                _ = self._pieces[0][:1] + came[:1]
        except AgoutiError as error:
            raise click.UsageError(f"{self._out}: {error.what}: name another file, or say --anew") from None

    def add(self, came: "Embeddings") -> None:
        """Vectors that have come; on disk when this returns.

        Raises:
            click.UsageError: they do not compare with those that are there.
        """
        self._check_same(came)
        about = {"texts": came.texts, "dimensions": came.dimensions, "label": came.label, "model": came.model}
        try:
            self._file.write(json.dumps(about).encode() + b"\n" + came.vectors.astype("<f4").tobytes())
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError as error:
            raise click.ClickException(f"{self._out} cannot be written ({error.strerror or error})") from None
        self._pieces.append(came)

    def finish(self, client: Client, texts: list[str], usage: Usage, cost: float | None) -> "Embeddings":
        """The vectors of all texts in their order, in the file; nothing is asked for any more.

        Args:
            usage, cost: what this run took.
        """
        embedded = client.embed(self._label, texts, only_missing=self._joined())
        embedded.usage, embedded.cost = usage, cost
        if self._kind == ".npy":
            self._write_array(embedded.vectors)
        else:
            embedded.save(self._out)
        with suppress(OSError):
            self._journal.unlink()
        return embedded

    def _write_array(self, vectors: Any) -> None:
        import numpy

        try:
            with replaced(self._out) as file:
                numpy.save(file, vectors, allow_pickle=False)
        except OSError as error:
            raise click.ClickException(f"{self._out} cannot be written ({error.strerror or error})") from None
