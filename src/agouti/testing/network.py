"""Tests without cost: nothing goes out, or only what an archive has no reply to; and what was asked is written down."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal, TypeAlias
from urllib.parse import urlsplit

from ..core.errors import NotRecorded, RequestError
from ..core.http.address import is_local
from ..engine.effects import Steps
from ..engine.hooks import AnsweringHook, AttemptDetails
from ..transport.archive import AsyncRecordingTransport, RecordingTransport, read_archive, reply_of
from ..transport.test_override import AsyncGuarded, Guarded
from .script import Sent, sent_of, standing_in

Archives: TypeAlias = Literal["replay", "extend", "renew"]
"""What is done with an archive: answer from it alone; answer from it, and record what is new; record all anew."""

ARCHIVES: tuple[Archives, ...] = ("replay", "extend", "renew")


class WentOut(AssertionError):
    """A test asked a provider, where nothing may go out."""


class Offline:
    """Nothing goes out but to this machine.

    Attributes:
        tried: what would have gone out.
    """

    hooks: tuple[Any, ...] = ()
    keyless = False

    def __init__(self) -> None:
        self.tried: list[str] = []

    def sync(self, network: Any) -> Guarded:
        return Guarded(network, self._check)

    def asynchronous(self, network: Any) -> AsyncGuarded:
        return AsyncGuarded(network, self._check)

    def _check(self, request: Any) -> None:
        if not is_local(urlsplit(request.url).hostname or ""):
            self.tried.append(f"{request.method} {request.url.partition('?')[0]}")
            raise NotRecorded(
                f"this test would have sent {self.tried[-1]}",
                hint="Script a reply, use the stand-ins, or answer from an archive.",
            )


@contextmanager
def offline() -> Iterator[Offline]:
    """Nothing goes out but to this machine while the block runs.

    Raises:
        WentOut: at the end, where something would have; also where the application has caught the error.

    Example:
        >>> import agouti
        >>> from agouti.testing import offline
        >>> with agouti.Client.at("https://api.northbank.example/v1") as client:
        ...     try:
        ...         with offline():
        ...             client.ask("quill-large", "When do peas go in?")
        ...     except agouti.NotRecorded as error:
        ...         print(error.message)
        this test would have sent POST https://api.northbank.example/v1/chat/completions
    """
    guard = Offline()
    with standing_in(guard):
        yield guard
    if guard.tried:
        raise WentOut(f"this would have cost: {'; '.join(guard.tried[:5])}")


class _Archived:
    """An archive answers, and records what is new where that is wanted."""

    hooks: tuple[Any, ...] = ()

    def __init__(self, path: Path, mode: Archives) -> None:
        self._path = path
        self._mode = mode
        self.keyless = mode == "replay"
        self._archive = read_archive(path) if path.exists() else None  # another file is not touched
        if self._archive is None and mode == "replay":
            raise RequestError(
                f"there is no archive {path}", hint='Record it once: pytest --agouti-archives=extend, or mode="extend".'
            )
        self._recorder: Any = None

    def sync(self, network: Any) -> "_ScriptedTransport":
        return _ScriptedTransport(
            self, RecordingTransport(network, self._recording()) if self._mode != "replay" else None
        )

    def asynchronous(self, network: Any) -> "_AsyncAnswering":
        recording = AsyncRecordingTransport(network, self._recording()) if self._mode != "replay" else None
        return _AsyncAnswering(self, recording)

    def _recording(self) -> Any:
        if self._recorder is None:
            from ..transport.recorder import Recorder

            self._path.parent.mkdir(parents=True, exist_ok=True)
            self._recorder = Recorder(self._path)
        return self._recorder

    def reply(self, request: Any, network: object) -> Any:
        """The recorded reply; `None`: it is to be recorded.

        Raises:
            NotRecorded: it is not there, and nothing new may be sent.
        """
        archive = self._archive
        received = archive.find(request) if archive is not None else None
        if received is not None:
            return reply_of(received)
        if network is None and archive is not None:
            raise NotRecorded(
                f"{archive.name} has no reply to this {request.method} {request.url.partition('?')[0]}",
                hint=f"{archive.nearest(request).capitalize()}. Record it: pytest --agouti-archives=extend.",
            )
        return None

    def close(self) -> None:
        """Let go of the file."""
        if self._recorder is not None:
            self._recorder.close()


class _ScriptedTransport:
    def __init__(self, archived: _Archived, network: Any) -> None:
        self._archived = archived
        self._network = network
        self.at_once = network is None

    def open(self, request: Any, timeouts: Any) -> Any:
        reply = self._archived.reply(request, self._network)
        return reply if reply is not None else self._network.open(request, timeouts)

    def close(self) -> None:
        """Nothing is to be closed: the network is the client's."""


