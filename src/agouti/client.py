"""The client: one per application, for threads (`Client`) or for tasks (`AsyncClient`).

Both prepare a call in the same way and hand it to the engine; they differ in the driver alone.
"""

from collections.abc import AsyncIterator, Iterable, Iterator, Mapping
from time import perf_counter
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar, Unpack, overload

from .core.canonical import asked
from .core.chat import Json, Message
from .core.prompt import Prompt
from .core.reply import Reply
from .dialects.base import ListedModel
from .engine.exchange import ask, stream
from .engine.gather import Gathering
from .engine.listing import listing
from .options import AskOptions, EmbedOptions, FillOptions, Options, without_rounds
from .preparing import Configuration, Path, Preparing
from .streams import AsyncStream, Stream
from .transport.base import AsyncTransport, SyncTransport

if TYPE_CHECKING:
    from typing import Self

    from .conversation import AsyncConversation, Conversation
    from .core.filled import Filled
    from .embeddings import Embeddings
    from .engine.drive import Run
    from .engine.drive_async import AsyncRun
    from .engine.effects import Steps
    from .growing import AsyncFillStream, FillStream

T = TypeVar("T")


class Client(Preparing):
    """Calls models from threads; safe to share between them.

    Args:
        config: a path, a mapping or a `Config`; by default the configuration is looked for.
        transport: an HTTP stack of your own: see `agouti.transport.base.SyncTransport`.
        record: write every exchange into this HTTP Archive, keys masked.
        replay: answer from this HTTP Archive; no network and no key is needed.
        connections: how many are kept open to one provider.

    Raises:
        ConfigError: there is no configuration, or something in it is wrong.

    Example:
        >>> import agouti, agouti.standins
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     reply = client.ask("almanac", "When do broad beans go in?", max_tokens=5)
        ...     print(reply.finish_reason, reply.truncated, reply.usage.output_tokens)
        length True 5
    """

    def __init__(
        self,
        config: Configuration | None = None,
        *,
        transport: SyncTransport | None = None,
        record: Path | None = None,
        replay: Path | None = None,
        connections: int = 64,
    ) -> None:
        super().__init__(config, record=record, replay=replay)
        self._connections = connections
        self._transport = transport
        self._driver: type[Run[Any]] | None = None
        if record is not None or replay is not None:
            self._transport = self._archived()

    def ask(self, model: str, prompt: Prompt, **options: Unpack[AskOptions]) -> Reply:
        """Ask, and wait for the whole reply.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            prompt: a text, or a list of messages.
            options: see `AskOptions` and `Options`.

        Raises:
            AgoutiError: see `agouti.core.errors` for the tree.
        """
        if options.get("run_tools"):
            return self.run(self._rounds(model, prompt, options).steps()).reply
        return self.run(ask(self._call(model, prompt, without_rounds(options))))

    def stream(self, model: str, prompt: Prompt, **options: Unpack[Options]) -> Stream:
        """Ask, and get the answer in pieces as it comes: see `Stream`. Arguments as for `ask`."""
        so_far = Gathering()
        steps = stream(self._call(model, prompt, options, streams=True), so_far)
        return Stream(self._run(steps), so_far)

    def exchange(self, body: Mapping[str, Json]) -> dict[str, Json]:
        """An OpenAI-compatible request as JSON in, the same kind of reply out, whatever the provider speaks.

        Args:
            body: ``model`` is a label, or ``NAME@PROVIDER``. Fields that are no parameters are passed on untouched.

        Example:
            >>> import agouti, agouti.standins
            >>> body = {"model": "envelope-2@letterbox", "messages": [{"role": "user", "content": "Peas?"}]}
            >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
            ...     client.exchange(body)["choices"][0]["finish_reason"]
            'stop'
        """
        given = asked(body)
        return self._exchanged(self.ask(given.model, given.messages, **given.options))

    def exchange_stream(self, body: Mapping[str, Json]) -> Iterator[dict[str, Json]]:
        """As `exchange`, but the chunks of a stream as they come; closing the iterator closes the connection."""
        given = asked(body)
        call, chunks = self._chunked(given)
        so_far = Gathering()
        with Stream(self._run(stream(call, so_far)), so_far) as streamed:
            for event in streamed.events():
                yield from chunks.of((event,))

    @overload
    def fill(self, model: str, kind: type[T], prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[T]": ...
    @overload
    def fill(self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[Any]": ...
    def fill(self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[Any]":
        """Get a value of a type of your own, checked.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            kind: a pydantic model, a dataclass, a TypedDict, an Enum, a Literal, a list of those, a plain type, or a
                JSON Schema as a dict.
            prompt: what it is to be filled from.
            options: see `FillOptions`.

        Returns:
            ``value``, ``reply``, ``attempts`` and ``means``: see `agouti.core.filled.Filled`.

        Raises:
            NotFilled: no answer fitted; carries every answer and what was wrong with it.
            RequestError: the type cannot be made into a form.

        Example:
            >>> import agouti, agouti.standins
            >>> from typing import Literal
            >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
            ...     client.fill("almanac", Literal["bean", "pea", "kale"], "Old Fen Curled, a kale").value
            'kale'
        """
        call, _ = self._form_call(model, kind, prompt, options)
        return self.run(call.steps())

    def stream_fill(self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]) -> "FillStream[Any]":
        """As `fill`, and see the value grow meanwhile: see `FillStream`."""
        from .growing import FillStream

        so_far = Gathering()
        call, form = self._form_call(model, kind, prompt, options, streams=True)
        return FillStream(self._run(call.streamed(so_far)), so_far, form.unwrapped)

    def conversation(
        self,
        model: str,
        *,
        messages: Iterable[Message | Mapping[str, Json]] = (),
        **options: Unpack[AskOptions],
    ) -> "Conversation":
        """A conversation with a model, which keeps what has been said: see `Conversation`.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            messages: what has been said before, such as ``messages`` of an earlier one.
            options: as for `ask`, for every turn; functions in ``tools`` are run.
        """
        from .conversation import Conversation

        return Conversation(self, self._run, model, messages, options)

    def embed(
        self,
        model: str,
        texts: str | Iterable[str],
        *,
        dimensions: int | None = None,
        concurrency: int = 4,
        **options: Unpack[EmbedOptions],
    ) -> "Embeddings":
        """Turn texts into vectors: any number of them, in batches as large as the provider takes.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            texts: one text, or many; none of them empty.
            dimensions: how long the vectors are to be, for models that can choose.
            concurrency: how many batches are asked for at a time.
            options: ``deadline`` and ``extra``, as for `ask`.

        Returns:
            One float32 array and its texts, in the given order: see `agouti.Embeddings`.

        Raises:
            RequestError: a text is empty (says which), or the dialect has no embeddings.
            ContextOverflow: a text is too long: says which.
            ReplyUnreadable: the vectors are not of one length, or not of the one asked for.
        """
        from .embeddings import assembled
        from .engine.embedding import batches

        started = perf_counter()
        embedding, given = self._embedding(model, texts, dimensions, concurrency, options)
        parts = list(batches(given, embedding.most_texts))
        if len(parts) == 1:
            pieces = self.run(embedding.steps(parts[0]))
        else:
            from concurrent.futures import ThreadPoolExecutor

            with ThreadPoolExecutor(min(concurrency, len(parts))) as pool:
                work = [pool.submit(self.run, embedding.steps(part)) for part in parts]
                try:
                    pieces = [piece for each in work for piece in each.result()]
                except BaseException:
                    # Those that have not begun would only cost.
                    pool.shutdown(wait=True, cancel_futures=True)
                    raise
        return assembled(given, pieces, label=model, dimensions=dimensions, elapsed=perf_counter() - started)

    def models(self, provider: str) -> tuple[ListedModel, ...]:
        """The provider's own list of models: exact names, and what else it says of them.

        Example:
            >>> import agouti, agouti.standins
            >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
            ...     [model.name for model in client.models("shed")]
            ['loam-2b', 'loam-7b']

        Raises:
            LabelUnknown: there is no such provider.
            RequestError: its dialect has no list.
        """
        return self.run(listing(self.about(provider))).models

    def run(self, steps: "Steps[T]") -> T:
        """Run steps of the engine to their end, for services."""
        run = self._run(steps)
        run.advance()
        return run.result

    def close(self) -> None:
        """Close all connections. The client can not be used afterwards."""
        if self._transport is not None:
            self._transport.close()

    def __enter__(self) -> "Self":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def _run(self, steps: "Steps[T]") -> "Run[T]":
        if self._driver is None:
            # Imported once, when it is first needed, and not looked up again for every call.
            from .engine.drive import Run

            self._driver = Run
        if self._transport is None:
            self._transport = self._network()
        return self._driver(steps, self._transport, self._environment)

    def _network(self) -> SyncTransport:
        from .transport.sync import Urllib3Transport

        return Urllib3Transport(connections=self._connections)

    def _archived(self) -> SyncTransport:
        from .transport.archive import Recorder, RecordingTransport, ReplayTransport, read_archive

        if self._replay is not None:
            return ReplayTransport(read_archive(self._replay))
        return RecordingTransport(self._transport or self._network(), Recorder(self._record or ""))


class AsyncClient(Preparing):
    """`Client` for asyncio: the same methods, awaited; safe to share between the tasks of one loop.

    Arguments as for `Client`; ``connections`` is the most that are open at one time.

    Example:
        >>> import asyncio, agouti, agouti.standins
        >>> async def main(config):
        ...     async with agouti.AsyncClient(config) as client:
        ...         return await client.ask("almanac", "When do broad beans go in?", max_tokens=5)
        >>> with agouti.standins.serve() as served:
        ...     print(asyncio.run(main(served.config)).truncated)
        True
    """

    def __init__(
        self,
        config: Configuration | None = None,
        *,
        transport: AsyncTransport | None = None,
        record: Path | None = None,
        replay: Path | None = None,
        connections: int = 256,
    ) -> None:
        super().__init__(config, record=record, replay=replay)
        self._connections = connections
        self._transport = transport
        self._driver: type[AsyncRun[Any]] | None = None
        if record is not None or replay is not None:
            self._transport = self._archived()

    async def ask(self, model: str, prompt: Prompt, **options: Unpack[AskOptions]) -> Reply:
        """Ask, and wait for the whole reply; as `Client.ask`."""
        if options.get("run_tools"):
            return (await self.run(self._rounds(model, prompt, options).steps())).reply
        run = self._run(ask(self._call(model, prompt, without_rounds(options))))
        await run.advance()
        return run.result

    def stream(self, model: str, prompt: Prompt, **options: Unpack[Options]) -> AsyncStream:
        """Ask, and get the answer in pieces as it comes; as `Client.stream`, with ``async with`` and ``async for``."""
        so_far = Gathering()
        steps = stream(self._call(model, prompt, options, streams=True), so_far)
        return AsyncStream(self._run(steps), so_far)

    async def exchange(self, body: Mapping[str, Json]) -> dict[str, Json]:
        """An OpenAI-compatible request as JSON in, the same kind of reply out; as `Client.exchange`."""
        given = asked(body)
        return self._exchanged(await self.ask(given.model, given.messages, **given.options))

    async def exchange_stream(self, body: Mapping[str, Json]) -> AsyncIterator[dict[str, Json]]:
        """The chunks of a stream as they come; as `Client.exchange_stream`."""
        given = asked(body)
        call, chunks = self._chunked(given)
        so_far = Gathering()
        async with AsyncStream(self._run(stream(call, so_far)), so_far) as streamed:
            async for event in streamed.events():
                for chunk in chunks.of((event,)):
                    yield chunk

    @overload
    async def fill(self, model: str, kind: type[T], prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[T]": ...
    @overload
    async def fill(self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[Any]": ...
    async def fill(self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]) -> "Filled[Any]":
        """Get a value of a type of your own, checked; as `Client.fill`."""
        call, _ = self._form_call(model, kind, prompt, options)
        return await self.run(call.steps())

    def stream_fill(
        self, model: str, kind: Any, prompt: Prompt, **options: Unpack[FillOptions]
    ) -> "AsyncFillStream[Any]":
        """As `fill`, and see the value grow meanwhile; as `Client.stream_fill`."""
        from .growing import AsyncFillStream

        so_far = Gathering()
        call, form = self._form_call(model, kind, prompt, options, streams=True)
        return AsyncFillStream(self._run(call.streamed(so_far)), so_far, form.unwrapped)

    def conversation(
        self,
        model: str,
        *,
        messages: Iterable[Message | Mapping[str, Json]] = (),
        **options: Unpack[AskOptions],
    ) -> "AsyncConversation":
        """A conversation with a model; as `Client.conversation`."""
        from .conversation import AsyncConversation

        return AsyncConversation(self, self._run, model, messages, options)

    async def embed(
        self,
        model: str,
        texts: str | Iterable[str],
        *,
        dimensions: int | None = None,
        concurrency: int = 4,
        **options: Unpack[EmbedOptions],
    ) -> "Embeddings":
        """Turn texts into vectors; as `Client.embed`."""
        import asyncio

        from .embeddings import assembled
        from .engine.embedding import Batch, Embedded, batches

        started = perf_counter()
        embedding, given = self._embedding(model, texts, dimensions, concurrency, options)
        room = asyncio.Semaphore(concurrency)

        async def got(part: Batch) -> list[Embedded]:
            async with room:
                return await self.run(embedding.steps(part))

        try:
            async with asyncio.TaskGroup() as group:
                work = [group.create_task(got(part)) for part in batches(given, embedding.most_texts)]
        except* Exception as several:
            raise several.exceptions[0] from None
        pieces = [piece for each in work for piece in each.result()]
        return assembled(given, pieces, label=model, dimensions=dimensions, elapsed=perf_counter() - started)

    async def models(self, provider: str) -> tuple[ListedModel, ...]:
        """The provider's own list of models; as `Client.models`."""
        return (await self.run(listing(self.about(provider)))).models

    async def run(self, steps: "Steps[T]") -> T:
        """Run steps of the engine to their end, for services."""
        run = self._run(steps)
        await run.advance()
        return run.result

    async def aclose(self) -> None:
        """Close all connections."""
        if self._transport is not None:
            await self._transport.close()

    async def __aenter__(self) -> "Self":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()

    def _run(self, steps: "Steps[T]") -> "AsyncRun[T]":
        if self._driver is None:
            from .engine.drive_async import AsyncRun

            self._driver = AsyncRun
        if self._transport is None:
            self._transport = self._network()
        return self._driver(steps, self._transport, self._environment)

    def _network(self) -> AsyncTransport:
        from .transport.aio import AiohttpTransport

        return AiohttpTransport(connections=self._connections)

    def _archived(self) -> AsyncTransport:
        from .transport.archive import AsyncRecordingTransport, AsyncReplayTransport, Recorder, read_archive

        if self._replay is not None:
            return AsyncReplayTransport(read_archive(self._replay))
        return AsyncRecordingTransport(self._transport or self._network(), Recorder(self._record or ""))
