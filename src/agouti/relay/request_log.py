"""The request log: one line for every request, as text or as JSON, written by a thread of its own.

Whoever reads it late stops nobody: lines that nobody takes are counted, and left out.
"""

import logging
import logging.handlers
import os
import queue
import threading
import time
from typing import TYPE_CHECKING, Any

import msgspec

from ..core.secrets.masking import printable

if TYPE_CHECKING:
    from ..config.tables import RelaySettings
    from .recent_calls import CallSeen

log = logging.getLogger("agouti.relay")
# So many lines wait for whoever reads them.
_WAITING = 10_000
_LAST = 2.0


def write(call: "CallSeen", method: str, path: str, client: str, message: str, *, quiet: bool) -> None:
    """Write the line of a request.

    Args:
        client: the caller's address.
        message: what went wrong, for the owner.
        quiet: it is of no interest unless something went wrong: health, metrics, the page.
    """
    level = logging.DEBUG if quiet else logging.INFO
    if not log.isEnabledFor(level):
        return
    parts = [call.id, printable(call.token) or "-", call.form or f"{method} {printable(path)[:200]}"]
    parts += [printable(call.label) or "-", str(call.status), f"{call.seconds:.3f} s"]
    if call.input_tokens is not None or call.output_tokens is not None:
        parts.append(f"{call.input_tokens or 0}+{call.output_tokens or 0} tokens")
    if call.cost is not None:
        parts.append(f"{call.cost:.6f} {call.currency}".rstrip())
    if message:
        parts.append(printable(message)[:2000])
    fields = {**msgspec.structs.asdict(call), "method": method, "path": path[:500], "client": client, "error": message}
    log.log(level, " ".join(parts), extra={"agouti_fields": fields})


class _Text(logging.Formatter):
    """A line of text."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(message)s", "%Y-%m-%d %H:%M:%S")


class _Json(logging.Formatter):
    """A line of JSON: the fields of a request, or a message."""

    def format(self, record: logging.LogRecord) -> str:
        fields: dict[str, Any] = dict(getattr(record, "agouti_fields", None) or {"message": record.getMessage()})
        at = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(record.created))
        record_json = {"time": f"{at}.{int(record.msecs):03d}Z", "level": record.levelname.lower(), **fields}
        if record.exc_info:
            record_json["traceback"] = self.formatException(record.exc_info)
        return msgspec.json.encode(record_json, enc_hook=str).decode()


class _Queue(logging.handlers.QueueHandler):
    """Hands lines over; those that nobody takes are counted."""

    lost = 0

    def enqueue(self, record: logging.LogRecord) -> None:
        try:
            self.queue.put_nowait(record)
        except queue.Full:
            self.lost += 1

    def prepare(self, record: logging.LogRecord) -> logging.LogRecord:
        record.message = record.getMessage()
        if self.lost:
            record.msg, record.args = f"{record.message} ({self.lost} lines before it were left out)", None
            self.lost = 0
        return record


class _NoLock:
    """For a handler that one thread alone uses: whoever ends the program never waits for it."""

    def acquire(self) -> None: ...
    def release(self) -> None: ...
    def __enter__(self) -> None: ...
    def __exit__(self, *_: object) -> None: ...


class _StandardError(logging.Handler):
    """Writes to standard error without the locks of its stream: nobody may read there."""

    def createLock(self) -> None:  # noqa: N802  # the name of the standard library
        self.lock = _NoLock()  # type: ignore[assignment]

    def emit(self, record: logging.LogRecord) -> None:
        data = f"{self.format(record)}\n".encode("utf-8", "replace")
        try:
            while data:
                data = data[os.write(2, data) :]
        except OSError:  # closed
            return


def listen(settings: "RelaySettings") -> "logging.handlers.QueueListener | None":
    """Write the log as the settings say, until the listener is stopped; `None` where there is none to be.

    Raises:
        OSError: its file cannot be opened.
    """
    if settings.log == "off":
        return None
    target: logging.Handler
    if settings.log_file:
        target = logging.handlers.WatchedFileHandler(settings.log_file, encoding="utf-8")
    else:
        target = _StandardError()
    target.setFormatter(_Json() if settings.log == "json" else _Text())
    waiting: queue.Queue[Any] = queue.Queue(_WAITING)
    listener = logging.handlers.QueueListener(waiting, target)
    handler = _Queue(waiting)
    log.addHandler(handler)
    log.setLevel(logging.INFO)
    log.propagate = False
    listener.start()
    return listener


def end(listener: "logging.handlers.QueueListener | None") -> None:
    """Write what waits, as far as somebody takes it."""
    if listener is not None:
        for handler in [each for each in log.handlers if isinstance(each, _Queue) and each.queue is listener.queue]:
            log.removeHandler(handler)
        last = threading.Thread(target=listener.stop, daemon=True)
        last.start()
        last.join(_LAST)
