"""The cache as a hook: equal questions are answered from disk, and those that are under way are asked once."""

import logging
import sqlite3
from threading import Lock
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from ..core.canonical.chat import Completion, Request
from ..core.errors import ConfigError
from ..engine.effects import OnAbandon, Signal, Steps, WaitFor
from ..engine.hooks import AnsweringHook, AttemptDetails, AttemptResult
from ..runtime.fork_reset import reset_after_fork
from .store import AnswerStore

if TYPE_CHECKING:
    from ..config.entries import Config
    from ..config.tables import CacheSettings

log = logging.getLogger("agouti.cache")

# Ends of an answer that is whole.
_COMPLETE_REASONS = frozenset({"stop", "tool_calls"})
# What makes an answer depend on what the provider keeps.
_BOUND = ("previous_response_id",)
_DECODER = msgspec.json.Decoder(Completion)


class _UnderWay:
    """A question that is being asked; others that ask the same wait for it."""

    __slots__ = ("answer", "signal")

    def __init__(self) -> None:
        self.signal = Signal()
        self.answer: Completion | None = None


class CacheHook(AnsweringHook):
    """Answers equal questions from disk.

    A question is equal where the same request goes out, to the same address and from the same account (see
    `agouti.engine.outgoing`). It is kept where its temperature is 0, or where that is asked for.

    Raises:
        ConfigError: the file cannot be used.
    """

    def __init__(self, config: "Config", settings: "CacheSettings") -> None:
        self._always = settings.always
        self._store = AnswerStore(
            settings.path, keep_days=settings.keep_days, max_bytes=settings.max_megabytes * 1_000_000
        )
        self._warned = False
        self._begin()
        reset_after_fork(self)

    def _begin(self) -> None:
        self._lock = Lock()
        self._under_way: dict[bytes, _UnderWay] = {}
        self._queries: dict[int, tuple[bytes, _UnderWay]] = {}

    def after_fork(self) -> None:
        """What is under way is the parent's."""
        self._begin()

    def kept(self, attempt: AttemptDetails) -> Steps[Completion | None]:
        """The answer from disk, or of somebody who is asking the same; `None`: it has to be asked."""
        key = self._key(attempt)
        if key is None:
            return None
        while True:
            answer = self._found(key)
            if answer is not None and _fits(attempt, answer):
                return answer
            with self._lock:
                under_way = self._under_way.get(key)
                if under_way is None:
                    own_query = self._under_way[key] = _UnderWay()
                    self._queries[id(attempt)] = (key, own_query)
                    break
            yield WaitFor(under_way.signal, attempt.left)
            if under_way.answer is not None and _fits(attempt, under_way.answer):
                return under_way.answer
            if not under_way.signal.is_set:
                return None  # its own deadline says the rest
        # Whatever becomes of the attempt, those who wait do not wait for ever.
        yield OnAbandon(lambda: self._give_up(id(attempt)))
        return None

    def _give_up(self, attempt: int) -> None:
        self._ended(attempt, None)

    def identifies(self, attempt: AttemptDetails) -> bool:
        """Only what is to be kept."""
        request = attempt.request
        if attempt.cache is False or not isinstance(request, Request):
            return False
        query = attempt.cache or self._always or _temperature(attempt) == 0
        return bool(query) and not any(name in request.parameters or name in request.extra for name in _BOUND)

    def _key(self, attempt: AttemptDetails) -> bytes | None:
        """The key of what is asked; `None` where it is not to be kept."""
        return bytes.fromhex(attempt.outgoing.fingerprint) if self.identifies(attempt) else None

    def _found(self, key: bytes) -> Completion | None:
        try:
            data = self._store.get(key)
            return None if data is None else _DECODER.decode(data)
        except (sqlite3.Error, msgspec.MsgspecError, ConfigError) as error:
            self._warn_once(error)
            return None

    def after(self, result: AttemptResult) -> None:
        """Keep a whole answer."""
        answer = result.answer
        if not isinstance(answer, Completion) or result.outcome != "answered" or not _is_whole(answer):
            self._ended(id(result.attempt), None)
            return
        if not _fits(result.attempt, answer):
            self._ended(id(result.attempt), None)
            return
        answer = replace(answer, body=result.body)
        query = self._ended(id(result.attempt), answer)
        if query is None:
            return
        try:
            self._store.put(query, msgspec.json.encode(answer))
        except (sqlite3.Error, msgspec.MsgspecError, UnicodeError, ConfigError) as error:
            self._warn_once(error)

    def _ended(self, attempt: int, answer: Completion | None) -> bytes | None:
        """Let those go on who wait for the same; the key of what was asked."""
        with self._lock:
            query = self._queries.pop(attempt, None)
            if query is None:
                return None
            key, own_query = query
            if self._under_way.get(key) is own_query:
                del self._under_way[key]
        own_query.answer = answer
        own_query.signal.set()
        return key

    def _warn_once(self, error: Exception) -> None:
        try:
            if isinstance(error, sqlite3.Error) and self._store.recover(error):
                return
        except (sqlite3.Error, ConfigError) as worse:
            error = worse
        if not self._warned:
            self._warned = True
            log.warning("the cache cannot be used: %s; calls go on without it", error)

    def close(self) -> None:
        """Let go of the file."""
        self._store.close()


def _temperature(attempt: AttemptDetails) -> object:
    """The temperature that is asked for, under our name or in the caller's own words."""
    question, request = attempt.question, attempt.request
    own_fields = question.own.fields if question is not None and question.own is not None else {}
    parameters = request.parameters if isinstance(request, Request) else {}
    return parameters.get("temperature", own_fields.get("temperature"))


def _fits(attempt: AttemptDetails, answer: object) -> bool:
    """Whether an answer is what the caller has asked for: what is not must be asked again, and would come again."""
    return attempt.fits is None or attempt.fits(answer)


def _is_whole(answer: Completion) -> bool:
    """Whether an answer was neither cut nor refused, and has something in it."""
    return bool(answer.choices) and all(
        choice.finish_reason in _COMPLETE_REASONS
        and not choice.refusal
        and bool(choice.text or choice.tool_calls or choice.files)
        for choice in answer.choices
    )