class _AsyncAnswering:
    def __init__(self, archived: _Archived, network: Any) -> None:
        self._archived = archived
        self._network = network
        self.at_once = network is None

    async def open(self, request: Any, timeouts: Any) -> Any:
        from ..transport.archive import AsyncCannedReply

        reply = self._archived.reply(request, self._network)
        return AsyncCannedReply(reply) if reply is not None else await self._network.open(request, timeouts)

    async def close(self) -> None:
        """Nothing is to be closed: the network is the client's."""


@contextmanager
def archived(path: str | os.PathLike[str], mode: Archives = "replay") -> Iterator[None]:
    """An HTTP Archive answers for all providers, in all clients, while the block runs.

    Args:
        mode: ``replay`` fails on anything that is not in it; ``extend`` asks that, and records it; ``renew`` asks and
            records all anew, and replaces the file once the block has ended well.

    Raises:
        RequestError: there is no such file, and nothing may be recorded; or the mode is none.
        ConfigError: the file is no archive.
    """
    if mode not in ARCHIVES:
        raise RequestError(f"mode = {mode!r} is unknown", hint=f"Take {', '.join(ARCHIVES)}.")
    if mode == "renew":
        well = False
        try:
            with archived(renewing(Path(path), {}), "extend"):
                yield
            well = True
        finally:
            place_renewed(Path(path), well)
        return
    transport = _Archived(Path(path), mode)
    try:
        with standing_in(transport):
            yield
    finally:
        transport.close()


def renewing(path: Path, renewed: dict[Path, bool]) -> Path:
    """Where an archive is recorded anew; what is there stays until that has ended well.

    Raises:
        ConfigError: the file is no archive.
    """
    fresh = path.with_name(f".{path.name}.new")
    if path not in renewed:
        if path.exists():
            read_archive(path)  # another file is not replaced
        fresh.unlink(missing_ok=True)  # of a run that was killed
        renewed[path] = True
    return fresh


def place_renewed(path: Path, well: bool) -> None:
    """Put what was recorded in the place of what was there; drop it, if not all of it went well."""
    fresh = path.with_name(f".{path.name}.new")
    if not well:
        fresh.unlink(missing_ok=True)
    elif fresh.exists():
        os.replace(fresh, path)


class Watching(AnsweringHook):
    """Writes down what is asked; answers nothing."""

    def __init__(self) -> None:
        self.sent: list[Sent] = []

    def kept(self, attempt: AttemptDetails) -> Steps[object | None]:
        """Only look."""
        yield from ()
        self.sent.append(sent_of(attempt))
        return None


class _Watched:
    keyless = False

    def __init__(self, watching: Watching) -> None:
        self.hooks = (watching,)

    def sync(self, network: Any) -> Any:
        return network

    def asynchronous(self, network: Any) -> Any:
        return network


@contextmanager
def watched() -> Iterator[list[Sent]]:
    """What all clients ask while the block runs, in order, whoever answers it."""
    watching = Watching()
    with standing_in(_Watched(watching)):
        yield watching.sent
