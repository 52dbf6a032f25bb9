"""Exchanges as entries of an HTTP Archive (HAR 1.2), keys masked; and finding them again.

Source: the HAR 1.2 specification. Fields of our own begin with an underscore, as it allows.
"""

import base64
import json
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode, urlsplit, urlunsplit

import msgspec
from msgspec import Struct

from ..canonical.chat import Json
from ..errors import ConfigError
from ..secrets.secret import MASK, SecretText, looks_secret
from .exchange import HttpRequest


class Received(Struct):
    """What came back, as it is gathered; times in seconds after the request was sent."""

    status: int = 0
    headers: Sequence[tuple[str, str]] = ()
    waited: float = 0.0
    chunks: list[tuple[float, bytes]] = []
    failure: tuple[str, str, str | None] | None = None


def head(version: str) -> bytes:
    """How an archive begins; entries follow, separated by commas, then `TAIL`."""
    creator = msgspec.json.encode({"name": "agouti", "version": version}).decode()
    return f'{{"log": {{"version": "1.2", "creator": {creator}, "entries": [\n'.encode()


TAIL = b"\n]}}\n"


def whole_length(data: bytes) -> int | None:
    """How many bytes of an archive are whole; what is behind them was being written. `None`: it is no archive.

    >>> whole_length(head("1") + TAIL + b'{"half') == len(head("1") + TAIL), whole_length(b"{}")
    (True, None)
    """
    text = data.decode("utf-8", "surrogateescape")
    try:
        value, end = json.JSONDecoder().raw_decode(text.lstrip("\ufeff"))
        _ = value["log"]["entries"]
    except (ValueError, KeyError, TypeError, RecursionError):
        return None
    blanks = text[end:]
    end += len(blanks) - len(blanks.lstrip()) if not blanks.strip() else int(blanks[:1] == "\n")
    return len(text[:end].encode("utf-8", "surrogateescape"))


def entry(request: HttpRequest, received: Received, started_at: float, took: float) -> bytes:
    """One exchange.

    Args:
        started_at: seconds since the epoch.
        took: seconds from the request sent to the end of the reply.
    """
    body = b"".join([chunk for _, chunk in received.chunks])
    chunks = [[round(at * 1e3, 3), len(chunk)] for at, chunk in received.chunks]
    masker = request.masker
    if masker is not None and (masked := masker.mask_bytes(body)) is not body:
        body, chunks = masked, [[chunks[-1][0], len(masked)]]
    # HTTP libraries have string types of their own for names.
    headers = {str(name): str(value) for name, value in received.headers}
    kind = next((value for name, value in headers.items() if name.lower() == "content-type"), "application/json")
    content: dict[str, Json] = {"size": len(body), "mimeType": kind}
    try:
        content["text"] = body.decode()
    except UnicodeDecodeError:
        content |= {"text": base64.b64encode(body).decode(), "encoding": "base64"}
    url = request.url
    entry_json: dict[str, Json] = {
        "startedDateTime": datetime.fromtimestamp(started_at, UTC).isoformat(),
        "time": round(took * 1e3, 3),
        "request": {
            "method": request.method,
            "url": url,
            "httpVersion": "HTTP/1.1",
            "cookies": [],
            "headers": [{"name": name, "value": _masked(name, value)} for name, value in request.headers.items()],
            "queryString": [{"name": name, "value": value} for name, value in parse_qsl(urlsplit(url).query)],
            "headersSize": -1,
            "bodySize": len(request.body or b""),
        },
        "response": {
            "status": received.status,
            "statusText": "",
            "httpVersion": "HTTP/1.1",
            "cookies": [],
            "headers": [
                {"name": name, "value": MASK if looks_secret(name) else masker.mask(value) if masker else value}
                for name, value in headers.items()
            ],
            "content": content,
            "redirectURL": "",
            "headersSize": -1,
            "bodySize": len(body),
            "_pieces": chunks,
        },
        "cache": {},
        "timings": {
            "send": 0,
            "wait": round(received.waited * 1e3, 3),
            "receive": round(max(took - received.waited, 0) * 1e3, 3),
        },
    }
    if request.body is not None:
        entry_json["request"]["postData"] = {
            "mimeType": "application/json",
            "text": (masker.mask_bytes(request.body) if masker is not None else request.body).decode(
                "utf-8", "replace"
            ),
        }
    if received.failure is not None:
        entry_json["response"]["_failure"] = list(received.failure)
    return msgspec.json.format(msgspec.json.encode(entry_json), indent=1)


def _masked(name: str, value: str) -> str:
    return MASK if isinstance(value, SecretText) or looks_secret(name) else value


class Archive:
    """A recorded archive, from which requests are answered.

    The same request asked again gets the next recorded reply, and the last one from then on.

    Raises:
        ConfigError: the text is no archive.
    """

    def __init__(self, text: bytes, name: str) -> None:
        try:
            entries = msgspec.json.decode(text[: whole_length(text)])["log"]["entries"]
            self._replies: dict[Any, list[Received]] = {}
            for each in entries:
                self._replies.setdefault(_request_key(each["request"]), []).append(_received(each["response"]))
        except (msgspec.DecodeError, LookupError, AttributeError, TypeError, ValueError, RecursionError) as error:
            raise ConfigError(
                f"{name} is not an HTTP Archive ({type(error).__name__}: {error})",
                hint="Record one with Client(record=...).",
            ) from None
        self.name = name

    def find(self, request: HttpRequest) -> Received | None:
        """The reply to a request; `None` where it is not in the archive."""
        replies = self._replies.get(_key(request.method, request.url, request.body))
        if not replies:
            return None
        return replies.pop(0) if len(replies) > 1 else replies[0]

    def nearest(self, request: HttpRequest) -> str:
        """What is recorded of the same address, in words."""
        same = [key for key in self._replies if key[:2] == _key(request.method, request.url, None)[:2]]
        if same:
            return f"{len(same)} other requests to {same[0][1]} are in it: the body differs"
        return f"it holds requests to {', '.join(sorted({key[1] for key in self._replies})[:3]) or 'nothing'}"


def _request_key(request: Mapping[str, Any]) -> tuple[str, str, str]:
    return _key(request["method"], request["url"], request.get("postData", {}).get("text", "").encode() or None)


def _key(method: str, url: str, body: bytes | None) -> tuple[str, str, str]:
    # The key that a query held is not recorded, and not compared.
    parts = urlsplit(url)
    query = urlencode([pair for pair in parse_qsl(parts.query, keep_blank_values=True) if pair[1] != MASK])
    try:
        text = msgspec.json.encode(msgspec.json.decode(body or b"null"), order="sorted").decode()
    except (msgspec.DecodeError, UnicodeDecodeError):
        text = (body or b"").decode("utf-8", "replace")
    return method, urlunsplit((parts.scheme, parts.netloc, parts.path, query, "")), text


def _received(response: Mapping[str, Any]) -> Received:
    content = response.get("content", {})
    text = content.get("text") or ""
    body = base64.b64decode(text) if content.get("encoding") == "base64" else text.encode()
    chunks: list[tuple[float, bytes]] = []
    offset = 0
    for at, size in response.get("_pieces") or ([[0.0, len(body)]] if body else []):
        chunks.append((at / 1e3, body[offset : offset + size]))
        offset += size
    # Archives of browsers name what was compressed on the way, but hold it decompressed.
    headers = tuple(
        (each["name"], each["value"])
        for each in response.get("headers", [])
        if each["name"].lower() != "content-encoding"
    )
    failure = response.get("_failure")
    return Received(response["status"], headers, 0.0, chunks, tuple(failure) if failure else None)
