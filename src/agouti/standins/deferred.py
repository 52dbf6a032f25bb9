"""Batches that are answered later: files and batches of ``chat``, message batches of ``messages``. Strict on purpose."""

import asyncio
import json
import re
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any, TypeAlias

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .auth import Refusal
from .model import Refused, guarded
from .providers import StandIn
from .settings import Settings

Answer: TypeAlias = "Callable[[Request], Awaitable[Response]]"
_MOST = 50_000
_ID = re.compile(r"[A-Za-z0-9_-]{1,64}")


@dataclass
class _Batch:
    """One batch; how far it is follows from the clock.

    Attributes:
        lines: identifiers and bodies.
        facts: what it was begun with.
        takes: seconds until it is done.
    """

    id: str
    lines: list[tuple[str, dict[str, Any]]]
    facts: dict[str, Any]
    takes: float
    begun: float = field(default_factory=time.time)
    cancelled: float | None = None
    results: list[tuple[str, int, dict[str, Any]]] | None = None

    @property
    def share(self) -> float:
        """How much of it is done."""
        until = time.time() if self.cancelled is None else self.cancelled
        return min((until - self.begun) / self.takes, 1.0) if self.takes else 1.0

    @property
    def ended(self) -> bool:
        return self.cancelled is not None or self.share >= 1.0

    def done(self) -> list[tuple[str, dict[str, Any]]]:
        """The lines that were done before it was cancelled."""
        return self.lines if self.cancelled is None else self.lines[: int(len(self.lines) * self.share)]


def _refuse(message: str, status: int = 400) -> Refused:
    return Refused(Refusal(status, message))


async def _answered(batch: _Batch, answer: Answer) -> list[tuple[str, int, dict[str, Any]]]:
    """What came of each line."""
    if batch.results is None:
        batch.results = []
        for name, body in batch.done():
            reply = await answer(_request(body))
            batch.results.append((name, reply.status_code, json.loads(bytes(reply.body))))
            await asyncio.sleep(0)
    return batch.results


def _request(body: dict[str, Any]) -> Request:
    """A request for one line, as if it had come alone."""

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": json.dumps(body).encode(), "more_body": False}

    scope = {"type": "http", "method": "POST", "path": "/", "headers": [], "query_string": b"", "path_params": {}}
    return Request(scope, receive)


