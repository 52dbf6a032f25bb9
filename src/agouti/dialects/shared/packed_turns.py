"""Turns in a provider's own form, packed into a text: the caller's format has a place for an opaque one."""

from base64 import urlsafe_b64decode, urlsafe_b64encode
from collections.abc import Mapping

import msgspec

from ...core.canonical.chat import ProviderTurn
from ...core.messages.messages import turn_json

_MARK = "agouti."


def packed(provider_turn: ProviderTurn | None) -> str:
    """A turn as a text; of none, a text that says so.

    >>> unpacked(packed(ProviderTurn("lines", [{"thinking": "Peas."}])))
    ProviderTurn(dialect='lines', blocks=[{'thinking': 'Peas.'}])
    """
    provider_turn = provider_turn or ProviderTurn("")
    text = msgspec.json.encode(turn_json(provider_turn))
    return _MARK + urlsafe_b64encode(text).decode().rstrip("=")


def is_packed(text: object) -> bool:
    """Whether a text was packed here."""
    return isinstance(text, str) and text.startswith(_MARK)


def unpacked(text: str) -> ProviderTurn | None:
    """The turn of a packed text; `None` where there was none, or the text has been damaged."""
    try:
        data = text.removeprefix(_MARK)
        value = msgspec.json.decode(urlsafe_b64decode(data + "=" * (-len(data) % 4)))
    except (ValueError, RecursionError):
        return None
    if not isinstance(value, Mapping) or not isinstance(value.get("blocks"), list) or not value.get("dialect"):
        return None
    return ProviderTurn(str(value["dialect"]), value["blocks"], str(value.get("source") or ""))
