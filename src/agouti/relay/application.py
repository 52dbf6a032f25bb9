"""The application: an ASGI server of every configured model, in the formats that other programs speak."""

import asyncio
import logging
import os
import time
from collections.abc import Awaitable, Callable
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace
from starlette.routing import Route

from ..client.async_client import AsyncClient
from ..config.entries import Config
from ..config.load import load
from ..config.tables import LedgerSettings, RelaySettings
from ..core.errors import AgoutiError, ConfigError
from ..core.secrets.secret import Secret
from ..dialects.server_base import ServerFormat, encode_json
from ..dialects.server_registry import server_formats
from ..dialects.shared.server_embeddings import encode_model, encode_models
from ..ledger.store import relay_ledger_path
from . import dashboard as pages
from .access_control import NO_TOKEN, AccessControl, is_own
from .access_tokens import AccessToken, TokenFile
from .error_responses import Refused, error_body, for_owner
from .http_exchange import CallerDisconnected, Exchange, Receive, Scope, Send
from .metrics import MEDIA_TYPE, Metrics
from .middleware import Endpoint, Front, Handler
from .model_listing import listed
from .recent_calls import CallSeen, CallsSeen
from .request_handlers import COMMENT, JSON, STOPS, Answers, Outcome, decoded, label_in
from .request_log import write
from .response_store import ResponseStore
from .token_budgets import CURRENT, Spent, TokenBudgets
from .turn_memory import TurnMemory

if TYPE_CHECKING:
    from ..calls.calls import Configuration

log = logging.getLogger("agouti.relay")

# A caller who has gone before the answer: a status that is only written down.
CLIENT_CLOSED = 499
# Of a larger body more is made of in a thread.
_LARGE = 200_000
_QUIET = frozenset({"/", "/health", "/ready", "/metrics", "/openapi.json"})


def _has_tokens(tokens: TokenFile) -> bool:
    """Whether there are access tokens, as far as can be seen: a damaged file lets nobody in."""
    try:
        return tokens.is_required
    except ConfigError:
        return True


def _stamps(config: Config) -> tuple[tuple[str, int, int], ...]:
    """When the files of a configuration were changed; empty where one cannot be looked at."""
    try:
        facts = [(str(each), os.stat(each)) for each in config.files]
    except OSError:
        return ()
    return tuple([(name, each.st_mtime_ns, each.st_size) for name, each in facts])


def with_own_ledger(config: Config) -> Config:
    """The configuration with a ledger of the relay's own: what a token has spent must outlive the relay."""
    return replace(config, ledger=LedgerSettings(Secret(str(relay_ledger_path(config)))))


