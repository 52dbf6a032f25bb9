"""Calls: from the arguments of a method to what the engine takes, the same for threads and for tasks."""

import os
from collections.abc import Iterable, Mapping
from contextlib import suppress
from copy import copy
from threading import Lock
from time import time
from typing import TYPE_CHECKING, Any, Self, cast

from msgspec.structs import replace

from ..config.entries import Config, Provider
from ..core.canonical.chat import Json
from ..core.errors import AgoutiError, ConfigError, RequestError
from ..core.secrets.secret import Secret
from ..credentials.sources import GivenKey, Key
from ..engine.call import CLOCKS, Call, check_blanks
from ..engine.groups import AROUND
from ..engine.providers.provider import ProviderState, Target, Targets
from ..engine.question import Question, extra_of, question_of, tags_of
from ..replies.reply import Reply
from ..transport.test_override import ACTIVE, all_hooks
from .arguments import CallLimits, check_client, check_embed, checked_cache, limits_of, split_fill, split_tools
from .default_hooks import hooks_of_client

if TYPE_CHECKING:
    from ..core.messages.json_form import ChatRequestArguments, Chunks
    from ..dialects.wire import ListedModel
    from ..embeddings.embeddings import Embeddings
    from ..engine.effects import Steps
    from ..engine.hooks import Hook
    from ..engine.operations.structured import FormCall
    from ..engine.operations.tool_loop import ToolLoop
    from ..forms.build import Form
    from ..ledger.blocks import BlockBudget
    from ..replies.model_list import ModelList
    from .connection_settings import ModelSettings
    from .options import AskOptions, EmbedOptions, FillOptions, Limits, Options, Prompt

_NO_LIMITS = CallLimits()
_LISTS_AT_ONCE = 8
_BUDGETS = Lock()
FilePath = str | os.PathLike[str]
Configuration = str | os.PathLike[str] | Mapping[str, Json] | Config


