"""What the head of a reply may say: judged alike for threads and for tasks, whose libraries differ in it."""

import http.client
import re
from collections.abc import Mapping

from ..core.http.exchange import TransportFailure

_STATUS_LINE = re.compile(rb"HTTP/1\.[01] \d{3}(?: [^\r\n\0]*)?\r?\n")
_FIELD = re.compile(rb"[!#$%&'*+\-.^_`|~0-9A-Za-z]+[ \t]*:[^\r\n\0]*\r?\n")
_CONTINUED = re.compile(rb"[ \t][^\r\n\0]*\r?\n")
_KNOWN_CODINGS = frozenset({"gzip", "x-gzip", "deflate", "identity", ""})
_LONGEST = 2**63 - 1


class GarbledHead(http.client.HTTPException):
    """A line of a head is none."""


def check_status_line(line: bytes) -> None:
    """See that a reply begins as one of HTTP/1 does.

    Raises:
        http.client.BadStatusLine: it does not.
    """
    if not _STATUS_LINE.fullmatch(line):
        raise http.client.BadStatusLine(line.decode("latin-1"))


def check_field(line: bytes, *, first: bool) -> None:
    """See that a line is a header, or goes on with the one before.

    Raises:
        GarbledHead: it is neither.
    """
    if not (_FIELD.fullmatch(line) or (not first and _CONTINUED.fullmatch(line))):
        raise GarbledHead(f"a header is none: {line[:40].decode('latin-1')!r}")


def fault_of(headers: Mapping[str, str], version: tuple[int, int] | None = None) -> TransportFailure | None:
    """What is wrong with a head that was read; `None` where all is well.

    >>> fault_of({"content-length": "12"}), fault_of({"transfer-encoding": "gzip, chunked"}).detail
    (None, 'transfer-encoding: gzip, chunked')
    """
    if version is not None and version[0] != 1:
        return TransportFailure("not http", f"HTTP/{version[0]}.{version[1]}")
    if contradiction := _contradiction(headers):
        return TransportFailure("garbled", contradiction, began=True, sent=True)
    return None


def _contradiction(headers: Mapping[str, str]) -> str:
    """What a head says of its body that cannot be, or that nobody asked for."""
    transfer = headers.get("transfer-encoding")
    if transfer is not None and transfer.strip().lower() != "chunked":
        return f"transfer-encoding: {transfer[:40]}"
    length = headers.get("content-length")
    if length is not None:
        if transfer is not None:
            return f"content-length: {length[:40]}, and chunks"
        if not (length.isascii() and length.isdecimal() and int(length[:20]) <= _LONGEST):
            return f"content-length: {length[:40]}"
    coding = headers.get("content-encoding")
    if coding is not None and coding.strip().lower() not in _KNOWN_CODINGS:
        return f"content-encoding: {coding[:40]}, which was not asked for"
    return ""
