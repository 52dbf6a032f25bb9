"""Streams as a caller sees them: an iterator of text, or of events, with the reply so far at any moment."""

from collections.abc import AsyncIterator, Iterator
from types import TracebackType
from typing import TYPE_CHECKING

from .core.events import Event, Text
from .core.reply import Reply
from .engine.gather import Gathering

if TYPE_CHECKING:
    from .engine.drive import Run
    from .engine.drive_async import AsyncRun


def _text(batch: list[Event]) -> str:
    if len(batch) == 1:
        event = batch[0]
        return event.text if type(event) is Text and not event.choice else ""
    return "".join([event.text for event in batch if type(event) is Text and not event.choice])


class _Stream:
    def __init__(self, so_far: Gathering) -> None:
        self._so_far = so_far
        self._whole: Reply | None = None

    @property
    def reply(self) -> Reply:
        """The whole reply once the stream has ended; before that, what has come so far."""
        return self._whole if self._whole is not None else self._so_far.reply()


class Stream(_Stream):
    """An answer as it comes.

    Nothing is sent before the first piece is asked for. Leaving the ``with`` block early closes the
    connection at once.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     with client.stream("almanac", "When do broad beans go in?") as stream:
        ...         text = "".join(stream)
        ...     text == stream.reply.text
        True
    """

    def __init__(self, run: "Run[Reply]", so_far: Gathering) -> None:
        super().__init__(so_far)
        self._run = run

    def __iter__(self) -> Iterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        # Not through `events`: a generator less on the way of every piece.
        if self._whole is None:
            advance = self._run.advance
            while (batch := advance()) is not None:
                if text := _text(batch):
                    yield text
            self._whole = self._run.result

    def events(self) -> Iterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        if self._whole is None:
            while (batch := self._run.advance()) is not None:
                yield from batch
            self._whole = self._run.result

    def close(self) -> None:
        """Stop, and close the connection."""
        self._run.close()

    def __enter__(self) -> "Stream":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class AsyncStream(_Stream):
    """`Stream` for asyncio."""

    def __init__(self, run: "AsyncRun[Reply]", so_far: Gathering) -> None:
        super().__init__(so_far)
        self._run = run

    async def __aiter__(self) -> AsyncIterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        if self._whole is None:
            advance = self._run.advance
            while (batch := await advance()) is not None:
                if text := _text(batch):
                    yield text
            self._whole = self._run.result

    async def events(self) -> AsyncIterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        if self._whole is None:
            while (batch := await self._run.advance()) is not None:
                for event in batch:
                    yield event
            self._whole = self._run.result

    async def aclose(self) -> None:
        """Stop, and close the connection."""
        await self._run.close()

    async def __aenter__(self) -> "AsyncStream":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()
