"""What servers and networks do to a reply, and what becomes of a call: one table, for every kind of call and both clients.

Each row says what the server does, what a whole reply (`ask`, `exchange`, `fill`) ends with, and what a stream does.
``-``: nothing that this kind of reply can meet.
"""

import gzip
import json
import socket
import struct
import time
import zlib
from collections.abc import Callable
from typing import NamedTuple

from .kit import END, STREAM, Connection, chunked, piece, reply

TEXT = '{"month": "March"}'
BODY = json.dumps({"choices": [{"message": {"content": TEXT}, "finish_reason": "stop"}]}).encode()
GOOD = reply(BODY)
PIECES = piece(TEXT[:9]) + piece(TEXT[9:], "stop")
STREAMED = STREAM + PIECES + END
HEAD = b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\n"
HALF = STREAM + piece(TEXT[:9])

Do = Callable[[Connection], None]


class Row(NamedTuple):
    """A behaviour, what comes of it, and the total limit of the call: far off where a cap on bytes must be reached first."""

    does: str
    whole: Do
    stream: Do
    ends: str
    streams: str
    total: float = 6.0


def send(*parts: bytes) -> Do:
    """Write this, and keep the connection."""

    def do(connection: Connection) -> None:
        for part in parts:
            connection.write(part)

    return do


def last(data: bytes) -> Do:
    """Write this, and close."""

    def do(connection: Connection) -> None:
        connection.write(data)
        connection.sock.shutdown(socket.SHUT_RDWR)

    return do


def reset(data: bytes) -> Do:
    """Write this, and break off without a goodbye."""

    def do(connection: Connection) -> None:
        connection.write(data)
        time.sleep(0.05)
        connection.sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        connection.sock.close()

    return do


def slowly(data: bytes, pause: float, size: int = 1) -> Do:
    """Write this in small pieces."""

    def do(connection: Connection) -> None:
        for start in range(0, len(data), size):
            connection.write(data[start : start + size])
            time.sleep(pause)

    return do


def after(seconds: float, data: bytes) -> Do:
    """Write this later."""

    def do(connection: Connection) -> None:
        time.sleep(seconds)
        connection.write(data)

    return do


def then(first: bytes, seconds: float, second: bytes) -> Do:
    """Write this, and that later."""

    def do(connection: Connection) -> None:
        connection.write(first)
        time.sleep(seconds)
        connection.write(second)

    return do


def silent(data: bytes) -> Do:
    """Write this, and then nothing for long."""

    def do(connection: Connection) -> None:
        connection.write(data)
        connection.gone(6)

    return do


def endless(data: bytes, more: bytes, pause: float = 0.0) -> Do:
    """Write this, and more and more."""

    def do(connection: Connection) -> None:
        connection.write(data)
        until = time.monotonic() + 120
        while time.monotonic() < until:
            connection.write(more)
            time.sleep(pause)

    return do


def both(does: str, do: Do, ends: str, streams: str | None = None, total: float = 6.0) -> Row:
    """The same for both kinds of reply."""
    return Row(does, do, do, ends, ends if streams is None else streams, total)


def whole(does: str, do: Do, ends: str, total: float = 6.0) -> Row:
    """Only a whole reply can be like this."""
    return Row(does, do, send(STREAMED), ends, "-", total)


def stream(does: str, do: Do, streams: str, total: float = 6.0) -> Row:
    """Only a stream can be like this."""
    return Row(does, send(GOOD), do, "-", streams, total)


def head(lines: str, body: bytes = BODY) -> bytes:
    """A whole reply with further header lines, and none about its length."""
    return HEAD + lines.encode("latin-1") + b"\r\n\r\n" + body


def status(line: str, body: bytes = b'{"error": {"message": "no"}}') -> Do:
    """A reply with that status."""
    return send(reply(body, line))


def sse(*events: bytes) -> bytes:
    """A stream of these bytes, in chunks, with its end."""
    return STREAM + b"".join(chunked(each) for each in events) + b"0\r\n\r\n"


def data(value: object) -> bytes:
    """An event with JSON."""
    return b"data: %s\n\n" % json.dumps(value).encode()


def delta(text: str, finish: str | None = None) -> bytes:
    """An event with a piece of the answer."""
    return data({"choices": [{"index": 0, "delta": {"content": text}, "finish_reason": finish}]})


