"""Streaming, as a caller sees it: an iterator of text, events or a growing value; the reply so far at any moment."""

from collections.abc import AsyncIterator, Iterator
from types import TracebackType
from typing import TYPE_CHECKING, Any, Generic, Literal, TypeVar

from ..core.canonical.chat import Json
from ..core.canonical.events import Event, Text
from ..core.errors import AgoutiError, RequestError
from ..engine.receiving.accumulate import ReplyAccumulator
from ..forms.form import Misfit
from ..forms.plain_values import plain_value
from ..replies.reply import Reply

if TYPE_CHECKING:
    from ..core.schemas.growing import Growing
    from ..engine.drivers.async_driver import AsyncDriver
    from ..engine.drivers.sync_driver import SyncDriver
    from ..forms.form import Form
    from ..replies.filled import Filled
    from ..tables.notebook import Live

T = TypeVar("T")


def _text(batch: list[Event]) -> str:
    if len(batch) == 1:
        event = batch[0]
        return event.text if type(event) is Text and not event.choice else ""
    return "".join([event.text for event in batch if type(event) is Text and not event.choice])


def _not_read(reason: str) -> RequestError:
    if reason == "reading":
        return RequestError(
            "somebody reads this stream already",
            hint="One reader takes a stream; for several, give each piece on from one loop.",
        )
    return RequestError(
        "this stream was left before its end, and its connection is closed",
        hint="What had come is in stream.reply. To stop in between, keep one iterator and call next() on it.",
    )


def _live() -> "Live":
    from ..tables.notebook import Live

    return Live()


class _Stream:
    def __init__(self, accumulator: ReplyAccumulator) -> None:
        self._accumulator = accumulator
        self._result: Reply | None = None
        self._failure: AgoutiError | None = None
        self._reader: Literal["none", "reading", "left"] = "none"

    def _begins(self) -> bool:
        """Whether there is more to come, for the one who reads it.

        Raises:
            AgoutiError: it has failed before, and whoever iterates again gets the same error; somebody else reads it;
                or it was left before its end.
        """
        if self._failure is not None:
            raise self._failure
        if self._result is not None:
            return False
        if self._reader != "none":
            raise _not_read(self._reader)
        self._reader = "reading"
        return True

    def _leaves(self) -> None:
        """Whoever read it does so no more."""
        if self._result is None and self._failure is None:
            self._reader = "left"

    def _ended(self, result: Any) -> None:
        """The steps have ended with this."""
        self._result = result

    @property
    def reply(self) -> Reply:
        """The whole reply once the stream has ended; before that, what has come so far."""
        return self._result if self._result is not None else self._accumulator.reply()


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

    def __init__(self, driver: "SyncDriver[Any]", accumulator: ReplyAccumulator) -> None:
        super().__init__(accumulator)
        self._driver = driver

    def batches(self) -> Iterator[list[Event]]:
        """Events in lists, those together that arrive together."""
        if self._begins():
            advance = self._driver.advance
            try:
                while (batch := advance()) is not None:
                    yield batch
            except GeneratorExit:  # the loop around it was left
                self._driver.close()
                raise
            except AgoutiError as error:
                self._failure = error
                raise
            else:
                self._ended(self._driver.result)
            finally:
                self._leaves()

    def __iter__(self) -> Iterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        # Not through `batches`: a generator less on the way of every piece.
        if self._begins():
            advance = self._driver.advance
            try:
                while (batch := advance()) is not None:
                    if text := _text(batch):
                        yield text
            except GeneratorExit:  # the loop around it was left
                self._driver.close()
                raise
            except AgoutiError as error:
                self._failure = error
                raise
            else:
                self._ended(self._driver.result)
            finally:
                self._leaves()

    def events(self) -> Iterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        for batch in self.batches():
            yield from batch

    def show(self) -> None:
        """Show the text as it comes: live in the cell of a notebook, printed elsewhere; then ``reply`` is the whole."""
        live = _live()
        for batch in self.batches():
            if text := _text(batch):
                live.add(text)
        live.end()

    def _ipython_display_(self) -> None:
        self.show()

    def close(self) -> None:
        """Stop, and close the connection."""
        self._leaves()
        self._driver.close()

    def __enter__(self) -> "Stream":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class AsyncStream(_Stream):
    """`Stream` for asyncio."""

    def __init__(self, driver: "AsyncDriver[Any]", accumulator: ReplyAccumulator) -> None:
        super().__init__(accumulator)
        self._driver = driver

    async def batches(self) -> AsyncIterator[list[Event]]:
        """Events in lists, those together that arrive together."""
        if self._begins():
            advance = self._driver.advance
            try:
                while (batch := await advance()) is not None:
                    yield batch
            except GeneratorExit:  # the loop around it was left
                await self._driver.close()
                raise
            except AgoutiError as error:
                self._failure = error
                raise
            else:
                self._ended(self._driver.result)
            finally:
                self._leaves()

    async def __aiter__(self) -> AsyncIterator[str]:
        """The (first) answer's text as it comes; pieces that arrive together come as one."""
        if self._begins():
            advance = self._driver.advance
            try:
                while (batch := await advance()) is not None:
                    if text := _text(batch):
                        yield text
            except GeneratorExit:  # the loop around it was left
                await self._driver.close()
                raise
            except AgoutiError as error:
                self._failure = error
                raise
            else:
                self._ended(self._driver.result)
            finally:
                self._leaves()

    def __iter__(self) -> Iterator[str]:
        """Only to say how it is read."""
        raise RequestError(
            "this stream is one of AsyncClient", hint="Read it in a coroutine: async for text in stream."
        )

    async def events(self) -> AsyncIterator[Event]:
        """Everything that happens, as typed events: see `agouti.events`."""
        async for batch in self.batches():
            for event in batch:
                yield event

    async def show(self) -> None:
        """Show the text as it comes, as `Stream.show`."""
        live = _live()
        async for batch in self.batches():
            if text := _text(batch):
                live.add(text)
        live.end()

    async def aclose(self) -> None:
        """Stop, and close the connection."""
        self._leaves()
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
    _item: "Form | None"
    _filled: "Filled[T] | None" = None

    def _starts(self, form: "Form", item: "Form | None") -> None:
        from ..core.schemas.growing import Growing

        self._growing = Growing(form.unwrapped, lists=form.wrapped, schema=form.schema)
        self._item = item
        self._returned = 0

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

    def _repaired_items(self) -> list[Json]:
        """The value in the end, where it is another one than what was shown while it came."""
        filled = self._filled
        if filled is None or not (filled.repairs_applied or len(filled.answers) > 1):
            return []
        value = plain_value(filled.value)
        return [value] if value != self._growing.value else []

    def _new_items(self) -> list[Any]:
        """The items that have become whole since the last time; none behind one that does not fit."""
        if self._item is None:
            raise RequestError(
                "items are those of a list", hint="Ask for one: client.stream_fill(label, list[TYPE], prompt).items()."
            )
        items: list[Any] = []
        for each in self._growing.whole_items[self._returned :]:
            try:
                items.append(self._item.read(each))
            except Misfit:
                self._returned = 2**62  # what is wrong is mended first, or the answer is given back
                return items
            self._returned += 1
        return items

    def _last_items(self) -> list[Any]:
        """The items that have not been given, once the whole value is there."""
        value = self.filled.value
        yielded = self._yielded
        return list(value)[yielded:] if isinstance(value, (list, tuple)) else []

    _returned = 0
    _yielded = 0


