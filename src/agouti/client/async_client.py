"""The client for tasks: the same calls as `Client`, awaited."""

from collections.abc import AsyncIterator, Iterable, Mapping
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar, Unpack, overload

from .._former import renamed
from ..calls.arguments import split_tools
from ..calls.calls import Configuration, FilePath
from ..calls.usage_calls import AsyncUsageCalls
from ..core.canonical.chat import Json, Message
from ..engine.operations.chat import ask
from ..replies.reply import Reply
from ..runtime.lazy_import import without_collecting
from ..transport.test_override import ACTIVE, AsyncGuarded, if_allowed, instead_of

if TYPE_CHECKING:
    from typing import Self

    from ..calls.options import AskOptions, EmbedOptions, ExchangeOptions, FillOptions, Limits, Options, Prompt
    from ..calls.streams import AsyncFillStream, AsyncStream
    from ..conversations.conversation import AsyncConversation, Fit
    from ..embeddings.embeddings import Embeddings
    from ..engine.drivers.async_driver import AsyncDriver
    from ..engine.effects import Steps
    from ..engine.hooks import Hook
    from ..engine.operations.count import TokenCount
    from ..replies.filled import Filled
    from ..replies.model_list import ModelList
    from ..transport.base import AsyncTransport

T = TypeVar("T")


