"""Thinking that a server leaves in the text, between tags: taken out of it, whole or in pieces."""

from msgspec.structs import replace

from ..canonical.chat import Choice
from ..canonical.events import Event, Finished, Reasoning, Text


class TagSplitter:
    """The texts of one answer, in pieces cut anywhere, as thinking and answer.

    Only what begins the answer is thinking: a text about tags stays a text.

    Args:
        tag: its name, such as ``think``.

    >>> splitter = TagSplitter("think")
    >>> [splitter.split(piece) for piece in ("<thi", "nk>Hm", "</think>", "\\nMay.")]
    [('', ''), ('Hm', ''), ('', ''), ('', 'May.')]
    """

    def __init__(self, tag: str) -> None:
        self._open, self._close = f"<{tag}>", f"</{tag}>"
        self._pending = ""
        self._state = "before"

    def split(self, text: str) -> tuple[str, str]:
        """The thinking and the answer in the next piece, as far as they can be told apart."""
        if self._state == "answer":
            return "", text
        pending, self._pending = self._pending + text, ""
        thought = ""
        if self._state == "before":
            stripped = pending.lstrip()
            if not stripped.startswith(self._open):
                if self._open.startswith(stripped):
                    self._pending = pending
                    return "", ""
                self._state = "answer"
                return "", pending
            self._state, pending = "thinking", stripped[len(self._open) :]
        if self._state == "thinking":
            thought, closed, remainder = pending.partition(self._close)
            if not closed:
                keep = _beginning(thought, self._close)
                self._pending = thought[len(thought) - keep :] if keep else ""
                return thought[: len(thought) - keep], ""
            self._state, pending = "behind", remainder
        # The blank lines between the two belong to neither.
        pending = pending.lstrip()
        if pending:
            self._state = "answer"
        return thought, pending

    def last(self) -> tuple[str, str]:
        """What was held back, once the text has ended."""
        pending, self._pending = self._pending, ""
        return (pending, "") if self._state == "thinking" else ("", pending)


def _beginning(text: str, mark: str) -> int:
    """How many characters at the end of a text may be the beginning of a mark."""
    return next((size for size in range(min(len(mark) - 1, len(text)), 0, -1) if text.endswith(mark[:size])), 0)


def split_choice(choice: Choice, tag: str) -> Choice:
    """A whole answer, its thinking taken out of its text; also where only the end of the thinking is marked.

    >>> split_choice(Choice("Hm.</think>May."), "think").text
    'May.'
    """
    close = f"</{tag}>"
    text = choice.text
    if close in text and f"<{tag}>" not in text:
        text = f"<{tag}>{text}"  # some servers write the beginning into the prompt
    splitter = TagSplitter(tag)
    parts = [splitter.split(text), splitter.last()]
    thought, answer = ("".join(kind) for kind in zip(*parts, strict=True))
    if not thought and answer == choice.text:
        return choice
    return replace(
        choice, text=answer, reasoning="\n\n".join(filter(None, (choice.reasoning, thought.strip()))) or None
    )


class TaggedEvents:
    """The events of a stream, the thinking taken out of its texts."""

    def __init__(self, tag: str) -> None:
        self._tag = tag
        self._splitters: dict[int, TagSplitter] = {}

    def of(self, events: list[Event]) -> list[Event]:
        """The same events, texts split."""
        split_events: list[Event] = []
        for event in events:
            if isinstance(event, Text):
                splitter = self._splitters.setdefault(event.choice, TagSplitter(self._tag))
                split_events += _events_of(splitter.split(event.text), event.choice)
            elif isinstance(event, Finished):
                split_events += [*self._flush(event.choice), event]
            else:
                split_events.append(event)
        return split_events

    def _flush(self, choice: int) -> list[Event]:
        splitter = self._splitters.get(choice)
        return _events_of(splitter.last(), choice) if splitter is not None else []


def _events_of(parts: tuple[str, str], choice: int) -> list[Event]:
    thought, answer = parts
    events: list[Event] = [Reasoning(thought, choice)] if thought else []
    return [*events, Text(answer, choice)] if answer else events
