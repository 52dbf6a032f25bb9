"""From the forms in which a prompt may be given to one list of messages."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Protocol, TypeAlias

from .chat import Message
from .errors import RequestError


class Shown(Protocol):
    """Something that can be shown in a prompt: see `agouti.Image`."""

    @property
    def part(self) -> dict[str, Any]: ...


Prompt: TypeAlias = str | Sequence[Message | Mapping[str, Any]] | Sequence[object]
"""A text, a list of parts (texts and `agouti.Image`), or a list of messages (`Message` or OpenAI-compatible dicts).

Type checkers see a list of texts and pictures as one of objects: what else stands in it is said when it is used."""

_ROLES = frozenset({"system", "developer", "user", "assistant", "tool"})


def messages(
    prompt: Prompt,
    *,
    before: Sequence[Message | dict[str, Any]] = (),
    system: str | None = None,
    examples: Iterable[tuple[str, str]] = (),
    shown: Sequence[Shown] = (),
) -> list[Message | dict[str, Any]]:
    """The messages of a call: system text, examples, prompt.

    Args:
        before: what the entry puts first; its system text gives way to ``system``, and to a system
            message in the prompt.
        shown: pictures that go with the user's last words.

    Raises:
        RequestError: the prompt is empty or of another type.

    >>> [message.role for message in messages("And beans?", system="Brief.", examples=[("Peas?", "March.")])]
    ['system', 'user', 'assistant', 'user']
    """
    asked: list[Message | dict[str, Any]]
    if isinstance(prompt, str):
        if not prompt.strip():
            raise RequestError("the prompt is empty", hint="Pass the question as text, or a list of messages.")
        asked = [Message("user", prompt)]
    else:
        asked = _listed(prompt)
    found: list[Message | dict[str, Any]] = []
    if system is not None:
        found.append(Message("system", system))
    elif before and not _starts_with_system(asked):
        found.extend(before)
    for question, answer in examples:
        found.append(Message("user", question))
        found.append(Message("assistant", answer))
    found.extend(_with_shown(asked, shown) if shown else asked)
    return found


def _with_shown(asked: list[Message | dict[str, Any]], shown: Sequence[Shown]) -> list[Message | dict[str, Any]]:
    """The messages with pictures in the user's last one, before its words."""
    for place in range(len(asked) - 1, -1, -1):
        message = asked[place]
        is_message = isinstance(message, Message)
        if (message.role if isinstance(message, Message) else message.get("role")) != "user":
            continue
        content: Any = message.content if isinstance(message, Message) else message.get("content")
        words = content if isinstance(content, list) else [{"type": "text", "text": content}] if content else []
        content = [*(each.part for each in shown), *words]
        changed: Message | dict[str, Any] = (
            Message("user", content) if is_message else {**message, "content": content}  # type: ignore[dict-item]
        )
        return [*asked[:place], changed, *asked[place + 1 :]]
    raise RequestError("there is no message of the user that pictures could go with", hint="Add one.")


def _listed(prompt: object) -> list[Message | dict[str, Any]]:
    if not isinstance(prompt, Sequence) or isinstance(prompt, (bytes, bytearray)):
        raise RequestError(f"a prompt cannot be a {type(prompt).__name__}", hint="Pass a text, or a list of messages.")
    if not prompt:
        raise RequestError("the prompt is an empty list", hint="Pass at least one message.")
    if all(isinstance(part, str) or hasattr(part, "part") for part in prompt):
        return [Message("user", [{"type": "text", "text": p} if isinstance(p, str) else p.part for p in prompt])]
    found: list[Message | dict[str, Any]] = []
    for place, message in enumerate(prompt):
        if isinstance(message, Message):
            role: object = message.role
            found.append(message)
        elif isinstance(message, Mapping):
            role = message.get("role")
            found.append(dict(message))
        else:
            raise RequestError(
                f"message {place} of the prompt is a {type(message).__name__}",
                hint='A message is an agouti.Message or a dict such as {"role": "user", "content": "..."}.',
            )
        if role not in _ROLES:
            raise RequestError(
                f"message {place} of the prompt has role {role!r}", hint=f"Roles are {', '.join(sorted(_ROLES))}."
            )
    return found


def _starts_with_system(asked: Sequence[Message | dict[str, Any]]) -> bool:
    first = asked[0]
    return (first.role if isinstance(first, Message) else first.get("role")) in ("system", "developer")
