"""Deferred batches on the wire: many requests handed over at once, answered later, at a lower price.

``chat`` has files and batches; ``messages`` has batches of its own. Everything here is bytes in, facts out.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec

from ...core.errors import ReplyUnreadable
from ...core.json.lenient import any_json
from ..wire import Handed, LineResult, Outgoing, State

_BOUNDARY = "agouti-7f3c9d51e2"
_URL = "/v1/chat/completions"


def _fields(body: bytes, subject: str) -> dict[str, Any]:
    try:
        found = any_json(body)
    except (msgspec.DecodeError, RecursionError):
        found = None
    if not isinstance(found, dict):
        raise ReplyUnreadable(f"{subject} cannot be read")
    return found


def _listed(body: bytes) -> list[dict[str, Any]]:
    listed = _fields(body, "the list of batches").get("data")
    return [each for each in listed if isinstance(each, dict)] if isinstance(listed, list) else []


def _lines(body: bytes) -> Iterator[dict[str, Any]]:
    """The lines of a file of results; one that cannot be read is empty.

    Raises:
        ReplyUnreadable: none can be read.
    """
    torn = read = 0
    for line in body.split(b"\n"):
        if not line.strip():
            continue
        try:
            fields = _fields(line, "a result of the batch")
        except ReplyUnreadable:
            torn += 1
            continue
        read += 1
        yield fields
    if torn and not read:
        raise ReplyUnreadable("the results of the batch cannot be read")
    yield from ({} for _ in range(torn))


def _table(fields: Mapping[str, Any], name: str) -> dict[str, Any]:
    value = fields.get(name)
    return value if isinstance(value, dict) else {}


def _identified(fields: Mapping[str, Any], subject: str) -> str:
    name = fields.get("id")
    if not isinstance(name, str) or not name:
        raise ReplyUnreadable(f"{subject} has no id")
    return name


def _number(value: Any) -> int:
    return value if isinstance(value, int) else 0


class FilesAndBatches:
    """Files and batches, as ``chat`` has them."""

    most = 5000

    def upload(self, requests: Sequence[tuple[str, Mapping[str, Any]]]) -> Outgoing | None:
        lines = b"".join(
            msgspec.json.encode({"custom_id": name, "method": "POST", "url": _URL, "body": body}) + b"\n"
            for name, body in requests
        )
        boundary = _BOUNDARY
        while boundary.encode() in lines:
            boundary += "x"
        head = f'--{boundary}\r\nContent-Disposition: form-data; name="purpose"\r\n\r\nbatch\r\n--{boundary}\r\n'
        file = 'Content-Disposition: form-data; name="file"; filename="rows.jsonl"\r\n'
        kind = "Content-Type: application/jsonl\r\n\r\n"
        raw = (head + file + kind).encode() + lines + f"\r\n--{boundary}--\r\n".encode()
        headers = (("content-type", f"multipart/form-data; boundary={boundary}"),)
        return Outgoing("follow", "/files", headers=headers, raw=raw)

    def begin(self, requests: Sequence[tuple[str, Mapping[str, Any]]], file: str, mark: str) -> Outgoing:
        body = {"input_file_id": file, "endpoint": _URL, "completion_window": "24h", "metadata": {"agouti": mark}}
        return Outgoing("follow", "/batches", body)

    def look(self, name: str) -> Outgoing:
        return Outgoing("follow", f"/batches/{name}", None, "GET")

    def cancel(self, name: str) -> Outgoing:
        return Outgoing("follow", f"/batches/{name}/cancel", {})

    def listed(self) -> Outgoing:
        return Outgoing("follow", "/batches", None, "GET", query="limit=100")

    def read_file(self, body: bytes) -> str:
        return _identified(_fields(body, "the file"), "the file")

    def read(self, body: bytes) -> Handed:
        return self._of(_fields(body, "the batch"))

    def read_list(self, body: bytes) -> list[Handed]:
        return [self._of(each) for each in _listed(body)]

    def _of(self, fields: dict[str, Any]) -> Handed:
        status = fields.get("status")
        counts = _table(fields, "request_counts")
        files = [fields.get("output_file_id"), fields.get("error_file_id")]
        results = tuple(f"/files/{name}/content" for name in files if name)
        ended = status in ("completed", "cancelled", "expired")
        state: State = "ended" if ended else "failed" if status == "failed" else "waiting"
        listed = _table(fields, "errors").get("data") or ()
        return Handed(
            name=_identified(fields, "the batch"),
            state=state,
            done=_number(counts.get("completed")) + _number(counts.get("failed")),
            total=_number(counts.get("total")),
            results=results if state == "ended" else (),
            mark=str(_table(fields, "metadata").get("agouti") or ""),
            begun=str(fields.get("created_at") or ""),
            file=str(fields.get("input_file_id") or ""),
            why="; ".join(str(each.get("message")) for each in listed if isinstance(each, dict))[:300],
        )

    def requests(self, submitted: Handed) -> Outgoing | None:
        return Outgoing("follow", f"/files/{submitted.file}/content", None, "GET") if submitted.file else None

    def read_requests(self, body: bytes) -> Iterator[tuple[str, Any]]:
        for fields in _lines(body):
            yield str(fields.get("custom_id") or ""), fields.get("body")

    def leftovers(self, submitted: Handed) -> list[Outgoing]:
        files = [submitted.file, *[each.removeprefix("/files/").removesuffix("/content") for each in submitted.results]]
        return [Outgoing("follow", f"/files/{name}", None, "DELETE") for name in files if name and "/" not in name]

    def read_results(self, body: bytes) -> Iterator[LineResult]:
        for fields in _lines(body):
            response = _table(fields, "response")
            row_body = response.get("body") if response else {"error": fields.get("error")}
            status = _number(response.get("status_code"))
            yield LineResult(str(fields.get("custom_id") or ""), status, msgspec.json.encode(row_body))


class MessageBatches:
    """Batches, as ``messages`` has them."""

    most = 5000

    def upload(self, requests: Sequence[tuple[str, Mapping[str, Any]]]) -> Outgoing | None:
        return None

    def begin(self, requests: Sequence[tuple[str, Mapping[str, Any]]], file: str, mark: str) -> Outgoing:
        lines = [{"custom_id": name, "params": dict(body)} for name, body in requests]
        return Outgoing("follow", "/messages/batches", {"requests": lines})

    def look(self, name: str) -> Outgoing:
        return Outgoing("follow", f"/messages/batches/{name}", None, "GET")

    def cancel(self, name: str) -> Outgoing:
        return Outgoing("follow", f"/messages/batches/{name}/cancel", {})

    def listed(self) -> Outgoing:
        return Outgoing("follow", "/messages/batches", None, "GET", query="limit=100")

    def read_file(self, body: bytes) -> str:
        raise ReplyUnreadable("there are no files")

    def read(self, body: bytes) -> Handed:
        return self._of(_fields(body, "the batch"))

    def read_list(self, body: bytes) -> list[Handed]:
        return [self._of(each) for each in _listed(body)]

    def _of(self, fields: dict[str, Any]) -> Handed:
        counts = {name: _number(count) for name, count in _table(fields, "request_counts").items()}
        ended = fields.get("processing_status") == "ended"
        address = fields.get("results_url")
        return Handed(
            name=_identified(fields, "the batch"),
            state="ended" if ended else "waiting",
            done=sum(counts.values()) - counts.get("processing", 0),
            total=sum(counts.values()),
            results=(address,) if ended and isinstance(address, str) else (),
            begun=str(fields.get("created_at") or ""),
        )

    def requests(self, submitted: Handed) -> Outgoing | None:
        return None

    def read_requests(self, body: bytes) -> Iterator[tuple[str, Any]]:
        yield from ()

    def leftovers(self, submitted: Handed) -> list[Outgoing]:
        return []  # there are no files, and the results go by themselves

    def read_results(self, body: bytes) -> Iterator[LineResult]:
        for fields in _lines(body):
            result = _table(fields, "result")
            kind = result.get("type")
            row_body = result.get("message") if kind == "succeeded" else result.get("error") or {"type": kind}
            status = 200 if kind == "succeeded" else 400 if kind == "errored" else 0
            yield LineResult(str(fields.get("custom_id") or ""), status, msgspec.json.encode(row_body))