class AsyncClient(AsyncUsageCalls):
    """`Client` for asyncio: the same methods, awaited; safe to share between the tasks of one loop.

    Arguments as for `Client`.

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
        transport: "AsyncTransport | None" = None,
        record: FilePath | None = None,
        replay: FilePath | None = None,
        connections: int = 256,
        hooks: "Iterable[Hook]" = (),
        **limits: "Unpack[Limits]",
    ) -> None:
        configs = [config]
        del config
        super().__init__(configs.pop(), record=record, replay=replay, hooks=hooks, limits=limits)
        self._connections = connections
        self._transport = transport
        self._drives: type[AsyncDriver[Any]] | None = None
        if record is not None or replay is not None:
            self._transport = self._archived()

    async def ask(self, model: str, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Ask, and wait for the whole reply; as `Client.ask`."""
        if options.get("run_tools"):
            return (await self._run(self._calls.tool_loop(model, prompt, options).steps())).reply
        driver = self._driver(ask(self._calls.chat(model, prompt, split_tools(options)[0])))
        await driver.advance()
        return driver.result

    def stream(self, model: str, prompt: "Prompt", **options: "Unpack[Options]") -> "AsyncStream":
        """Ask, and get the answer in pieces as it comes; as `Client.stream`, with ``async with`` and ``async for``."""
        from ..calls.streams import AsyncStream
        from ..engine.operations.chat_streamed import stream
        from ..engine.receiving.accumulate import ReplyAccumulator

        accumulator = ReplyAccumulator()
        steps = stream(self._calls.chat(model, prompt, options, stream=True), accumulator)
        return AsyncStream(self._driver(steps), accumulator)

    async def exchange(self, body: Mapping[str, Json], **limits: "Unpack[ExchangeOptions]") -> dict[str, Json]:
        """An OpenAI-compatible request as JSON in, the same kind of reply out; as `Client.exchange`."""
        request = self._calls.chat_request(body, limits)
        return self._calls.exchanged(await self.ask(request.model, request.messages, **request.options))

    async def exchange_stream(
        self, body: Mapping[str, Json], **limits: "Unpack[ExchangeOptions]"
    ) -> AsyncIterator[dict[str, Json]]:
        """The chunks of a stream as they come; as `Client.exchange_stream`."""
        from ..calls.streams import AsyncStream
        from ..engine.operations.chat_streamed import CANONICAL, stream
        from ..engine.receiving.accumulate import ReplyAccumulator

        call, chunks = self._calls.chunked(self._calls.chat_request(body, limits))
        accumulator = ReplyAccumulator()
        async with AsyncStream(self._driver(stream(call, accumulator, verbatim=CANONICAL)), accumulator) as streamed:
            async for batch in streamed.batches():
                for chunk in chunks.of(batch):
                    yield chunk
        for chunk in chunks.last():
            yield chunk

    @overload
    async def fill(
        self, model: str, form: type[T], prompt: "Prompt", **options: "Unpack[FillOptions]"
    ) -> "Filled[T]": ...
    @overload
    async def fill(
        self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]"
    ) -> "Filled[Any]": ...
    @renamed("fill")
    async def fill(self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]") -> "Filled[Any]":
        """Get a value of a type of your own, checked; as `Client.fill`."""
        call, _ = self._calls.form(model, form, prompt, options)
        return await self._run(call.steps())

    @renamed("fill")
    def stream_fill(
        self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]"
    ) -> "AsyncFillStream[Any]":
        """Get a value of a type of your own, and watch it grow meanwhile; as `Client.stream_fill`."""
        from ..calls.streams import AsyncFillStream
        from ..engine.receiving.accumulate import ReplyAccumulator
        from ..forms.build import item_form

        accumulator = ReplyAccumulator()
        call, built_form = self._calls.form(model, form, prompt, options, stream=True)
        return AsyncFillStream(self._driver(call.steps(accumulator)), accumulator, built_form, item_form(form))

    @renamed("conversation")
    def conversation(
        self,
        model: str,
        *,
        messages: Iterable[Message | Mapping[str, Json]] | FilePath = (),
        on_overflow: "Fit | None" = None,
        **options: "Unpack[AskOptions]",
    ) -> "AsyncConversation":
        """A conversation with a model; as `Client.conversation`."""
        from ..conversations.conversation import AsyncConversation

        return AsyncConversation(self._calls, self._driver, model, messages, on_overflow, options)

    async def embed(
        self,
        model: str,
        texts: str | Iterable[str],
        *,
        dimensions: int | None = None,
        concurrency: int = 4,
        **options: "Unpack[EmbedOptions]",
    ) -> "Embeddings":
        """Turn texts into vectors; as `Client.embed`."""
        return await self._run(
            self._calls.embedding(model, texts, dimensions=dimensions, concurrency=concurrency, options=options)
        )

    async def count(self, model: str, prompt: "Prompt", **options: "Unpack[Options]") -> "TokenCount":
        """Count the tokens of a prompt; as `Client.count`."""
        from ..engine.operations.count import count

        return await self._run(count(self._calls.chat(model, prompt, options)))

    async def models(self, provider: str | None = None) -> "ModelList":
        """The providers' own lists of models, live, joined with the entries; as `Client.models`."""
        return await self._run(self._calls.offered(provider))

    async def aclose(self) -> None:
        """Close all connections; the ledger is written."""
        import asyncio

        if await asyncio.to_thread(self._finish) and self._transport is not None:
            await self._transport.close()

    async def __aenter__(self) -> "Self":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.aclose()

    async def _run(self, steps: "Steps[T]") -> T:
        """Take steps of the engine to their end."""
        driver = self._driver(steps)
        await driver.advance()
        return driver.result

    def _driver(self, steps: "Steps[T]") -> "AsyncDriver[T]":
        drives, transport = self._drives, self._transport
        if drives is None or transport is None:
            drives, transport = self._load()
        if ACTIVE:
            transport = instead_of(transport, threads=False)
        return drives(steps, transport, self._environment)

    def _load(self) -> "tuple[type[AsyncDriver[Any]], AsyncTransport]":
        with without_collecting():
            from ..engine.drivers.async_driver import AsyncDriver

            self._drives, self._transport = AsyncDriver, self._transport or self._network()
        return self._drives, self._transport

    def _network(self) -> "AsyncTransport":
        from ..transport.aiohttp_transport import AiohttpTransport

        return if_allowed(AiohttpTransport(connections=self._connections), AsyncGuarded)

    def _archived(self) -> "AsyncTransport":
        from ..transport.archive import AsyncRecordingTransport, AsyncReplayTransport, read_archive
        from ..transport.recorder import Recorder

        if self._replay is not None:
            return AsyncReplayTransport(read_archive(self._replay))
        return AsyncRecordingTransport(self._transport or self._network(), Recorder(self._record or ""))