class FillStream(_Filling[T], Stream):
    """A value as it grows, and in the end checked.

    Iterating gives plain JSON values (dicts, lists, texts) each time that there is more of it: those of containers are
    the same objects all the time, growing; copy one to keep it. A number, a literal, a choice and a date appear once
    they are whole. A value that was mended, or given back for repair, comes once more as it is in the end. Afterwards
    ``filled`` is what `fill` gives. `items` gives the items of a list, each when it is whole.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     with client.stream_fill("almanac", list[int], "18 up\\n24 sown") as growing:
        ...         lengths = [len(value or []) for value in growing]
        >>> growing.filled.value, lengths[-1]
        ([18, 24], 2)
    """

    def __init__(
        self, driver: "SyncDriver[Filled[T]]", accumulator: ReplyAccumulator, form: "Form", item: "Form | None"
    ) -> None:
        super().__init__(driver, accumulator)
        self._starts(form, item)

    def _ended(self, result: "Filled[T]") -> None:
        self._filled = result
        self._result = result.reply

    def __iter__(self) -> Iterator[Json]:
        """The value so far, each time that it has grown."""
        for batch in self.batches():
            if self._growing.add(batch):
                yield self._growing.value
        yield from self._repaired_items()

    def items(self) -> Iterator[Any]:
        """The items of a list, of the application's own type, each as soon as it is whole.

        Raises:
            RequestError: it is no list that was asked for.
        """
        self._new_items()
        for batch in self.batches():
            self._growing.add(batch)
            for item in self._new_items():
                self._yielded += 1
                yield item
        yield from self._last_items()

    def __enter__(self) -> "FillStream[T]":
        return self


class AsyncFillStream(_Filling[T], AsyncStream):
    """`FillStream` for asyncio."""

    def __init__(
        self, driver: "AsyncDriver[Filled[T]]", accumulator: ReplyAccumulator, form: "Form", item: "Form | None"
    ) -> None:
        super().__init__(driver, accumulator)
        self._starts(form, item)

    def _ended(self, result: "Filled[T]") -> None:
        self._filled = result
        self._result = result.reply

    async def __aiter__(self) -> AsyncIterator[Json]:
        """The value so far, each time that it has grown."""
        async for batch in self.batches():
            if self._growing.add(batch):
                yield self._growing.value
        for value in self._repaired_items():
            yield value

    async def items(self) -> AsyncIterator[Any]:
        """The items of a list, each as soon as it is whole; as `FillStream.items`."""
        self._new_items()
        async for batch in self.batches():
            self._growing.add(batch)
            for item in self._new_items():
                self._yielded += 1
                yield item
        for item in self._last_items():
            yield item

    async def __aenter__(self) -> "AsyncFillStream[T]":
        return self
