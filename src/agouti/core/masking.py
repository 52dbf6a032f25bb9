"""Secrets in foreign texts: a provider that repeats a key must not put it into an error, a log or an archive."""

from base64 import b64encode
from collections.abc import Iterable
from typing import TYPE_CHECKING
from urllib.parse import quote, quote_plus

from .secret import MASK

if TYPE_CHECKING:
    from .errors import AgoutiError

# Shorter ones would be found in ordinary words.
_LEAST = 6


class Masker:
    """Replaces secrets, and the forms in which they travel, by a mask.

    >>> Masker(["sk-12345"]).mask("Incorrect key sk-12345; c2stMTIzNDU= is it in base64")
    'Incorrect key ***; *** is it in base64'
    """

    def __init__(self, secrets: Iterable[str]) -> None:
        forms: set[str] = set()
        for secret in secrets:
            whole = secret.strip()
            # A header's word before the secret is none.
            for each in {whole, whole.partition(" ")[2].strip() or whole}:
                if len(each) >= _LEAST:
                    forms |= {each, quote(each, safe="", errors="replace"), quote_plus(each, errors="replace")}
                    forms.add(b64encode(each.encode("utf-8", "replace")).decode())
        self._forms = sorted(forms, key=len, reverse=True)

    def mask(self, text: str) -> str:
        """The text without any of them."""
        for form in self._forms:
            if form in text:
                text = text.replace(form, MASK)
        return text

    def mask_error(self, error: "AgoutiError") -> None:
        """Take them out of what an error says."""
        for name in ("what", "hint", "message", "request_id"):
            text = getattr(error, name)
            if text:
                setattr(error, name, self.mask(text))
        error.args = tuple([self.mask(each) if isinstance(each, str) else each for each in error.args])


def looks_like_a_key(text: str) -> bool:
    """Whether a text is likely to be a key where a name was expected.

    >>> looks_like_a_key("sk-4711aBcD0123"), looks_like_a_key("NORTHBANK_KEY"), looks_like_a_key("header:x-api-key")
    (True, False, False)
    """
    if len(text) < 12 or (text.upper() == text and "-" not in text):
        return False
    digits = sum(letter.isdigit() for letter in text)
    return digits >= 3 or text[:3].lower() in ("sk-", "pk-")


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