class Relay:
    """An ASGI application that serves the models of a configuration; made by `app`.

    Attributes:
        client: asks the models; made with the first request.
        tokens: who may call.
        recent_calls: the latest calls.
        active: requests whose callers have to take what they get.
    """

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            from .._former import attribute

            return attribute(self, name)

    def __init__(self, config: "Configuration | None" = None, **options: Any) -> None:
        self._source = config
        self._options = options
        self.workers = 1
        self._begin(load(config))
        self.recent_calls = CallsSeen()
        self.metrics = Metrics()
        self.started = time.time()
        self.stopping = False
        self._turn_memory = TurnMemory()
        self._responses = ResponseStore()
        self._closing: set[asyncio.Task[None]] = set()
        self._client: AsyncClient | None = None
        self._earlier: list[AsyncClient] = []
        self._answers: Answers | None = None
        self.active: set[Exchange] = set()
        self._sweeper: asyncio.Task[None] | None = None
        # Where nobody has mounted it, the path alone says what is asked.
        self.exact: dict[tuple[str, str], Endpoint] = {}
        self.routes = self._routes()

    def _begin(self, loaded: Config) -> None:
        """Serve this configuration from now on."""
        settings = loaded.relay or RelaySettings()
        tokens = TokenFile(Path(settings.tokens))
        has_tokens = _has_tokens(tokens)
        own_ledger = relay_ledger_path(loaded)
        if loaded.ledger is None and has_tokens:
            loaded = with_own_ledger(loaded)
        elif loaded.ledger is not None and has_tokens and own_ledger.exists() and loaded.ledger.path != own_ledger:
            log.warning(
                "what tokens spent before stands in %s, and counts no more: the configuration names another ledger",
                own_ledger,
            )
        self.settings, self.tokens, self.config = settings, tokens, loaded
        before = getattr(self, "access_control", None)
        self.access_control = AccessControl(loaded, settings, tokens)
        if before is not None:
            self.access_control.goes_on(before)
        self.access_control.share = self.workers
        self._stamps = _stamps(loaded)

    def reload(self) -> bool:
        """Read the configuration again; calls under way end as they began. Whether it could be.

        What is wrong with it is in the log, and the one before stays. Address, limits of connections and workers are
        those of the start.
        """
        self._stamps = _stamps(self.config)
        if self._source is not None and not isinstance(self._source, (str, os.PathLike)):
            return False
        try:
            loaded = load(self._source)
        except AgoutiError as error:
            log.error("the configuration was changed, and cannot be used: %s. The one before stays.", error)
            return False
        before, self._client, self._answers = self._client, None, None
        self._begin(loaded)
        log.info("the configuration was read again: %d models", len(self.config.models))
        if before is not None:
            self._earlier.append(before)
            with suppress(RuntimeError):  # no event loop runs
                task = asyncio.get_running_loop().create_task(self._close_after(before, set(self.active)))
                self._closing.add(task)
                task.add_done_callback(self._closing.discard)
        return True

    async def _close_after(self, client: AsyncClient, calls: "set[Exchange]") -> None:
        """Close a client once the calls that it was asked for are over."""
        while calls & self.active:  # noqa: ASYNC110  # they end in many ways, and nobody is in a hurry
            await asyncio.sleep(0.5)
        if client in self._earlier:
            self._earlier.remove(client)
            await client.aclose()

    def share(self, workers: int) -> None:
        """It is one of several processes: what a token may do in a minute is divided among them."""
        self.workers = self.access_control.share = workers

    def stop(self) -> None:
        """It was told to stop: no new call is answered, and nobody looks on any more."""
        self.stopping = True
        self.recent_calls.close()

    def _routes(self) -> list[Route]:
        routes: list[Route] = []

        def route(path: str, method: str, handler: Handler, kind: str = "") -> None:
            endpoint = Endpoint(self, handler, path)
            for prefix in ("/v1", "") if kind else ("",):
                routes.append(Route(f"{prefix}{path}", endpoint, methods=[method]))
                if "{" not in path:
                    self.exact[method, f"{prefix}{path}"] = endpoint

        for form in server_formats().values():
            route(form.path, "POST", self._answer_handler(form), form.name)
            if form.counting:
                route(form.counting, "POST", self._counting(form), form.name)
        route("/embeddings", "POST", self._vectors, "embeddings")
        for method, path, action in (
            ("GET", "/responses/{id}", "get"),
            ("DELETE", "/responses/{id}", "delete"),
            ("POST", "/responses/{id}/cancel", "cancel"),
            ("GET", "/responses/{id}/input_items", "input_items"),
        ):
            route(path, method, self._response(action), "models")
        route("/models", "GET", self._models, "models")
        route("/models/{name:path}", "GET", self._model, "models")
        route("/health", "GET", self._health)
        route("/ready", "GET", self._ready)
        route("/metrics", "GET", self._metrics)
        route("/openapi.json", "GET", self._description)
        route("/", "GET", pages.page(self))
        route("/page", "POST", pages.session(self))
        route("/page/facts", "GET", pages.facts(self))
        route("/page/calls", "GET", pages.calls(self))
        return routes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self._lifespan(receive, send)
        elif scope["type"] == "http":
            await Front(self)(scope, receive, send)

    async def _lifespan(self, receive: Receive, send: Send) -> None:
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                _ = self.answers
                self.client._load()  # the first caller does not wait for it
                await send({"type": "lifespan.startup.complete"})
            else:
                await self.aclose()
                await send({"type": "lifespan.shutdown.complete"})
                return

    @property
    def client(self) -> AsyncClient:
        """The client; made when it is first needed."""
        if self.config.ledger is None and _has_tokens(self.tokens):
            # The first token was made while it runs. Calls under way end with the client that they began with.
            self.config = with_own_ledger(self.config)
            if self._client is not None:
                self._earlier.append(self._client)
            self._client = self._answers = None
        if self._client is None:
            client = AsyncClient(self.config, **self._options)
            if client._ledger is not None:
                budgets = TokenBudgets(self.config, self.tokens, client._ledger)
                client._calls.hooks = (budgets, *client._calls.hooks)
            if client._calls.hooks:
                client._calls.hooks = (Spent(), *client._calls.hooks)
            self._client = client
        return self._client

    @property
    def answers(self) -> Answers:
        """What asks models for callers."""
        client = self.client
        if self._answers is None:
            self._answers = Answers(client, self.settings, self._turn_memory, self._responses)
        if self._sweeper is None or self._sweeper.done():  # the loop that it ran in may have ended
            self._sweeper = asyncio.create_task(self._sweep())
        return self._answers

    async def aclose(self) -> None:
        """Close all connections; the ledger is written. For an application that has mounted it."""
        sweeper, self._sweeper = self._sweeper, None
        if sweeper is not None:
            sweeper.cancel()
            with suppress(asyncio.CancelledError):
                await sweeper
        clients = [*self._earlier, *([self._client] if self._client is not None else [])]
        self._client, self._answers, self._earlier = None, None, []
        for client in clients:
            await client.aclose()

    def sees_all(self, token: AccessToken) -> bool:
        """Whether a token sees the calls of all; by itself it sees its own."""
        return token is NO_TOKEN or token.sees_all

    async def _sweep(self) -> None:
        """Give those up who leave an answer where it is, keep those alive that wait for one, look at the files."""
        loop = asyncio.get_running_loop()
        checked_at = loop.time()
        while True:
            await asyncio.sleep(min(0.5, self.settings.write_seconds / 2, self.settings.quiet_seconds / 2))
            now = loop.time()
            until, quiet = now - self.settings.write_seconds, now - self.settings.quiet_seconds
            for each in list(self.active):
                if each.sending_since is not None:
                    if each.sending_since < until:
                        each.break_off()
                elif each.keeps_alive is not None and 0 < each.sent_at < quiet and each.keeps_alive():
                    each.sent_at = now
                    task = asyncio.create_task(each.comment(COMMENT))  # who does not take it holds up nobody else
                    self._closing.add(task)
                    task.add_done_callback(self._closing.discard)
            if now - checked_at >= 1.0:
                checked_at = now
                if (stamps := _stamps(self.config)) != self._stamps and stamps:
                    self.reload()

    def _answer_handler(self, form: ServerFormat) -> Handler:
        async def handle(to: Exchange, token: AccessToken) -> None:
            outcome = Outcome()
            await self._call(to, token, form.name, outcome, lambda body: self._ask(form, body, token, to, outcome))

        return handle

    async def _ask(
        self, form: ServerFormat, body: dict[str, Any], token: AccessToken, to: Exchange, outcome: Outcome
    ) -> None:
        answers = self.answers
        if answers.are_several(form, body):
            await answers.several(form, body, token.name, to, outcome)
            return
        if to.size > _LARGE:  # the others go on meanwhile
            call, request = await asyncio.to_thread(answers.call_of, form, body, token.name, to)
        else:
            call, request = answers.call_of(form, body, token.name, to)
        outcome.streamed = request.stream
        answer = answers.streamed if request.stream else answers.answer_whole
        await answer(form, call, request, to, outcome, body)

    def _counting(self, form: ServerFormat) -> Handler:
        async def handle(to: Exchange, token: AccessToken) -> None:
            outcome = Outcome()
            await self._call(
                to, token, form.name, outcome, lambda body: self.answers.counted(form, body, token.name, to)
            )

        return handle

    def _response(self, action: str) -> Handler:
        async def handle(to: Exchange, token: AccessToken) -> None:
            self.access_control.count(token)
            to.watch()
            await self.answers.response(action, to.scope["path_params"]["id"], token.name, to)

        return handle

    async def _vectors(self, to: Exchange, token: AccessToken) -> None:
        outcome = Outcome()
        await self._call(
            to, token, "embeddings", outcome, lambda body: self.answers.vectors(body, token.name, to, outcome)
        )

    async def _call(
        self,
        to: Exchange,
        token: AccessToken,
        form: str,
        outcome: Outcome,
        answer: Callable[[dict[str, Any]], Awaitable[None]],
    ) -> None:
        """Answer one call, and write down how it ended."""
        started_at = time.perf_counter()
        status = 500
        self.metrics.begins()
        self.active.add(to)
        try:
            CURRENT.set(outcome)
            if self.stopping:
                raise Refused(503, STOPS, wait=1.0)
            with self.access_control.under_way(token):
                self.access_control.count(token)
                data = await to.body(int(self.settings.max_megabytes * 1e6), self.settings.read_seconds)
                if (label := label_in(data)) is not None:  # looked at before all else is read
                    outcome.label = self.access_control.label(token, label)
                body = decoded(data, self.settings.max_values)
                del data
                to.watch()
                provider = self.answers.provider_of(outcome.label) if outcome.label else ""
                with self.access_control.under_way(token, provider) if provider else nullcontext():
                    await answer(body)
            status = to.status or 500
        except (AgoutiError, Refused) as error:
            reply_error = error_body(error, to.identifier)
            status, outcome.error = reply_error.status, reply_error.code or type(error).__name__
            to.error = for_owner(error)
            raise
        except (CallerDisconnected, asyncio.CancelledError):
            status = CLIENT_CLOSED if to.disconnected or not self.stopping else 503
            raise
        finally:
            self.active.discard(to)
            self._ended(to, token, form, outcome, status, time.perf_counter() - started_at)

    def _ended(
        self, to: Exchange, token: AccessToken, form: str, outcome: Outcome, status: int, seconds: float
    ) -> None:
        reply, spent = outcome.known(), outcome.spent
        call = CallSeen(
            id=to.identifier,
            at=time.time(),
            token=token.name,
            label=outcome.label,
            form=form,
            status=status,
            seconds=round(seconds, 4),
            provider=outcome.provider if reply is None else reply.provider,
            model=outcome.model if reply is None else reply.model or "",
            input_tokens=outcome.tokens[0] if spent or reply is None else reply.usage.input_tokens,
            output_tokens=outcome.tokens[1] if spent or reply is None else reply.usage.output_tokens,
            cost=outcome.cost if spent or reply is None else reply.cost,
            currency=outcome.currency if spent or reply is None or reply.price is None else reply.price.currency,
            streamed=outcome.streamed,
            error=outcome.error,
        )
        self.metrics.ended(call, self._counted_as(call.label))
        self.access_control.took(token, (call.input_tokens or 0) + (call.output_tokens or 0))
        self.recent_calls.add(call)
        self.written(to, call)

    def written(self, to: Exchange, call: CallSeen, *, quiet: bool = False) -> None:
        """Write the line of a request, once."""
        to.token = call.token
        to.logged = True
        client = to.scope.get("client") or ("",)
        write(call, to.scope["method"], to.scope["path"], str(client[0]), to.error, quiet=quiet)

    def refused(self, to: Exchange, seconds: float) -> None:
        """A request that was no call, or came no further than the door: it is counted, and stands in the log."""
        path, status = to.scope["path"], to.status or CLIENT_CLOSED
        call = CallSeen(
            id=to.identifier,
            at=time.time(),
            token=to.token,
            label="",
            form="",
            status=status,
            seconds=round(seconds, 4),
            error=to.error,
        )
        self.metrics.refused(call, status)
        self.written(to, call, quiet=status < 400 and (path in _QUIET or path.startswith("/page")))

    def _counted_as(self, label: str) -> str:
        """What a call is counted as: names that callers choose themselves are one, or they would have no end."""
        return label if label in self.config.models else f"*@{label.rpartition('@')[2]}" if label else ""

    async def _models(self, to: Exchange, token: AccessToken) -> None:
        data = encode_models(listed(self.config, token), int(self.started))
        await to.answer(200, encode_json(data), JSON)

    async def _model(self, to: Exchange, token: AccessToken) -> None:
        label = self.access_control.label(token, to.scope["path_params"]["name"])
        known = {each.name: each for each in listed(self.config, token)}
        if label not in known:
            raise Refused(404, f"{label[:100]} has no entry of its own", "model_not_found")
        await to.answer(200, encode_json(encode_model(known[label], int(self.started))), JSON)

    async def _health(self, to: Exchange, token: AccessToken) -> None:
        status = (
            "stopping" if self.stopping else "no access token can be read" if self.access_control.problem() else "ok"
        )
        await to.answer(200 if status == "ok" else 503, encode_json({"status": status}), JSON)

    async def _ready(self, to: Exchange, token: AccessToken) -> None:
        hook = self._client._ledger if self._client is not None else None
        ledger = "cannot be written" if hook is not None and hook.problem else "ok"
        parts = {
            "relay": "stopping" if self.stopping else "ok",
            "tokens": "cannot be read" if self.access_control.problem() else "ok",
            "ledger": "none" if self.config.ledger is None else ledger,
            "models": len(self.config.models),
        }
        good = all(value in ("ok", "none") for name, value in parts.items() if name != "models")
        await to.answer(200 if good else 503, encode_json({"ready": good, **parts}), JSON)

    async def _metrics(self, to: Exchange, token: AccessToken) -> None:
        if not self.sees_all(token):
            raise Refused(403, f"token {token.name} may not see the metrics of all", "permission_denied")
        await to.answer(200, self.metrics.text(), MEDIA_TYPE)

    async def _description(self, to: Exchange, token: AccessToken) -> None:
        from .openapi_document import description

        tokens = bool(self.access_control.problem()) or self.tokens.is_required or self.settings.require_tokens
        # Nobody is told of them at the door.
        labels = [] if tokens or not is_own(to.scope, to.headers) else list(self.config.models)[:20]
        await to.answer(200, encode_json(description(labels, tokens=tokens)), JSON)


def app(config: "Configuration | None" = None, **options: Any) -> Relay:
    """An ASGI application that serves every model of a configuration, to run or to mount in one of your own.

    It speaks chat completions, completions, responses, messages with token counts, embeddings and the list of models,
    whatever the providers speak; ``model`` is a label, or ``NAME@PROVIDER``. See the guide to the relay.

    Args:
        config: as for `agouti.Client`.
        options: further arguments of `agouti.AsyncClient`.

    Returns:
        The application. Its client is closed at the end of its lifespan; where it is mounted, call ``aclose``.

    Raises:
        ConfigError: the configuration is wrong.

    Example:
        >>> import agouti.relay, agouti.standins
        >>> with agouti.standins.serve() as served:
        ...     application = agouti.relay.app(served.config)
        >>> callable(application)
        True
    """
    return Relay(config, **options)