def chat_routes(provider: StandIn, settings: Settings, answer: Answer, in_words: Callable[[Refused], Response]) -> list[Route]:  # fmt: skip
    """Files and batches."""
    files: dict[str, bytes] = {}
    batches: dict[str, _Batch] = {}
    prefix = f"/{provider.label}{provider.path}"

    def told(batch: _Batch) -> dict[str, Any]:
        status = "in_progress"
        if batch.cancelled is not None:
            status = "cancelling" if time.time() < batch.cancelled + 0.1 else "cancelled"
        elif batch.ended:
            status = "completed"
        count = int(len(batch.lines) * batch.share)
        ready = status in ("completed", "cancelled")
        return {
            "id": batch.id, "object": "batch", "endpoint": batch.facts["endpoint"], "status": status, "errors": None,
            "input_file_id": batch.facts["input_file_id"], "metadata": batch.facts.get("metadata"),
            "output_file_id": f"file-out-{batch.id}" if ready else None,
            "error_file_id": f"file-err-{batch.id}" if ready else None,
            "created_at": int(batch.begun), "completion_window": "24h",
            "request_counts": {"total": len(batch.lines), "completed": count, "failed": 0},
        }  # fmt: skip

    def known(request: Request) -> _Batch:
        batch = batches.get(request.path_params["id"])
        if batch is None:
            raise _refuse(f"No batch found with id '{request.path_params['id']}'.", 404)
        return batch

    @guarded(provider, in_words)
    async def upload(request: Request) -> Response:
        fields = _multipart(request.headers.get("content-type", ""), await request.body())
        if fields.get("purpose", (b"",))[0] != b"batch" or "file" not in fields:
            raise _refuse("Upload a file with the purpose 'batch'.")
        name = settings.next_id("file")
        files[name] = fields["file"][0]
        return JSONResponse({"id": name, "object": "file", "bytes": len(files[name]), "purpose": "batch"})

    @guarded(provider, in_words)
    async def begin(request: Request) -> Response:
        body = await request.json()
        if set(body) - {"input_file_id", "endpoint", "completion_window", "metadata"}:
            raise _refuse("Unknown parameter.")
        if body.get("completion_window") != "24h" or body.get("endpoint") != "/v1/chat/completions":
            raise _refuse("Only '24h' and '/v1/chat/completions' are supported.")
        if body.get("input_file_id") not in files:
            raise _refuse("No such file object.", 404)
        lines = []
        for number, line in enumerate(files[body["input_file_id"]].splitlines(), 1):
            each = json.loads(line)
            if set(each) != {"custom_id", "method", "url", "body"} or each["url"] != body["endpoint"]:
                raise _refuse(f"Line {number} is no request.")
            lines.append((each["custom_id"], each["body"]))
        _check(lines)
        batch = _Batch(settings.next_id("batch"), lines, body, settings.deferred)
        batches[batch.id] = batch
        return JSONResponse(told(batch))

    @guarded(provider, in_words)
    async def look(request: Request) -> Response:
        return JSONResponse(told(known(request)))

    @guarded(provider, in_words)
    async def listed(request: Request) -> Response:
        return JSONResponse({"object": "list", "data": [told(each) for each in reversed(batches.values())]})

    @guarded(provider, in_words)
    async def cancel(request: Request) -> Response:
        batch = known(request)
        if not batch.ended:
            batch.cancelled = time.time()
        return JSONResponse(told(batch))

    @guarded(provider, in_words)
    async def content(request: Request) -> Response:
        kind, _, name = request.path_params["id"].removeprefix("file-").partition("-")
        batch = batches.get(name)
        if batch is None or not batch.ended:
            raise _refuse("No such file object.", 404)
        lines = []
        for custom, status, body in reversed(await _answered(batch, answer)):  # in no order
            if (status == 200) == (kind == "out"):
                response = {"status_code": status, "request_id": f"req-{custom}", "body": body}
                lines.append({"id": f"line-{custom}", "custom_id": custom, "response": response, "error": None})
        return Response("".join(json.dumps(line) + "\n" for line in lines), media_type="application/jsonl")

    @guarded(provider, in_words)
    async def delete(request: Request) -> Response:
        name = request.path_params["id"]
        kind, _, batch = name.removeprefix("file-").partition("-")
        if files.pop(name, None) is None and (kind not in ("out", "err") or batch not in batches):
            raise _refuse("No such file object.", 404)
        return JSONResponse({"id": name, "object": "file", "deleted": True})

    return [
        Route(f"{prefix}/files", upload, methods=["POST"]),
        Route(f"{prefix}/files/{{id}}", delete, methods=["DELETE"]),
        Route(f"{prefix}/files/{{id}}/content", content, methods=["GET"]),
        Route(f"{prefix}/batches", begin, methods=["POST"]),
        Route(f"{prefix}/batches", listed, methods=["GET"]),
        Route(f"{prefix}/batches/{{id}}", look, methods=["GET"]),
        Route(f"{prefix}/batches/{{id}}/cancel", cancel, methods=["POST"]),
    ]


def _check(lines: list[tuple[str, dict[str, Any]]]) -> None:
    if not lines or len(lines) > _MOST:
        raise _refuse(f"A batch takes 1 to {_MOST} requests.")
    names = [name for name, _ in lines]
    if len(set(names)) < len(names):
        raise _refuse("custom_id must be unique.")
    if any(not _ID.fullmatch(name) for name in names):
        raise _refuse("custom_id: string should match pattern '^[a-zA-Z0-9_-]{1,64}$'")
    if any(body.get("stream") for _, body in lines):
        raise _refuse("stream is not supported in a batch.")


