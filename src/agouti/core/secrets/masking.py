"""Secrets in foreign texts: a provider that repeats a key must not put it into an error, a log or an archive."""

import re
from base64 import b64encode
from collections.abc import Iterable
from functools import cached_property
from typing import TYPE_CHECKING
from urllib.parse import quote, quote_plus

from .secret import MASK

if TYPE_CHECKING:
    from ..errors import AgoutiError

# Shorter ones would be found in ordinary words.
_MIN_LENGTH = 6


class Masker:
    """Replaces secrets, and the forms in which they travel, by a mask.

    >>> Masker(["sk-12345"]).mask("Incorrect key sk-12345; c2stMTIzNDU= is it in base64")
    'Incorrect key ***; *** is it in base64'
    """

    def __init__(self, secrets: Iterable[str]) -> None:
        self._secrets = tuple(secrets)

    @cached_property
    def _forms(self) -> list[str]:
        # Made when the first text is masked, which most calls never do.
        forms: set[str] = set()
        for secret in self._secrets:
            stripped = secret.strip()
            # A header's word before the secret is none.
            for each in {stripped, stripped.partition(" ")[2].strip() or stripped}:
                if len(each) >= _MIN_LENGTH:
                    forms |= {each, quote(each, safe="", errors="replace"), quote_plus(each, errors="replace")}
                    forms.add(b64encode(each.encode("utf-8", "replace")).decode())
        return sorted(forms, key=len, reverse=True)

    def mask_bytes(self, data: bytes) -> bytes:
        """Bytes without any of them."""
        for form in self._forms:
            encoded = form.encode("utf-8", "surrogatepass")
            if encoded in data:
                data = data.replace(encoded, MASK.encode())
        return data

    def mask(self, text: str) -> str:
        """The text without any of them."""
        for form in self._forms:
            if form in text:
                text = text.replace(form, MASK)
        return text

    def mask_error(self, error: "AgoutiError") -> None:
        """Take them out of what an error says."""
        for name in ("message", "hint", "provider_message", "request_id"):
            text = getattr(error, name)
            if text:
                setattr(error, name, self.mask(text))
        error.args = tuple([self.mask(each) if isinstance(each, str) else each for each in error.args])


def looks_like_a_key(text: str) -> bool:
    """Whether a text is likely to be a key where a name was expected.

    >>> looks_like_a_key("sk-4711aBcD0123"), looks_like_a_key("NORTHBANK_KEY"), looks_like_a_key("2026-05-01-preview")
    (True, False, False)
    >>> looks_like_a_key("Bearer x1y2"), looks_like_a_key("9f8e7d6c5b4a39281706")
    (True, True)
    """
    scheme, space, _ = text.partition(" ")
    if space:
        return scheme.lower() in ("bearer", "basic")
    if len(text) < 12:
        return False
    if _PREFIX.match(text):
        return True
    longest = max(re.split(r"[^A-Za-z0-9]+", text), key=len)
    digits = sum(letter.isdigit() for letter in longest)
    # Names have words and years in them; keys have letters and digits in long confusion.
    return len(longest) >= 16 and digits >= 3 and digits < len(longest) and len(_LETTER_DIGIT.findall(longest)) >= 3


# A short word, then much that is none: as many providers begin their keys.
_PREFIX = re.compile(r"(?:sk|pk)[-_](?=.*\d)[\w.-]{8,}|[A-Za-z]{2,5}[-_](?=(?:.*\d){3})[A-Za-z0-9]{16,}")
_LETTER_DIGIT = re.compile(r"[A-Za-z]\d|\d[A-Za-z]")


def printable(text: str) -> str:
    """A foreign text without the characters by which it could steer a terminal or deceive who reads it.

    >>> printable("all well\\x1b[2J\\x9b \\u202egnp.exe\\rx")
    'all well\\ufffd[2J\\ufffd \\ufffdgnp.exe\\ufffdx'
    """
    if text.isascii() and text.isprintable():
        return text
    return "".join([letter if letter in "\n\t" or not _steers(letter) else "\ufffd" for letter in text])


def _steers(letter: str) -> bool:
    code = ord(letter)
    return (
        code < 32
        or 127 <= code < 160
        or letter in "\u061c\u200e\u200f\u2028\u2029"
        or 0x202A <= code <= 0x202E
        or 0x2066 <= code <= 0x2069
    )