ALL = [delta(TEXT[:9]), delta(TEXT[9:], "stop"), b"data: [DONE]\n\n"]
LENGTH = f"content-length: {len(BODY)}"
PACKED = gzip.compress(BODY)

ROWS: list[Row] = [
    Row("answers", send(GOOD), send(STREAMED), "answers", "answers"),
    # Statuses.
    Row("says 100 twice, then answers", send(b"HTTP/1.1 100 Continue\r\n\r\n" * 2, GOOD), send(b"HTTP/1.1 100 Continue\r\n\r\n" * 2, STREAMED), "answers", "answers"),
    Row("says 102 with headers, then answers", send(b"HTTP/1.1 102 Wait\r\nx: 1\r\n\r\n", GOOD), send(b"HTTP/1.1 102 Wait\r\nx: 1\r\n\r\n", STREAMED), "answers", "answers"),
    Row("says 103, a second later answers", send(b"HTTP/1.1 103 Early Hints\r\nlink: </x>\r\n\r\n", GOOD), send(b"HTTP/1.1 103 Early Hints\r\nlink: </x>\r\n\r\n", STREAMED), "answers", "answers"),
    both("101, as if another protocol followed", send(b"HTTP/1.1 101 Switching\r\nupgrade: x\r\nconnection: upgrade\r\n\r\n"), "`ReplyUnreadable`"),
    both("204, no content", send(b"HTTP/1.1 204 No Content\r\n\r\n"), "`ReplyUnreadable`", "`StreamCut` after 3 tries"),
    whole("206 with a good body", send(reply(BODY, "206 Partial")), "answers"),
    both("300 without an address", status("300 Many"), "`ReplyUnreadable`"),
    both("301 to another host", send(reply(b"", "301 Moved", "location: https://elsewhere.example/v1")), "`AddressWrong`"),
    both("304, not modified", send(b"HTTP/1.1 304 Not Modified\r\n\r\n"), "`ReplyUnreadable`"),
    both("307 to itself", send(reply(b"", "307 Again", "location: /v1/chat/completions")), "`AddressWrong`"),
    both("400 with an error", status("400 Bad"), "`RequestRefused`"),
    both("401", status("401 No"), "`CredentialRefused`"),
    both("402", status("402 Pay"), "`OutOfCredit`"),
    both("403", status("403 No"), "`NoAccess`"),
    both("404 with an error of the API", status("404 No"), "`AddressWrong`"),
    both("404 with a web page", status("404 No", b"<html><title>Lost</title></html>"), "`AddressWrong`"),
    both("405", status("405 No"), "`AddressWrong`"),
    both("407 of a proxy on the way", status("407 Who", b""), "`ProxyFailed`"),
    both("408", status("408 Late"), "`ProviderFault` after 3 tries"),
    both("409", status("409 Conflict"), "`ProviderFault` after 3 tries"),
    both("413", status("413 Large"), "`ContextOverflow`"),
    both("415", status("415 What"), "`RequestRefused`"),
    both("422", status("422 No"), "`RequestRefused`"),
    both("425", status("425 Early"), "`Overloaded` after 3 tries"),
    both("429 without a word on when", status("429 Slow"), "`RateLimited` after 3 tries"),
    both("429, to come back in an hour", send(reply(b"{}", "429 Slow", "retry-after: 3600")), "`RateLimited`"),
    both("451", status("451 No"), "`RequestRefused`"),
    both("500 with an error", status("500 Oops"), "`ProviderFault` after 3 tries"),
    both("501", status("501 No"), "`ProviderFault` after 3 tries"),
    both("502 with a web page", status("502 Bad", b"<html><title>Bad Gateway</title></html>"), "`ProviderFault` after 3 tries"),
    both("503 without a body", status("503 Busy", b""), "`Overloaded` after 3 tries"),
    both("503 whose body breaks off", last(b"HTTP/1.1 503 Busy\r\ncontent-length: 900\r\n\r\n{"), "`Overloaded` after 3 tries"),
    both("504", status("504 Late"), "`ProviderFault` after 3 tries"),
    both("520, a status of nobody's", status("520 Odd"), "`ProviderFault` after 3 tries"),
    both("529", status("529 Busy"), "`Overloaded` after 3 tries"),
    both("999, no status at all", status("999 Odd"), "`ProviderFault` after 3 tries"),
    both("an error page of 60,000 angle brackets", status("500 Oops", b"<" * 60_000), "`ProviderFault` after 3 tries"),
    both("an endless error page", endless(b"HTTP/1.1 500 Oops\r\nconnection: close\r\n\r\n", b"x" * 65536), "`ReplyUnreadable`", "`ProviderFault` after 3 tries", total=90),
    # No reply.
    both("closes without a byte", last(b""), "`ConnectionLost`"),
    both("resets without a byte", reset(b""), "`ConnectionLost`"),
    both("closes within the status line", last(b"HTTP/1."), "`ConnectionLost`"),
    both("closes within the headers", last(b"HTTP/1.1 200 OK\r\ncontent-ty"), "`ConnectionLost`"),
    both("is silent", silent(b""), "`TimedOut`"),
    both("is silent within the headers", silent(b"HTTP/1.1 200 OK\r\ncontent-ty"), "`TimedOut`"),
    Row("takes a second to begin", after(1.0, GOOD), after(1.0, STREAMED), "answers", "answers"),
    Row("sends byte by byte", slowly(GOOD, 0.001), slowly(STREAMED, 0.001), "answers", "answers"),
    both("another service greets: SSH-2.0", last(b"SSH-2.0-x\r\n"), "`AddressWrong`"),
    both("another service answers: -ERR", last(b"-ERR unknown command\r\n"), "`AddressWrong`"),
    both("TLS is spoken there", last(b"\x15\x03\x01\x00\x02\x02\x46"), "`AddressWrong`"),
    both("a newer HTTP is spoken there", last(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"), "`AddressWrong`"),
    whole("the body alone, as HTTP/0.9 did", last(BODY), "`AddressWrong`"),
    # Heads.
    whole("HTTP/1.0, ended by closing", last(b"HTTP/1.0 200 OK\r\ncontent-type: application/json\r\n\r\n" + BODY), "answers"),
    stream("HTTP/1.0, ended by closing", last(b"HTTP/1.0 200 OK\r\ncontent-type: text/event-stream\r\n\r\n" + b"".join(ALL)), "answers"),
    Row("no words behind the status", send(GOOD.replace(b" OK", b"")), send(STREAMED.replace(b" OK", b"")), "answers", "answers"),
    Row("a header of 20 kB", send(GOOD.replace(b"\r\n", b"\r\nx: " + b"a" * 20_000 + b"\r\n", 1)), send(STREAMED.replace(b"\r\n", b"\r\nx: " + b"a" * 20_000 + b"\r\n", 1)), "answers", "answers"),
    both("a header of 200 kB", send(GOOD.replace(b"\r\n", b"\r\nx: " + b"a" * 200_000 + b"\r\n", 1)), "`ReplyUnreadable`"),
    both("150 headers", send(reply(BODY, "200 OK", *[f"x-{number}: a" for number in range(150)])), "`ReplyUnreadable`"),
    Row("a header in Latin-1", send(GOOD.replace(b"\r\n", b"\r\nx: M\xfcller\r\n", 1)), send(STREAMED.replace(b"\r\n", b"\r\nx: M\xfcller\r\n", 1)), "answers", "answers"),
    Row("the same length twice", send(head(f"{LENGTH}\r\n{LENGTH}")), send(STREAMED), "`ReplyUnreadable`", "-"),
    both("two different lengths", send(head("content-length: 3\r\ncontent-length: 5")), "`ReplyUnreadable`"),
    both("a negative length", send(head("content-length: -3")), "`ReplyUnreadable`"),
    both("a length that is no number", send(head("content-length: many")), "`ReplyUnreadable`"),
    whole("more announced than sent", last(head("content-length: 9000")), "`ConnectionLost`"),
    both("a length and chunks", send(head(f"{LENGTH}\r\ntransfer-encoding: chunked", chunked(BODY) + b"0\r\n\r\n")), "`ReplyUnreadable`"),
    both("a chunk whose size is no number", send(head("transfer-encoding: chunked", b"zz\r\nabc\r\n")), "`ReplyUnreadable`"),
    both("a chunk of negative size", send(head("transfer-encoding: chunked", b"-5\r\nabc\r\n")), "`ReplyUnreadable`"),
    whole("chunks with extensions and trailers", send(head("transfer-encoding: chunked", b"%x;a=b\r\n%s\r\n0\r\nx: y\r\n\r\n" % (len(BODY), BODY))), "answers"),
    whole("no last chunk", last(head("transfer-encoding: chunked", chunked(BODY))), "`ConnectionLost`"),
    whole("an empty line before the status", last(b"\r\n" + GOOD), "answers"),
    whole("a header that goes on in the next line", last(head(f"x: a\r\n  b\r\n{LENGTH}")), "answers"),
    *[both(f"a status line {line!r}", last(GOOD.replace(b"HTTP/1.1 200 OK", line.encode())), "`AddressWrong`") for line in ("HTTP/2.0 200 OK", "HTTP/1.2 200 OK", "HTTP/1.1  200 OK", "HTTP/1.1\t200 OK", "HTTP/1.1 2000 OK")],
    *[both(f"a header {line!r}", last(head(f"{LENGTH}\r\n{line}")), "`ReplyUnreadable`") for line in ("no colon", ": no name", "x y: a", "x\x01y: a", "x: a\0b", "x: a\rb")],
    both("a first header that goes on", last(b"HTTP/1.1 200 OK\r\n  x: a\r\n\r\n"), "`ReplyUnreadable`"),
    both("a length of thirty digits", last(head("content-length: " + "9" * 30)), "`ReplyUnreadable`"),
    *[both(f"transfer-encoding {word}", last(head(f"transfer-encoding: {word}", chunked(BODY) + b"0\r\n\r\n")), "`ReplyUnreadable`") for word in ("gzip, chunked", "chunked, chunked", "identity")],
    both("a chunk that goes on behind its end", last(head("transfer-encoding: chunked", b"%x\r\n%sxx0\r\n\r\n" % (len(BODY), BODY))), "`ReplyUnreadable`"),
    both("chunks with line feeds alone", last(head("transfer-encoding: chunked", b"%x\n%s\n0\n\n" % (len(BODY), BODY))), "`ReplyUnreadable`"),
    # Codings that nobody asked for.
    whole("gzip", send(head(f"content-encoding: gzip\r\ncontent-length: {len(PACKED)}", PACKED)), "answers"),
    whole("deflate", last(head("content-encoding: deflate\r\nconnection: close", zlib.compress(BODY))), "answers"),
    both("gzip that is none", send(head("content-encoding: gzip\r\ncontent-length: 7", b"notgzip")), "`ReplyUnreadable`"),
    whole("gzip that breaks off", last(head(f"content-encoding: gzip\r\ncontent-length: {len(PACKED)}", PACKED[:-20])), "`ConnectionLost`"),
    both("br", send(head("content-encoding: br\r\ncontent-length: 5", b"\x0b\x02\x80hi")), "`ReplyUnreadable`"),
    both("zstd", send(head("content-encoding: zstd\r\ncontent-length: 6", b"\x28\xb5\x2f\xfdxx")), "`ReplyUnreadable`"),
    # Bodies.
    whole("an empty body", send(reply(b"")), "`ReplyUnreadable`"),
    whole("a mark of UTF-8 first", send(reply(b"\xef\xbb\xbf" + BODY)), "answers"),
    whole("UTF-16", send(reply(BODY.decode().encode("utf-16"))), "`ReplyUnreadable`"),
    whole("a number that is none", send(reply(BODY[:-1] + b', "x": NaN}')), "answers"),
    whole("a byte that is no UTF-8", send(reply(BODY[:-1] + b', "x": "\xff"}')), "answers"),
    whole("200,000 brackets", send(reply(b"[" * 200_000)), "`ReplyUnreadable`"),
    whole("a list", send(reply(b"[1, 2]")), "`ReplyUnreadable`"),
    whole("null", send(reply(b"null")), "`ReplyUnreadable`"),
    whole("a web page", send(reply(b"<!doctype html><title>Welcome</title>")), "`AddressWrong`"),
    whole("plain text", send(reply(b"the model is loading")), "`ReplyUnreadable`"),
    whole("broken JSON", send(reply(BODY[:-4])), "`ReplyUnreadable`"),
    whole("something behind the JSON", send(reply(BODY + b"<!-- served -->")), "answers"),
    whole("an error under status 200", send(reply(b'{"error": {"message": "overloaded", "type": "overloaded_error"}}')), "`Overloaded` after 3 tries"),
    whole("other JSON", send(reply(b'{"status": "ok"}')), "`ReplyUnreadable`"),
    whole("the media type twice", send(GOOD.replace(b"\r\n", b"\r\ncontent-type: application/json\r\n", 1)), "answers"),
    whole("the media type of text", send(GOOD.replace(b"application/json", b"text/plain")), "answers"),
    whole("silence within the body", silent(head("content-length: 900")), "`TimedOut`"),
    whole("a reset within the body", reset(head("content-length: 900")), "`ConnectionLost`"),
    whole("an endless body, byte by byte", endless(HEAD + b"connection: close\r\n\r\n", b" ", 0.1), "`TimedOut`", total=3),
    # Streams.
    stream("JSON instead of a stream", send(GOOD), "answers"),
    stream("no event", send(sse()), "`StreamCut` after 3 tries"),
    stream("comments alone", send(sse(b": hello\n\n")), "`StreamCut` after 3 tries"),
    stream("the role alone", send(sse(data({"choices": [{"index": 0, "delta": {"role": "assistant"}}]}))), "`StreamCut` after 3 tries"),
    stream("the end mark alone", send(sse(b"data: [DONE]\n\n")), "`StreamCut` after 3 tries"),
    stream("lines that end in CR LF", send(sse(*[each.replace(b"\n", b"\r\n") for each in ALL])), "answers"),
    stream("lines that end in CR", send(sse(*[each.replace(b"\n", b"\r") for each in ALL])), "answers"),
    stream("no blank behind data:", send(sse(*[each.replace(b": ", b":", 1) for each in ALL])), "answers"),
    stream("events with names, numbers and waits", send(sse(*[b"event: x\nid: 1\nretry: 5\n" + each for each in ALL])), "answers"),
    stream("a mark of UTF-8 first", send(sse(b"\xef\xbb\xbf", *ALL)), "answers"),
    stream("every byte in a chunk of its own", send(STREAM, *[chunked(bytes([byte])) for byte in b"".join(ALL)], b"0\r\n\r\n"), "answers"),
    stream("no end mark", send(sse(*ALL[:2])), "answers"),
    stream("no end mark, connection kept", silent(STREAM + PIECES), "answers"),
    stream("no end mark, comments for ever", endless(STREAM + PIECES, chunked(b": ping\n\n"), 0.2), "answers", total=3),
    stream("no last chunk", last(STREAM + PIECES), "answers"),
    stream("something behind the end mark", send(sse(*ALL, delta("more"))), "answers"),
    stream("an error as the first event", send(sse(data({"error": {"message": "busy", "code": 503}}))), "`Overloaded` after 3 tries"),
    stream("an error in the middle", send(sse(ALL[0], data({"error": {"message": "busy", "code": 503}}))), "`Overloaded`, with what came"),
    stream("garbage in the middle", send(sse(ALL[0], b"data: {oops\n\n")), "`ReplyUnreadable`, with what came"),
    stream("a web page in the middle", send(sse(ALL[0], b"<html>\n\n")), "`StreamCut`, with what came"),
    stream("200,000 brackets in an event", send(sse(ALL[0], b"data: " + b"[" * 200_000 + b"\n\n")), "`ReplyUnreadable`, with what came"),
    stream("closed in the middle", last(HALF), "`StreamCut`, with what came"),
    stream("reset in the middle", reset(HALF), "`StreamCut`, with what came"),
    stream("ended in the middle, cleanly", send(HALF + b"0\r\n\r\n"), "`StreamCut`, with what came"),
    stream("silence in the middle", silent(HALF), "`StreamCut`, with what came"),
    stream("comments for ever in the middle", endless(HALF, chunked(b": ping\n\n"), 0.2), "`StreamCut`, with what came", total=3),
    stream("a line without end", endless(HALF, chunked(b"x" * 65536)), "`FramingError`, with what came", total=90),
    stream("a chunk whose size is no number", then(HALF, 0.1, b"zz\r\n"), "`ReplyUnreadable`, with what came"),
    stream("gzip", send(STREAM.replace(b"\r\n\r\n", b"\r\ncontent-encoding: gzip\r\n\r\n") + chunked(gzip.compress(b"".join(ALL))) + b"0\r\n\r\n"), "answers"),
]  # fmt: skip
