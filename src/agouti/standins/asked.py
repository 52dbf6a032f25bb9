"""What a stand-in is asked, in whatever format."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Tool:
    """A function that the model may call."""

    name: str
    description: str = ""
    parameters: Mapping[str, Any] | None = None


@dataclass(frozen=True)
class Asked:
    """What a request asks of a model, in no dialect's words.

    Attributes:
        messages: role and text of each.
        cap: the most tokens.
        choice: ``auto``, ``none``, ``required``, or the name of the tool that must be called.
        schema: the form of the answer.
        as_json: the answer is to be JSON, of any form.
        images: images of the last question.
        results: what the tools said since the last question.
        thinks: whether the model is to think first, and show it.
    """

    messages: Sequence[tuple[str, str]]
    region: str | None = None
    cap: int | None = None
    stop: str | Sequence[str] = ()
    seed: int | None = None
    count: int = 1
    tools: Sequence[Tool] = ()
    choice: str = "auto"
    schema: Mapping[str, Any] | None = None
    as_json: bool = False
    images: Sequence[bytes] = ()
    results: Sequence[str] = ()
    thinks: bool = False
    warm: bool = False
