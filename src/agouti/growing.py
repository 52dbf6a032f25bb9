"""Streams of a value that grows: what `Client.stream_fill` gives."""

from collections.abc import AsyncIterator, Callable, Iterator
from typing import TYPE_CHECKING, Generic, TypeVar

from .core.chat import Json
from .core.events import Event, Text, ToolCallPiece
from .core.filled import Filled
from .core.found import without_thoughts
from .core.partial import PartialReader
from .engine.gather import Gathering
from .streams import AsyncStream, Stream

if TYPE_CHECKING:
    from .engine.drive import Run
    from .engine.drive_async import AsyncRun

T = TypeVar("T")


class _Growing:
    """The value of a form as it grows: of the call where there is one, of the text where there is none."""

    def __init__(self, unwrapped: Callable[[Json], Json]) -> None:
        self._unwrapped = unwrapped
        self._text = _Document()
        self._call = _Document()

    def take(self, batch: list[Event]) -> bool:
        """Add events; whether there is more to see."""
        text = "".join([event.text for event in batch if type(event) is Text and not event.choice])
        pieces = "".join([event.arguments for event in batch if type(event) is ToolCallPiece and not event.index])
        called = self._call.feed(pieces) if pieces else False
        said = self._text.feed(text) if text else False
        return (called or (said and not self._call.reader.begun)) and self.value is not None

    @property
    def value(self) -> Json:
        """The value so far; `None` before it begins."""
        return self._unwrapped((self._call if self._call.reader.begun else self._text).reader.value)


class _Document:
    """A JSON document that may have words, a fence or thoughts before it."""

    def __init__(self) -> None:
        self.reader = PartialReader()
        self._before: str | None = ""

    def feed(self, text: str) -> bool:
        """Add text; whether the value can have grown."""
        if self._before is not None:
            self._before += text
            if not any(mark in text for mark in "{[>"):
                return False  # what comes before a document may be long: it is looked through only where one can begin
            rest = without_thoughts(self._before)
            start = min((place for place in (rest.find("{"), rest.find("[")) if place >= 0), default=-1)
            if start < 0:
                return False
            text, self._before = rest[start:], None
        if self.reader.complete or self.reader.broken:
            return False
        self.reader.feed(text)
        return self.reader.begun


class FillStream(Stream, Generic[T]):
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

    def __init__(self, run: "Run[Filled[T]]", so_far: Gathering, unwrapped: Callable[[Json], Json]) -> None:
        super().__init__(run, so_far)  # type: ignore[arg-type]  # it ends with more than a reply
        self._filling = run
        self._growing = _Growing(unwrapped)

    @property
    def filled(self) -> Filled[T]:
        """The checked value, once the stream has ended."""
        return self._filling.result

    def __iter__(self) -> Iterator[Json]:
        """The value so far, each time that it has grown."""
        while (batch := self._run.advance()) is not None:
            if self._growing.take(batch):
                yield self._growing.value
        self._whole = self.filled.reply

    def __enter__(self) -> "FillStream[T]":
        return self


class AsyncFillStream(AsyncStream, Generic[T]):
    """`FillStream` for asyncio."""

    def __init__(self, run: "AsyncRun[Filled[T]]", so_far: Gathering, unwrapped: Callable[[Json], Json]) -> None:
        super().__init__(run, so_far)  # type: ignore[arg-type]
        self._filling = run
        self._growing = _Growing(unwrapped)

    @property
    def filled(self) -> Filled[T]:
        """The checked value, once the stream has ended."""
        return self._filling.result

    async def __aiter__(self) -> AsyncIterator[Json]:
        """The value so far, each time that it has grown."""
        while (batch := await self._run.advance()) is not None:
            if self._growing.take(batch):
                yield self._growing.value
        self._whole = self.filled.reply

    async def __aenter__(self) -> "AsyncFillStream[T]":
        return self
