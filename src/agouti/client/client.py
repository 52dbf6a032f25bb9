"""The client: one per application, for threads (`Client`) or tasks (`AsyncClient`); they differ in the driver alone."""

from collections.abc import Iterable, Iterator, Mapping
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar, Unpack, overload

from .._former import renamed
from ..calls.arguments import split_tools
from ..calls.calls import Configuration, FilePath
from ..calls.usage_calls import UsageCalls
from ..core.canonical.chat import Json, Message
from ..engine.operations.chat import ask
from ..replies.reply import Reply
from ..runtime.lazy_import import without_collecting
from ..transport.test_override import ACTIVE, Guarded, if_allowed, instead_of

if TYPE_CHECKING:
    from typing import Self

    from ..calls.options import AskOptions, EmbedOptions, ExchangeOptions, FillOptions, Limits, Options, Prompt
    from ..calls.streams import FillStream, Stream
    from ..conversations.conversation import Conversation, Fit
    from ..embeddings.embeddings import Embeddings
    from ..engine.drivers.sync_driver import SyncDriver
    from ..engine.effects import Steps
    from ..engine.hooks import Hook
    from ..engine.operations.count import TokenCount
    from ..replies.filled import Filled
    from ..replies.model_list import ModelList
    from ..transport.base import SyncTransport

T = TypeVar("T")


