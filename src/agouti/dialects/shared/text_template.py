"""Streams whose payloads differ in one text alone: the text is read without decoding the rest again."""

import re

import msgspec

_read = msgspec.json.Decoder(str).decode
# So many payloads that do not fit, and there is no use in comparing.
_MOST_MISSES = 64


def _string(data: bytes) -> str | None:
    """A JSON string; `None` where it is none, or a sloppy one."""
    try:
        return _read(data)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return None


class TextTemplate:
    """What stands around the text in a payload that was decoded, and found to hold nothing else of interest.

    A payload that begins and ends with the same bytes, and has one JSON string between them, says the same with that
    text: most payloads of most streams are so. All others are decoded.

    >>> template = TextTemplate("content")
    >>> template.learn(b'{"delta":{"content":"Broad"}}', "Broad")
    >>> template.text(b'{"delta":{"content":" beans"}}')
    ' beans'
    >>> template.text(b'{"delta":{"content":"x","role":"y"}}') is None
    True
    """

    __slots__ = ("_head", "_misses", "_pattern", "_start", "_stop", "_tail", "fits")

    def __init__(self, field: str) -> None:
        self._pattern = re.compile(rb'"%s"\s*:\s*("(?:[^"\\]|\\.)*")' % field.encode())
        self._head = self._tail = b""
        self._start = self._stop = 0
        self._misses = 0
        self.fits = False

    def learn(self, payload: bytes, text: str) -> None:
        """A payload that holds this text, and nothing else that counts."""
        if self._misses >= _MOST_MISSES:
            return
        matches = list(self._pattern.finditer(payload))
        if len(matches) == 1 and _string(matches[0][1]) == text:
            match = matches[0]
            self._head, self._tail = payload[: match.start(1)], payload[match.end(1) :]
            self._start, self._stop = len(self._head), -len(self._tail)
            self.fits = bool(self._head and self._tail)

    def block(self, data: bytes, before: bytes) -> str | None:
        """The texts of many payloads as one, where bytes are nothing but such payloads as events; `None` otherwise.

        Args:
            before: what stands before each payload.

        >>> template = TextTemplate("content")
        >>> template.learn(b'{"content":"Broad"}', "Broad")
        >>> template.block(b'data: {"content":" beans"}\\n\\ndata: {"content":" go"}\\n\\n', b"data: ")
        ' beans go'
        """
        first, last = before + self._head + b'"', b'"' + self._tail + b"\n\n"
        if not (data.startswith(first) and data.endswith(last)):
            return None
        chunks = data[len(first) : -len(last)].split(last + first)
        joined = b"".join(chunks)
        if b'"' in joined or b"\\" in joined or b"\n" in joined:
            texts = [_string(b'"%b"' % chunk) for chunk in chunks]
            return None if None in texts else "".join(filter(None, texts))
        return _string(b'"%b"' % joined)

    def text(self, payload: bytes) -> str | None:
        """The text of a payload of the same form; `None` where it is of another one, or says nothing."""
        if payload.startswith(self._head) and payload.endswith(self._tail):
            try:
                return _read(payload[self._start : self._stop]) or None
            except (msgspec.MsgspecError, UnicodeDecodeError):
                return None
        self._misses += 1
        if self._misses >= _MOST_MISSES:
            self.fits = False
        return None