class Calls:
    """Makes calls of arguments: what both clients share, and what services use.

    Attributes:
        config: the configuration in use.
        clocks: time and chance.
        hooks: are told of every attempt.
        only: label of the one provider that every name is sent to as it is, where there is one.
        group: number of the group that its calls are part of; 0: of none.
        waits: see `Call.waits`.
    """

    def __init__(
        self,
        config: Config,
        hooks: "tuple[Hook, ...]" = (),
        *,
        limits: CallLimits = _NO_LIMITS,
        only: str | None = None,
    ) -> None:
        self.config = config
        self._limits = limits
        self.only = only
        self.clocks = CLOCKS
        self._targets = Targets(config, only)
        self._tags: dict[str, str] = {}
        self._hooks = [hooks]  # shared with the same calls under other tags
        self.group = 0
        self.waits = True

    @property
    def hooks(self) -> "tuple[Hook, ...]":
        return self._hooks[0]

    @hooks.setter
    def hooks(self, hooks: "tuple[Hook, ...]") -> None:
        self._hooks[0] = hooks

    def to(self, provider: str) -> "Calls":
        """The same, but every model name is sent as it is to one provider."""
        return Calls(self.config, self.hooks, limits=self._limits, only=provider).tagged(self._tags)

    def of(self, config: Config) -> "Calls":
        """The same with another configuration."""
        return Calls(config, self.hooks, limits=self._limits).tagged(self._tags)

    def tagged(self, tags: Mapping[str, str]) -> "Calls":
        """The same, with tags that every call has."""
        same = copy(self)
        same._tags = {**self._tags, **tags}
        return same

    def target(self, label: str) -> Target:
        """A model made ready.

        Raises:
            LabelUnknown: there is none of that label.
        """
        return self._targets.of(label)

    def chain(self, label: str) -> tuple[Target, ...]:
        """A model made ready, and those that take over for it.

        Raises:
            LabelUnknown: there is none of that label.
        """
        return self._targets.chain(label)

    def provider(self, label: str) -> ProviderState:
        """A provider made ready.

        Raises:
            LabelUnknown: there is none of that label.
        """
        return self._targets.provider(label)

    def offered(self, provider: str | None) -> "Steps[ModelList]":
        """Steps that get the lists of models of one provider, or of all, joined with the entries."""
        from ..engine.operations.listing import listing
        from ..replies.model_list import joined

        if provider is not None:
            listed = yield from listing(self.about(provider))
            return joined(self.config, {provider: listed.models}, {})
        lists, failures = yield from self.lists(self.config.providers)
        return joined(self.config, lists, failures)

    def lists(
        self, providers: "Iterable[str]"
    ) -> "Steps[tuple[dict[str, tuple[ListedModel, ...]], dict[str, AgoutiError]]]":
        """Steps that get the lists of several providers side by side, and why those that failed did."""
        from ..engine.effects import Together, attempted
        from ..engine.operations.listing import Listing, listing

        def one(label: str) -> "Steps[Listing]":
            return (yield from listing(self.about(label)))

        labels = list(providers)
        outcomes = yield Together([attempted(one(label), AgoutiError) for label in labels], _LISTS_AT_ONCE)
        both = list(zip(labels, outcomes, strict=True))
        return (
            {label: each.models for label, each in both if not isinstance(each, AgoutiError)},
            {label: each for label, each in both if isinstance(each, AgoutiError)},
        )

    def about(self, provider: str) -> Call:
        """A call that asks nothing of a model, only of its provider."""
        return self._call((self._targets.about(provider),), self.clocks.clock(), self._limits, Question(messages=()))

    def _call(self, targets: tuple[Target, ...], started: float, limits: CallLimits, question: Question) -> Call:
        deadline = limits.deadline
        if deadline is None:
            deadline = targets[0].model.deadline
        if self._tags:
            question = replace(question, tags={**self._tags, **question.tags})
        return Call(
            targets=targets,
            started=started,
            until=None if deadline is None else started + deadline,
            question=question,
            hooks=(*all_hooks(), *self.hooks) if ACTIVE else self.hooks,
            timeouts=limits.timeouts,
            retries=limits.retries,
            headers=limits.headers,
            clocks=self.clocks,
            group=self.group or AROUND.get(),
            waits=self.waits,
        )

    def chat(self, label: str, prompt: "Prompt", options: "Options", *, stream: bool = False) -> Call:
        """A call that asks a question.

        Raises:
            LabelUnknown: there is no such model.
            RequestError: the prompt or an option is wrong.
        """
        targets = self._targets.chain(label)
        started = self.clocks.clock()
        question = question_of(prompt, options, stream=stream)
        if question.variables or any(target.model.variables for target in targets):
            check_blanks(question, targets)
        call = self._call(targets, started, limits_of(options, self._limits), question)
        return call if (cache := options.get("cache")) is None else replace(call, cache=checked_cache(cache))

    def tool_loop(
        self, label: str, prompt: "Prompt", options: "AskOptions", *, stream: bool = False, run: bool = True
    ) -> "ToolLoop":
        """A call that asks a question and runs the functions that the model calls.

        Args:
            run: whether they are run where the options do not say.
        """
        from ..engine.operations.tool_loop import ToolLoop
        from ..tools.tool import result_text, toolbox

        chat_options, how = split_tools(options)
        tools = toolbox(chat_options.get("tools") or ())
        return ToolLoop(
            self.chat(label, prompt, chat_options, stream=stream),
            tools,
            text=result_text,
            max_rounds=how.max_rounds,
            failures=how.errors,
            run=run if how.run is None else how.run,
        )

    def form(
        self, label: str, kind: Any, prompt: "Prompt", options: "FillOptions", *, stream: bool = False
    ) -> "tuple[FormCall, Form]":
        """A call that fills a form.

        Raises:
            RequestError: the type cannot be made into a form.
        """
        from ..engine.operations.structured import FormCall
        from ..forms.build import form_of

        chat_options, output_method, repairs = split_fill(options)
        form = form_of(kind)
        return FormCall(
            self.chat(label, prompt, chat_options, stream=stream), form, method=output_method, repairs=repairs
        ), form

    def embedding(
        self, label: str, texts: object, *, dimensions: int | None, concurrency: int, options: "EmbedOptions"
    ) -> "Steps[Embeddings]":
        """Steps that turn texts into vectors.

        Raises:
            RequestError: a text is empty (says which), an option is wrong, or the dialect has no embeddings.
        """
        from importlib.util import find_spec

        from ..engine.operations.vectors import ability_of, checked_texts

        if find_spec("numpy") is None:
            raise ConfigError(
                "embeddings need numpy, which is not installed", hint="Install it: pip install 'agouti-client[arrays]'."
            )
        check_embed(options, dimensions, concurrency)
        if isinstance(texts, (bytes, Mapping)) or not isinstance(texts, Iterable):
            raise RequestError(f"texts cannot be a {type(texts).__name__}", hint="Pass a text or a list of texts.")
        checked = checked_texts([texts] if isinstance(texts, str) else list(texts))
        # No other model takes over: its vectors would not compare.
        target = self._targets.of(label)
        ability_of(target)
        known = options.get("only_missing")
        if known is not None:
            self._check_known(known, label, target, dimensions)
        call = self.vectors_call(target, options)
        started = call.started

        def steps() -> "Steps[Embeddings]":
            from ..embeddings.assembly import assembled, embedding_request
            from ..engine.operations.vectors import embed

            request = embedding_request(checked, known, label=call.label, name=target.model.name, dimensions=dimensions)
            gathered = yield from embed(
                call,
                request.missing,
                request.positions,
                dimensions=dimensions,
                extra=extra_of(options.get("extra")),
                concurrency=concurrency,
            )
            return assembled(request, gathered, elapsed=self.clocks.clock() - started)

        return steps()

    def vectors_call(self, target: Target, options: "EmbedOptions") -> Call:
        """A call that asks a model for vectors."""
        question = Question(messages=(), tags=tags_of(options.get("tags")))
        return self._call((target,), self.clocks.clock(), limits_of(options, self._limits), question)

    def _check_known(self, known: object, label: str, target: Target, dimensions: int | None) -> None:
        """See that vectors that are there go with those that are asked for, before anything is sent."""
        from ..embeddings.embeddings import Embeddings

        if not isinstance(known, Embeddings):
            raise RequestError(
                f"only_missing cannot be a {type(known).__name__}",
                hint="Pass the embeddings that you have: error.partial, or Embeddings.load(file).",
            )
        hint = "Leave only_missing out, and all texts are asked for."
        if len(known) and dimensions not in (None, known.dimensions):
            raise RequestError(
                f"the vectors in only_missing have {known.dimensions} dimensions, not {dimensions}", hint=hint
            )
        if known.label in ("", label):
            return
        with suppress(ConfigError):  # a label of another configuration tells nothing
            name = self._targets.of(known.label).model.name
            if name != target.model.name:
                raise RequestError(
                    f"the vectors in only_missing are of {known.label} ({name}), not of {label} ({target.model.name})",
                    hint=hint,
                )

    @staticmethod
    def chat_request(body: "Mapping[str, Json]", further_fields: "Mapping[str, Any]") -> "ChatRequestArguments":
        """The parts of a request in the canonical form, with limits of the call beside it."""
        from ..core.messages.json_form import chat_arguments

        return chat_arguments(body, further_fields)

    def chunked(self, request: "ChatRequestArguments") -> "tuple[Call, Chunks]":
        """A call for a stream in the canonical form, and what makes its chunks."""
        from ..core.messages.json_form import Chunks

        options, stream_options = request.options, request.stream_options
        if stream_options is not None:
            options = {**options, "stream_options": stream_options}
        call = self.chat(request.model, request.messages, cast("Options", options), stream=True)
        usage = bool(stream_options and stream_options.get("include_usage"))
        return call, Chunks(int(time()), call.targets[0].model.name, _identifier(), usage=usage)

    def exchanged(self, reply: Reply) -> dict[str, Json]:
        """A reply in the canonical form."""
        tagged = reply.label and self._targets.of(reply.label).model.reasoning_tag
        if reply.body and not tagged and self.provider(reply.provider).dialect.abilities.canonical:
            raw: dict[str, Json] = reply.raw  # it is this form already, fields of the provider's own included
            return raw
        from ..core.messages.json_form import reply_json

        model = reply.attempts[-1].model if reply.attempts else self._targets.of(reply.label).model.name
        return reply_json(reply.completion, int(time()), model, _identifier())


