"""Token estimates: how many tokens a request is likely to have, without the model's own tokenizer.

English prose has about four characters to a token in the common tokenizers, code and numbers about three, and scripts
without spaces about one and a half characters. Each message costs a few tokens besides, for its role and its marks.
An estimate that is somewhat too high is the useful one: it keeps a prompt within the context window.
"""

import re
from typing import Any

import msgspec

from ..canonical.chat import Message, Request

_PER_MESSAGE = 4
# What models of the common kinds count for an image of usual size.
_PER_IMAGE = 800
_WIDE = re.compile("[\u0e00-\u0e7f\u1100-\u11ff\u2e80-\u9fff\uac00-\ud7af\uf900-\ufaff\uff00-\uffef]")
_SYMBOL = re.compile(r"[^\w\s]|\d")


def estimate_text(text: str) -> int:
    """The tokens of a text.

    >>> estimate_text("When do broad beans go in?"), estimate_text("")
    (7, 0)
    """
    wide = 0 if text.isascii() else len(_WIDE.findall(text))
    symbols = len(_SYMBOL.findall(text))
    latin = len(text) - wide - symbols
    return round(latin / 4 + symbols * 0.6 + wide / 1.5 + 0.5) if text else 0


def estimate_tokens(request: Request) -> int:
    """The tokens of a chat request: messages, tools and the form of the answer.

    >>> estimate_tokens(Request("m", (Message("user", "When do broad beans go in?"),)))
    14
    """
    total = 3 + sum(estimate_message(message) for message in request.messages)
    for name in ("tools", "response_format"):
        if name in request.parameters:
            total += estimate_text(msgspec.json.encode(request.parameters[name]).decode())
    return total


def estimate_message(message: Message) -> int:
    """The tokens of one message, its role and marks included."""
    total = _PER_MESSAGE
    content: Any = message.content
    if isinstance(content, str):
        total += estimate_text(content)
    for part in content if isinstance(content, list) else ():
        text = part.get("text")
        total += estimate_text(text) if isinstance(text, str) else _PER_IMAGE
    for call in message.tool_calls:
        total += _PER_MESSAGE + estimate_text(f"{call.function.name}{call.function.arguments or ''}")
    return total
