"""From the arguments of a call to what the engine takes: the same for threads and for tasks."""

import os
from collections.abc import Iterable, Mapping
from time import perf_counter, time
from typing import TYPE_CHECKING, Any, Unpack

from msgspec.structs import replace

from .config.entries import Config, Model, Provider
from .core.canonical import Asked, Chunks, reply_json
from .core.chat import Json, Request
from .core.errors import ConfigError, RequestError
from .core.parameters import checked
from .core.prompt import Prompt, messages
from .core.reply import Reply
from .core.secret import Secret
from .credentials.sources import GivenKey, Key
from .engine.exchange import Call
from .engine.target import Endpoint, Target, Targets
from .options import AskOptions, EmbedOptions, FillOptions, Options

if TYPE_CHECKING:
    from typing import Self

    from .engine.calling import ToolRounds
    from .engine.embedding import Embedding
    from .engine.filling import FormCall
    from .forms import Form
    from .images import Image

Path = str | os.PathLike[str]
Configuration = str | os.PathLike[str] | Mapping[str, Json] | Config


class Preparing:
    """What both clients share: configuration, targets, and how a call is prepared."""

    def __init__(
        self, config: Configuration | None = None, *, record: Path | None = None, replay: Path | None = None
    ) -> None:
        if not isinstance(config, Config):
            from .config.load import load

            config = load(config)
        if record is not None and replay is not None:
            raise RequestError("record and replay exclude each other", hint="Leave one of them out.")
        self._targets = Targets(config if replay is None else config.keyless())
        self._environment = self._targets.config.environment
        self._record = record
        self._replay = replay
        self._anywhere: str | None = None

    @classmethod
    def at(cls, address: str, *, key: "str | Secret | Key | None" = None, dialect: str = "", **more: Any) -> "Self":
        """A client of one provider, without any file; every model name is sent to it as it is.

        Args:
            address: base or operation address, as pasted.
            key: the key, or where it lives (`EnvKey`, ...); none for a local server.
            dialect: name of the wire format; guessed from the address where not given.
            more: arguments of the client itself.

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
        client = cls(Config.of([provider]), **more)
        client._anywhere = provider.label
        return client

    @property
    def config(self) -> Config:
        """The configuration in use."""
        return self._targets.config

    def _chunked(self, given: Asked) -> tuple[Call, Chunks]:
        options: Any = given.options
        call = self._call(given.model, given.messages, options, streams=True)
        return replace(call, verbatim=True), Chunks(int(time()), call.targets[0].model.name)

    def _exchanged(self, reply: Reply) -> dict[str, Json]:
        if reply.body and self.endpoint(reply.provider).dialect.name == "chat":
            found: dict[str, Json] = reply.raw  # it is this form already, fields of the provider's own included
            return found
        return reply_json(reply.completion, int(time()), reply.attempts[-1].model)

    def endpoint(self, provider: str) -> Endpoint:
        """A provider made ready, for services that look at it."""
        return self._targets.endpoint(provider)

    def about(self, provider: str) -> Call:
        """A call that asks nothing of a model, only of its provider."""
        target = Target(Model("", provider), self.endpoint(provider))
        return Call((target,), lambda _: Request("", []), perf_counter)

    def prepare(self, model: str, prompt: Prompt, **options: Unpack[Options]) -> Call:
        """The call that `ask` would make, for services that look at it."""
        return self._call(model, prompt, options)

    def _rounds(self, label: str, prompt: Prompt, options: AskOptions, streams: bool = False) -> "ToolRounds":
        from .engine.calling import ToolRounds
        from .forms import Misfit
        from .tools import result_text, toolbox

        given: dict[str, Any] = dict(options)
        given.pop("run_tools", None)
        most, failures = given.pop("max_rounds", 8), given.pop("tool_errors", "tell")
        if not _whole_number(most, 1):
            raise RequestError(f"max_rounds = {most!r} is out of range", hint="It takes a whole number from 1.")
        if failures not in ("tell", "raise"):
            raise RequestError(f"tool_errors = {failures!r} is unknown", hint="Take tell or raise.")
        tools = toolbox(given.get("tools") or ())
        if not tools:
            given.pop("tools", None)
        else:
            given["tools"] = list(tools.values())
        more: Any = given
        call = self._call(label, prompt, more, streams)
        return ToolRounds(call, tools, misfit=Misfit, text=result_text, most=most, failures=failures)

    def _form_call(
        self, label: str, kind: Any, prompt: Prompt, options: FillOptions, streams: bool = False
    ) -> "tuple[FormCall, Form]":
        from .engine.filling import FormCall
        from .forms import Misfit, form_of

        given: dict[str, Any] = dict(options)
        means, repairs = given.pop("means", None), given.pop("repairs", 1)
        if means not in (None, "schema", "tool", "json", "prompt"):
            raise RequestError(f"there are no means {means!r}", hint="Take schema, tool, json or prompt, or none.")
        if not _whole_number(repairs, 0):
            raise RequestError(f"repairs = {repairs!r} is out of range", hint="It takes a whole number from 0.")
        form = form_of(kind)
        more: Any = given
        call = self._call(label, prompt, more, streams)
        return FormCall(call, form, Misfit, means=means, repairs=repairs), form

    def _embedding(
        self,
        label: str,
        texts: "str | Iterable[str]",
        dimensions: int | None,
        concurrency: int,
        options: "EmbedOptions",
    ) -> "tuple[Embedding, list[str]]":
        from importlib.util import find_spec

        from .engine.embedding import Embedding, checked_texts

        if find_spec("numpy") is None:
            raise ConfigError(
                "embeddings need numpy, which is not installed", hint="Install it: pip install 'agouti-client[arrays]'."
            )
        if not _whole_number(concurrency, 1):
            raise RequestError(f"concurrency = {concurrency!r} is out of range", hint="It takes a whole number from 1.")
        if dimensions is not None and not _whole_number(dimensions, 1):
            raise RequestError(f"dimensions = {dimensions} is out of range", hint="It takes a whole number from 1.")
        if isinstance(texts, (bytes, Mapping)) or not isinstance(texts, Iterable):
            raise RequestError(f"texts cannot be a {type(texts).__name__}", hint="Pass a text or a list of texts.")
        label = self._full(label)
        # No other model takes over: its vectors would not compare.
        target = self._targets.of(label)
        deadline = options.get("deadline") or target.model.deadline
        made = Embedding(
            target, perf_counter, dimensions=dimensions, extra=options.get("extra") or {}, deadline=deadline
        )
        return made, checked_texts([texts] if isinstance(texts, str) else list(texts))

    def _full(self, label: str) -> str:
        return f"{label}@{self._anywhere}" if self._anywhere is not None and "@" not in label else label

    def _call(self, label: str, prompt: Prompt, options: Options, streams: bool = False) -> Call:
        targets = self._targets.chain(self._full(label))
        given: dict[str, Any] = dict(options)
        for name in ("tools", "images"):
            if name in given and given[name] is None:
                del given[name]
        if "tools" in given:
            from .tools import as_json

            given["tools"] = as_json(given["tools"])
        if isinstance(choice := given.get("tool_choice"), str) and choice not in ("auto", "none", "required"):
            given["tool_choice"] = {"type": "function", "function": {"name": choice}}
        shown: list[Image] = []
        if "images" in given:
            from .images import images

            shown = images(given.pop("images"))
        wished = given.pop("fetch_images", False)
        if wished not in (True, False, "private"):
            raise RequestError(f"fetch_images = {wished!r} is unknown", hint='Take True, False or "private".')
        fetch = {True: "public", False: "no"}.get(wished, "private")
        system = given.pop("system", None)
        examples = given.pop("examples", ())
        extra = given.pop("extra", None) or {}
        deadline = given.pop("deadline", None)

        def build(target: Target) -> Request:
            defaults = target.model.parameters
            return Request(
                target.model.name,
                messages(prompt, before=target.before, system=system, examples=examples, shown=shown),
                checked({**defaults, **given} if defaults else given),
                extra,
                streams,
                target.model.markers,
                fetch,  # type: ignore[arg-type]
            )

        return Call(targets, build, perf_counter, deadline or targets[0].model.deadline)


def _whole_number(value: object, least: int) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value >= least