class Client(UsageCalls):
    """Calls models from threads; safe to share between them.

    Args:
        config: a path, a mapping or a `Config`; by default the configuration is looked for.
        transport: an HTTP stack of your own: see `agouti.transport.base.SyncTransport`.
        record: write every exchange into this HTTP Archive, keys masked.
        replay: answer from this HTTP Archive; no network and no key is needed.
        connections: how many are open to one provider at a time; a call that finds all of them busy waits for one, as
            long as for a first byte.
        hooks: are told of every attempt, and may make it wait or refuse it: see `agouti.engine.hooks`.
        limits: ``deadline``, ``timeouts``, ``retries`` and ``headers`` of every call that says nothing else: see
            `agouti.calls.options.Limits`.

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
        transport: "SyncTransport | None" = None,
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
        self._drives: type[SyncDriver[Any]] | None = None
        if record is not None or replay is not None:
            self._transport = self._archived()

    def ask(self, model: str, prompt: "Prompt", **options: "Unpack[AskOptions]") -> Reply:
        """Ask, and wait for the whole reply.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            prompt: a text, a list of parts, a list of messages, or a `Question`.
            options: see `agouti.calls.options.AskOptions` and `agouti.core.canonical.parameters.Parameters`.

        Raises:
            AgoutiError: see `agouti.core.errors` for the tree.
        """
        if options.get("run_tools"):
            return self._run(self._calls.tool_loop(model, prompt, options).steps()).reply
        return self._run(ask(self._calls.chat(model, prompt, split_tools(options)[0])))

    def stream(self, model: str, prompt: "Prompt", **options: "Unpack[Options]") -> "Stream":
        """Ask, and get the answer in pieces as it comes: see `Stream`. Arguments as for `ask`."""
        from ..calls.streams import Stream
        from ..engine.operations.chat_streamed import stream
        from ..engine.receiving.accumulate import ReplyAccumulator

        accumulator = ReplyAccumulator()
        steps = stream(self._calls.chat(model, prompt, options, stream=True), accumulator)
        return Stream(self._driver(steps), accumulator)

    def exchange(self, body: Mapping[str, Json], **limits: "Unpack[ExchangeOptions]") -> dict[str, Json]:
        """An OpenAI-compatible request as JSON in, the same kind of reply out, whatever the provider speaks.

        Args:
            body: ``model`` is a label, or ``NAME@PROVIDER``. Fields that are no parameters are passed on untouched.
            limits: ``deadline``, ``timeouts``, ``retries``, ``headers``, ``tags`` and ``cache``, as for `ask`.

        Example:
            >>> import agouti, agouti.standins
            >>> body = {"model": "envelope-2@letterbox", "messages": [{"role": "user", "content": "Peas?"}]}
            >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
            ...     client.exchange(body)["choices"][0]["finish_reason"]
            'stop'
        """
        request = self._calls.chat_request(body, limits)
        return self._calls.exchanged(self.ask(request.model, request.messages, **request.options))

    def exchange_stream(
        self, body: Mapping[str, Json], **limits: "Unpack[ExchangeOptions]"
    ) -> Iterator[dict[str, Json]]:
        """As `exchange`, but the chunks of a stream as they come; closing the iterator closes the connection."""
        from ..calls.streams import Stream
        from ..engine.operations.chat_streamed import CANONICAL, stream
        from ..engine.receiving.accumulate import ReplyAccumulator

        call, chunks = self._calls.chunked(self._calls.chat_request(body, limits))
        accumulator = ReplyAccumulator()
        with Stream(self._driver(stream(call, accumulator, verbatim=CANONICAL)), accumulator) as streamed:
            for batch in streamed.batches():
                yield from chunks.of(batch)
        yield from chunks.last()

    @overload
    def fill(self, model: str, form: type[T], prompt: "Prompt", **options: "Unpack[FillOptions]") -> "Filled[T]": ...
    @overload
    def fill(self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]") -> "Filled[Any]": ...
    @renamed("fill")
    def fill(self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]") -> "Filled[Any]":
        """Get a value of a type of your own, checked.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            form: a pydantic model, a dataclass, a TypedDict, an Enum, a Literal, a list of those, a plain type, or a
                JSON Schema as a dict.
            prompt: what it is to be filled from.
            options: see `FillOptions`.

        Returns:
            ``value``, ``reply``, ``answers`` and ``output_method``: see `agouti.replies.filled.Filled`.

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
        call, _ = self._calls.form(model, form, prompt, options)
        return self._run(call.steps())

    @renamed("fill")
    def stream_fill(
        self, model: str, form: Any, prompt: "Prompt", **options: "Unpack[FillOptions]"
    ) -> "FillStream[Any]":
        """Get a value of a type of your own, and watch it grow meanwhile: see `FillStream`. Arguments as for `fill`."""
        from ..calls.streams import FillStream
        from ..engine.receiving.accumulate import ReplyAccumulator
        from ..forms.build import item_form

        accumulator = ReplyAccumulator()
        call, built_form = self._calls.form(model, form, prompt, options, stream=True)
        return FillStream(self._driver(call.steps(accumulator)), accumulator, built_form, item_form(form))

    @renamed("conversation")
    def conversation(
        self,
        model: str,
        *,
        messages: Iterable[Message | Mapping[str, Json]] | FilePath = (),
        on_overflow: "Fit | None" = None,
        **options: "Unpack[AskOptions]",
    ) -> "Conversation":
        """A conversation with a model, which keeps what has been said: see `Conversation`.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            messages: what has been said before, such as ``messages`` of an earlier one, or a file that it was saved to:
                see `Conversation.save`. What cannot be read of it is told in a warning and left out.
            on_overflow: what to do when the context window is full: ``"drop_oldest"`` sends no more of the oldest
                turns, ``"error"`` raises `ContextOverflow` before anything is sent, a function of the messages so far
                and the tokens that they may have gives the messages to send instead. `None`: leave it to the provider.
            options: as for `ask`, for every turn; functions in ``tools`` are run.
        """
        from ..conversations.conversation import Conversation

        return Conversation(self._calls, self._driver, model, messages, on_overflow, options)

    def embed(
        self,
        model: str,
        texts: str | Iterable[str],
        *,
        dimensions: int | None = None,
        concurrency: int = 4,
        **options: "Unpack[EmbedOptions]",
    ) -> "Embeddings":
        """Turn texts into vectors: any number of them, in batches as large as the provider takes.

        Args:
            model: a label, or ``NAME@PROVIDER``.
            texts: one text, or many; none of them empty.
            dimensions: how long the vectors are to be, for models that can choose.
            concurrency: how many batches are asked for at a time.
            options: ``only_missing`` (embeddings that you have), ``extra``, ``tags`` and `agouti.calls.options.Limits`.

        Returns:
            One float32 array and its texts, in the given order: see `agouti.Embeddings`. A text is asked for once.

        Raises:
            RequestError: a text is empty (says which), or the dialect has no embeddings.
            ContextOverflow: a text is too long: says which. ``partial`` of every error are the vectors that came.
            ReplyUnreadable: the vectors are not of one length, or not of the one asked for.
        """
        return self._run(
            self._calls.embedding(model, texts, dimensions=dimensions, concurrency=concurrency, options=options)
        )

    def count(self, model: str, prompt: "Prompt", **options: "Unpack[Options]") -> "TokenCount":
        """Count the tokens of a prompt, with its system text, examples and tools.

        Where the provider's format counts (``messages``, ``contents``) it is asked, and no tokens are spent; otherwise
        nothing is sent, and the number is an estimate. Arguments as for `ask`.

        Returns:
            ``tokens``, and whether they are ``exact``.

        Example:
            >>> import agouti
            >>> with agouti.Client.at("localhost:8080/v1") as client:
            ...     client.count("loam-2b", "When do broad beans go in?")
            TokenCount(tokens=14, exact=False)
        """
        from ..engine.operations.count import count

        return self._run(count(self._calls.chat(model, prompt, options)))

    def models(self, provider: str | None = None) -> "ModelList":
        """The providers' own lists of models, live, joined with the entries; of one provider, or of all side by side.

        Returns:
            a row for each model; ``failures`` has the providers whose list could not be had.

        Raises:
            LabelUnknown: there is no such provider.
            AgoutiError: the list of the one that was named cannot be had.
        """
        return self._run(self._calls.offered(provider))

    def close(self) -> None:
        """Close all connections; the ledger is written. The client can not be used afterwards."""
        if self._finish() and self._transport is not None:
            self._transport.close()

    def __enter__(self) -> "Self":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def _run(self, steps: "Steps[T]") -> T:
        """Take steps of the engine to their end."""
        driver = self._driver(steps)
        driver.advance()
        return driver.result

    def _driver(self, steps: "Steps[T]") -> "SyncDriver[T]":
        drives, transport = self._drives, self._transport
        if drives is None or transport is None:
            drives, transport = self._load()
        if ACTIVE:
            transport = instead_of(transport, threads=True)
        return drives(steps, transport, self._environment)

    def _load(self) -> "tuple[type[SyncDriver[Any]], SyncTransport]":
        """Get ready what is imported when it is first needed, and not looked up again for every call."""
        with without_collecting():
            from ..engine.drivers.sync_driver import SyncDriver

            self._drives, self._transport = SyncDriver, self._transport or self._network()
        return self._drives, self._transport

    def _network(self) -> "SyncTransport":
        from ..transport.urllib3_transport import Urllib3Transport

        return if_allowed(Urllib3Transport(connections=self._connections), Guarded)

    def _archived(self) -> "SyncTransport":
        from ..transport.archive import RecordingTransport, ReplayTransport, read_archive
        from ..transport.recorder import Recorder

        if self._replay is not None:
            return ReplayTransport(read_archive(self._replay))
        return RecordingTransport(self._transport or self._network(), Recorder(self._record or ""))