def _multipart(kind: str, body: bytes) -> dict[str, tuple[bytes, str]]:
    """The fields of a form with files."""
    boundary = kind.partition("boundary=")[2].strip('"').encode()
    if not kind.startswith("multipart/form-data") or not boundary:
        raise _refuse("Send multipart/form-data.")
    fields: dict[str, tuple[bytes, str]] = {}
    for part in body.split(b"--" + boundary)[1:-1]:
        head, _, data = part[2:-2].partition(b"\r\n\r\n")
        name = re.search(rb'name="([^"]*)"', head)
        file = re.search(rb'filename="([^"]*)"', head)
        if name is not None:
            fields[name[1].decode()] = (data, file[1].decode() if file else "")
    return fields


def messages_routes(provider: StandIn, settings: Settings, answer: Answer, in_words: Callable[[Refused], Response]) -> list[Route]:  # fmt: skip
    """Message batches."""
    batches: dict[str, _Batch] = {}
    prefix = f"/{provider.label}{provider.path}"

    def told(batch: _Batch, request: Request) -> dict[str, Any]:
        status = "in_progress"
        if batch.cancelled is not None and time.time() < batch.cancelled + 0.1:
            status = "canceling"
        elif batch.ended:
            status = "ended"
        results = f"{request.base_url}{prefix.lstrip('/')}/messages/batches/{batch.id}/results"
        left = 0 if status == "ended" else len(batch.lines) - int(len(batch.lines) * batch.share)
        return {
            "id": batch.id, "type": "message_batch", "processing_status": status,
            "request_counts": {"processing": left, "succeeded": len(batch.lines) - left, "errored": 0, "canceled": 0,
                               "expired": 0},
            "created_at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(batch.begun)),
            "results_url": results if status == "ended" else None,
        }  # fmt: skip

    def known(request: Request) -> _Batch:
        batch = batches.get(request.path_params["id"])
        if batch is None:
            raise _refuse("Batch not found.", 404)
        return batch

    @guarded(provider, in_words)
    async def begin(request: Request) -> Response:
        body = await request.json()
        if set(body) != {"requests"}:
            raise _refuse("requests: Field required")
        if any(set(each) != {"custom_id", "params"} for each in body["requests"]):
            raise _refuse("requests.0: Extra inputs are not permitted")
        lines = [(each["custom_id"], each["params"]) for each in body["requests"]]
        _check(lines)
        batch = _Batch(settings.next_id("msgbatch"), lines, {}, settings.deferred)
        batches[batch.id] = batch
        return JSONResponse(told(batch, request))

    @guarded(provider, in_words)
    async def look(request: Request) -> Response:
        return JSONResponse(told(known(request), request))

    @guarded(provider, in_words)
    async def listed(request: Request) -> Response:
        data = [told(each, request) for each in reversed(batches.values())]
        return JSONResponse({"data": data, "has_more": False})

    @guarded(provider, in_words)
    async def cancel(request: Request) -> Response:
        batch = known(request)
        if not batch.ended:
            batch.cancelled = time.time()
        return JSONResponse(told(batch, request))

    @guarded(provider, in_words)
    async def results(request: Request) -> Response:
        batch = known(request)
        if not batch.ended:
            raise _refuse("The batch has not ended.", 404)
        came = await _answered(batch, answer)
        lines = [
            {"custom_id": name, "result": {"type": "succeeded", "message": body} if status == 200 else {"type": "errored", "error": body}}
            for name, status, body in reversed(came)
        ]  # fmt: skip
        lines += [{"custom_id": name, "result": {"type": "canceled"}} for name, _ in batch.lines[len(came) :]]
        return Response("".join(json.dumps(line) + "\n" for line in lines), media_type="application/x-jsonl")

    return [
        Route(f"{prefix}/messages/batches", begin, methods=["POST"]),
        Route(f"{prefix}/messages/batches", listed, methods=["GET"]),
        Route(f"{prefix}/messages/batches/{{id}}", look, methods=["GET"]),
        Route(f"{prefix}/messages/batches/{{id}}/cancel", cancel, methods=["POST"]),
        Route(f"{prefix}/messages/batches/{{id}}/results", results, methods=["GET"]),
    ]
