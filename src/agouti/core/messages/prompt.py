"""From the forms in which a prompt may be given to the messages of a call."""

from collections.abc import Mapping, Sequence
from typing import Any, Protocol, TypeAlias

from ..canonical.chat import Message
from ..errors import RequestError
from .messages import message_of


class ImageLike(Protocol):
    """Something that can stand in a prompt beside texts: see `agouti.Image`, `agouti.File`, `agouti.Audio`."""

    @property
    def part(self) -> dict[str, Any]: ...


Prompt: TypeAlias = str | Sequence[Message | Mapping[str, Any]] | Sequence[object]
"""A text, a list of parts (texts, `agouti.Image`, `agouti.File`, `agouti.Audio`, dicts with a ``type``), or a list of
messages (`Message` or OpenAI-compatible dicts).

Type checkers see a list of texts and images as one of objects: what else stands in it is said when it is used."""


_SYSTEM = ("system", "developer")


def prompt_messages(prompt: Prompt) -> tuple[Message, ...]:
    """The messages of a prompt.

    Raises:
        RequestError: it is empty, of another type, or one of its messages is none.

    >>> prompt_messages("Peas?")[0].role
    'user'
    """
    if isinstance(prompt, str):
        if not prompt.strip():
            raise RequestError("the prompt is empty", hint="Pass the question as text, or a list of messages.")
        return (Message("user", prompt),)
    if not isinstance(prompt, Sequence) or isinstance(prompt, (bytes, bytearray)):
        raise RequestError(f"a prompt cannot be a {type(prompt).__name__}", hint="Pass a text, or a list of messages.")
    if not prompt:
        raise RequestError("the prompt is an empty list", hint="Pass at least one message.")
    parts = [_part(each) for each in prompt]
    if None not in parts:
        return (Message("user", [part for part in parts if part is not None]),)
    return tuple([message_of(message, number) for number, message in enumerate(prompt)])


def _part(value: object) -> dict[str, Any] | None:
    """A text, an image or the like as a part of a message; `None` for anything else."""
    if isinstance(value, str):
        return {"type": "text", "text": value}
    if isinstance(value, Mapping):
        return dict(value) if "type" in value and "role" not in value else None
    part: dict[str, Any] | None = getattr(value, "part", None)
    return part


def assembled(
    prompt: Sequence[Message],
    *,
    entry_system: str | None = None,
    system: str | None = None,
    examples: Sequence[tuple[str, str]] = (),
) -> tuple[Message, ...]:
    """The messages of a request: system text, examples, prompt; a system text that leads the prompt stays in front.

    Args:
        entry_system: the system text of the model's entry; gives way to ``system``, and to one in the prompt.
        system: another system text; an empty one means none at all.

    >>> asked = prompt_messages("And beans?")
    >>> [message.role for message in assembled(asked, system="Brief.", examples=[("Peas?", "In March.")])]
    ['system', 'user', 'assistant', 'user']
    """
    before: list[Message] = []
    if system:
        before.append(Message("system", system))
    elif system is None and entry_system and prompt[0].role not in _SYSTEM:
        before.append(Message("system", entry_system))
    leads = 0
    if examples and prompt[0].role in _SYSTEM:
        leads = next((number for number, each in enumerate(prompt) if each.role not in _SYSTEM), len(prompt))
        before += prompt[:leads]
    for question, answer in examples:
        before.append(Message("user", question))
        before.append(Message("assistant", answer))
    return (*before, *prompt[leads:]) if before else tuple(prompt)