def _identifier() -> str:
    """The identifier of a reply whose provider gives none."""
    return f"reply-{os.urandom(12).hex()}"


class BaseClient:
    """What both clients share: the configuration, and how calls are made."""

    def __init__(
        self,
        config: Configuration | None = None,
        *,
        record: FilePath | None = None,
        replay: FilePath | None = None,
        hooks: "Iterable[Hook]" = (),
        limits: "Limits | None" = None,
    ) -> None:
        if not isinstance(config, Config):
            from ..config.load import load

            # No frame of ours holds the mapping any more when it turns out to be wrong: there may be a key in it.
            configs = [config]
            del config
            config = load(configs.pop())
        if record is not None and replay is not None:
            raise RequestError("record and replay exclude each other", hint="Leave one of them out.")
        if replay is not None or any(each.keyless for each in ACTIVE):
            config = config.keyless()
        check_client(limits or ())
        client_hooks = hooks_of_client(config, hooks)
        self._owned, self._ledger = client_hooks.own_hooks, client_hooks.ledger
        self._calls = Calls(config, client_hooks.every, limits=limits_of(limits or {}))
        self._environment = config.environment
        self._owns_connections = True
        self._record = record
        self._replay = replay

    @classmethod
    def at(cls, address: str, *, key: "str | Secret | Key | None" = None, dialect: str = "", **settings: Any) -> Self:
        """A client of one provider, without any file; every model name is sent to it as it is.

        Args:
            address: base or operation address, as pasted.
            key: the key, or where it lives (`EnvKey`, ...); none for a local server.
            dialect: name of the wire format; guessed from the address where not given.
            settings: arguments of the client itself.

        Example:
            >>> import agouti, agouti.standins
            >>> with agouti.standins.serve() as served:
            ...     with agouti.Client.at(served.address("shed")) as client:
            ...         print(client.ask("loam-2b", "When do broad beans go in?").finish_reason)
            stop
        """
        if isinstance(key, str):
            key = Secret(key)
        if isinstance(key, Secret):
            key = GivenKey(key)
        provider = Provider("here", address, dialect, key)
        client = cls(Config.of([provider]), **settings)
        client._calls = client._calls.to(provider.label)
        return client

    def __copy__(self) -> Self:
        same = object.__new__(type(self))
        same.__dict__.update(self.__dict__)
        return same

    def __reduce_ex__(self, protocol: object) -> Any:
        raise TypeError(
            f"a {type(self).__name__} has open connections, and cannot be pickled or copied deeply: give its "
            "configuration (client.config.files, or what you made it of) to the other process, and make one there"
        )

    @property
    def config(self) -> Config:
        """The configuration in use."""
        return self._calls.config

    def settings(self, label: str, *, relay: str | None = None) -> "ModelSettings":
        """What a tool needs that only takes an address, a key and a model: where the key lives, never the key.

        Args:
            label: a label, or ``NAME@PROVIDER``.
            relay: address of a running relay: then the settings are those for reaching the model through it, in the
                OpenAI-compatible form, whatever its provider speaks.

        Raises:
            LabelUnknown: there is no such model.
        """
        from .connection_settings import relay_settings, settings_of

        target = self._calls.target(label)
        return settings_of(target) if relay is None else relay_settings(label, relay)

    def budget(self, amount: float, currency: str = "USD") -> "BlockBudget":
        """A budget for a block: ``with client.budget(1.50, "USD"):`` spends no more than that.

        The most that a call can cost is reserved before it is sent: the estimate of its prompt, and the cap of its
        answer. Calls of models without a price, or of another currency, do not count. Tasks and threads that are
        started in the block count in it, and nobody else: a thread that was there before enters the block itself.

        Raises:
            ConfigError: the amount is none.
        """
        from ..ledger.blocks import BlockBudget
        from ..ledger.budgets import BudgetHook

        with _BUDGETS:  # two threads must not make two of them
            hooks = self._calls.hooks
            hook = next((each for each in hooks if isinstance(each, BudgetHook)), None)
            if hook is None:
                hook = BudgetHook(self.config, self._ledger)
                self._calls.hooks = (hook, *hooks)
        return BlockBudget(hook, amount, currency)

    def tagged(self, **tags: str) -> Self:
        """The same client, but every call has these tags; those of a call are added, and count first.

        Connections, limits and budgets are shared; closing it closes nothing.

        Example:
            >>> import agouti, agouti.standins
            >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
            ...     letters = client.tagged(feature="newsletter")
            ...     print(letters.ask("almanac", "When do peas go in?", max_tokens=5).finish_reason)
            length

        Raises:
            RequestError: a tag is no text.
        """
        self._load()
        same = object.__new__(type(self))
        same.__dict__.update(self.__dict__, _calls=self._calls.tagged(tags_of(tags)), _owns_connections=False)
        return same

    def _load(self) -> Any:
        """Get ready what is made when it is first needed."""
        raise NotImplementedError

    def _finish(self) -> bool:
        """See that what is written beside the calls is written, at the end; whether there is anything else to close."""
        if not self._owns_connections:
            return False
        for hook in self._owned:
            if (close := getattr(hook, "close", None)) is not None:
                close()
        return True


def calls_of(client: BaseClient) -> Calls:
    """What makes the calls of a client, for services."""
    return client._calls
