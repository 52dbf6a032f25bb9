"""Responses by their identifier: those that a provider keeps are asked of it, others are kept here for a while.

A response is its caller's alone: another token does not find it.
"""

import time
from collections import OrderedDict
from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import msgspec
from msgspec import Struct

from ..core.canonical.chat import Json
from ..dialects.server_base import encode_json
from ..dialects.wire import Outgoing
from .error_responses import Refused

if TYPE_CHECKING:
    from collections.abc import Mapping

_MAX_RESPONSES = 2000
_BYTES = 64_000_000
_SECONDS = 24 * 3600.0


class StoredResponse(Struct, frozen=True):
    """A response.

    Attributes:
        at: when it came.
        provider: who keeps it; empty where it is kept here.
        body: the response as JSON, where it is kept here.
        items: what was asked, as items, where it is kept here.
    """

    at: float
    provider: str
    body: bytes = b""
    items: bytes = b"[]"

    @property
    def size(self) -> int:
        """Bytes that it takes."""
        return len(self.body) + len(self.items)


class ResponseStore:
    """The latest responses; the oldest are forgotten.

    Args:
        clock: seconds from any beginning.
    """

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._stored: OrderedDict[tuple[str, str], StoredResponse] = OrderedDict()
        self._bytes = 0

    def add(
        self,
        owner: str,
        identifier: str | None,
        request: "Mapping[str, Json]",
        *,
        provider: str = "",
        body: bytes = b"",
    ) -> None:
        """Keep a response, unless its caller does not want that.

        Args:
            owner: the access token.
            request: the request.
        """
        if not identifier or request.get("store") is False:
            return
        items = b"[]" if provider else encode_json(_items(request.get("input")))
        self.remove(owner, identifier)
        stored = self._stored[owner, identifier] = StoredResponse(self._clock(), provider, body, items)
        self._bytes += stored.size
        oldest = self._clock() - _SECONDS
        while self._stored:
            key, first = next(iter(self._stored.items()))
            if len(self._stored) <= _MAX_RESPONSES and self._bytes <= _BYTES and first.at > oldest:
                break
            self.remove(*key)

    def remove(self, owner: str, identifier: str) -> None:
        """Forget one."""
        removed = self._stored.pop((owner, identifier), None)
        if removed is not None:
            self._bytes -= removed.size

    def of(self, owner: str, identifier: str) -> StoredResponse:
        """One of a caller's own.

        Raises:
            Refused: there is none.
        """
        stored = self._stored.get((owner, identifier))
        if stored is None or stored.at < self._clock() - _SECONDS:
            raise Refused(404, f"there is no response {identifier[:100]!r}", "response_not_found")
        return stored


def request_for(action: str, identifier: str, query: str) -> Outgoing:
    """The request by which a provider is asked about a response that it keeps.

    Args:
        action: ``get``, ``delete``, ``cancel`` or ``input_items``.
    """
    method = {"get": "GET", "input_items": "GET", "delete": "DELETE", "cancel": "POST"}[action]
    suffix = f"/{action}" if action in ("cancel", "input_items") else ""
    return Outgoing("follow", f"/responses/{quote(identifier, safe='')}{suffix}", None, method, query=query)


def stored_answer(action: str, identifier: str, stored: StoredResponse) -> bytes:
    """The answer about a response that is kept here.

    Raises:
        Refused: it is over, and cannot be cancelled.
    """
    if action == "get":
        return stored.body
    if action == "cancel":
        raise Refused(400, f"the response {identifier[:100]} is over: it cannot be cancelled", "response_is_over")
    if action == "delete":
        return encode_json({"id": identifier, "object": "response", "deleted": True})
    items: list[Any] = msgspec.json.decode(stored.items)
    ends: dict[str, Json] = {"first_id": None, "last_id": None}
    if items:
        ends = {"first_id": items[0]["id"], "last_id": items[-1]["id"]}
    return encode_json({"object": "list", "data": items[::-1], "has_more": False, **ends})


def _items(input_items: Json) -> list[Json]:
    """What was asked as items, each with an identifier."""
    if isinstance(input_items, str):
        input_items = [{"role": "user", "content": [{"type": "input_text", "text": input_items}]}]
    items = []
    for number, item in enumerate(input_items if isinstance(input_items, list) else ()):
        if isinstance(item, dict):
            content = item.get("content")
            if isinstance(content, str):
                item = {**item, "content": [{"type": "input_text", "text": content}]}
            items.append({"type": "message", "id": f"item_{number}", **item})
    return items
