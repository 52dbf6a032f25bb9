"""Streaming, as a caller sees it: an iterator of text, events or a growing value; the reply so far at any moment."""

from collections.abc import AsyncIterator, Callable, Iterator
from types import TracebackType
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from .core.chat import Json
from .core.errors import RequestError
from .core.events import Event, Text
from .engine.accumulate import ReplyAccumulator
from .reply import Reply

if TYPE_CHECKING:
    from .core.json_growing import Growing
    from .engine.drive import SyncDriver
    from .engine.drive_async import AsyncDriver
    from .filled import Filled

T = TypeVar("T")


def _text(batch: list[Event]) -> str:
    if len(batch) == 1:
        event = batch[0]
        return event.text if type(event) is Text and not event.choice else ""
    return "".join([event.text for event in batch if type(event) is Text and not event.choice])


class _Stream:
    def __init__(self, so_far: ReplyAccumulator) -> None:
        self._so_far = so_far
        self._whole: Reply | None = None

    def _ended(self, result: Any) -> None:
        """The steps have ended with this."""
        self._whole = result

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

    def __init__(self, driver: "SyncDriver[Any]", so_far: ReplyAccumulator) -> None:
        super().__init__(so_far)
        self._driver = driver

    def batches(self) -> Iterator[list[Event]]:
        """Events in lists, those together that arrive together."""
        if self._whole is None:
            advance = self._driver.advance
            try:
                while (batch := advance()) is not None:
                    yield batch
            except GeneratorExit:  # the loop around it was left
                self._driver.close()
                raise
            self._ended(self._driver.result)

    def __iter__(self) -> Iterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        # Not through `batches`: a generator less on the way of every piece.
        if self._whole is None:
            advance = self._driver.advance
            try:
                while (batch := advance()) is not None:
                    if text := _text(batch):
                        yield text
            except GeneratorExit:  # the loop around it was left
                self._driver.close()
                raise
            self._ended(self._driver.result)

    def events(self) -> Iterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        for batch in self.batches():
            yield from batch

    def close(self) -> None:
        """Stop, and close the connection."""
        self._driver.close()

    def __enter__(self) -> "Stream":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class AsyncStream(_Stream):
    """`Stream` for asyncio."""

    def __init__(self, driver: "AsyncDriver[Any]", so_far: ReplyAccumulator) -> None:
        super().__init__(so_far)
        self._driver = driver

    async def batches(self) -> AsyncIterator[list[Event]]:
        """Events in lists, those together that arrive together."""
        if self._whole is None:
            advance = self._driver.advance
            try:
                while (batch := await advance()) is not None:
                    yield batch
            except GeneratorExit:  # the loop around it was left
                await self._driver.close()
                raise
            self._ended(self._driver.result)

    async def __aiter__(self) -> AsyncIterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        if self._whole is None:
            advance = self._driver.advance
            try:
                while (batch := await advance()) is not None:
                    if text := _text(batch):
                        yield text
            except GeneratorExit:  # the loop around it was left
                await self._driver.close()
                raise
            self._ended(self._driver.result)

    async def events(self) -> AsyncIterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        async for batch in self.batches():
            for event in batch:
                yield event

    async def aclose(self) -> None:
        """Stop, and close the connection."""
        await self._driver.close()

    async def __aenter__(self) -> "AsyncStream":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()


class _Filling(Generic[T]):
    """What both streams of a growing value share."""

    _growing: "Growing"
    _filled: "Filled[T] | None" = None

    @property
    def filled(self) -> "Filled[T]":
        """The checked value, once the stream has ended.

        Raises:
            RequestError: it has not, or it failed.
        """
        if self._filled is None:
            raise RequestError(
                "there is no checked value: the stream has not come to a good end",
                hint="Iterate over it to its end first; what has come so far is in reply.",
            )
        return self._filled


class FillStream(_Filling[T], Stream):
    """A value as it grows, and in the end checked.

    Iterating gives plain JSON values (dicts, lists, texts): those of containers are the same objects all the time,
    growing; copy one to keep it. A number or a literal appears once it is whole. Afterwards ``filled`` is what `fill`
    gives; an answer that does not fit has been given back for repair by then.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     with client.stream_fill("almanac", list[int], "18 up\\n24 sown") as growing:
        ...         lengths = [len(value or []) for value in growing]
        >>> growing.filled.value, lengths[-1]
        ([18, 24], 2)
    """

    def __init__(
        self, driver: "SyncDriver[Filled[T]]", so_far: ReplyAccumulator, unwrapped: Callable[[Json], Json]
    ) -> None:
        from .core.json_growing import Growing

        super().__init__(driver, so_far)
        self._growing = Growing(unwrapped)

    def _ended(self, result: "Filled[T]") -> None:
        self._filled = result
        self._whole = result.reply

    def __iter__(self) -> Iterator[Json]:
        """The value so far, each time that it has grown."""
        for batch in self.batches():
            if self._growing.take(batch):
                yield self._growing.value

    def __enter__(self) -> "FillStream[T]":
        return self


class AsyncFillStream(_Filling[T], AsyncStream):
    """`FillStream` for asyncio."""

    def __init__(
        self, driver: "AsyncDriver[Filled[T]]", so_far: ReplyAccumulator, unwrapped: Callable[[Json], Json]
    ) -> None:
        from .core.json_growing import Growing

        super().__init__(driver, so_far)
        self._growing = Growing(unwrapped)

    def _ended(self, result: "Filled[T]") -> None:
        self._filled = result
        self._whole = result.reply

    async def __aiter__(self) -> AsyncIterator[Json]:
        """The value so far, each time that it has grown."""
        async for batch in self.batches():
            if self._growing.take(batch):
                yield self._growing.value

    async def __aenter__(self) -> "AsyncFillStream[T]":
        return self
