"""The context window of a conversation: which of the oldest turns are left out so that the rest fits."""

from collections.abc import Sequence

from ..canonical.chat import Message
from .token_estimate import estimate_message

_SYSTEM = ("system", "developer")


class TokenRatio:
    """How the tokens that a model counts compare to the estimate; learned from the usage that it reports.

    Larger and later requests count more. Until something is learned, estimates are taken a tenth higher.

    Example:
        >>> ratio = TokenRatio()
        >>> ratio.of(100)
        110
        >>> ratio.learn(200, 300)
        >>> ratio.of(100)
        162
    """

    def __init__(self) -> None:
        # Both in one value, so that threads see them together.
        self._sums = (0.0, 0.0)

    def learn(self, estimated: int, reported: int) -> None:
        """A request that was estimated at so many tokens had so many."""
        if estimated > 0 and reported > 0:
            before, counted = self._sums
            self._sums = (before * 0.7 + estimated, counted * 0.7 + reported)

    def learned(self, estimated: int) -> int:
        """The likeliest number of tokens for an estimate."""
        before, counted = self._sums
        return round(estimated * counted / before) if before else estimated

    def of(self, estimated: int) -> int:
        """How many tokens to reckon with, for an estimate: rather somewhat too many."""
        before, counted = self._sums
        return round(estimated * counted / before * 1.05) + 4 if before else round(estimated * 1.1)


class AnswerSize:
    """How many tokens the answers of a model have that were given no cap: later ones count more.

    Example:
        >>> size = AnswerSize()
        >>> size.expected
        1024
        >>> size.learn(3000)
        >>> size.expected
        3000
    """

    _UNKNOWN = 1024

    def __init__(self) -> None:
        self._mean: float | None = None

    @property
    def known(self) -> bool:
        """Whether there has been one."""
        return self._mean is not None

    @property
    def expected(self) -> int:
        """How many the next one is likely to have."""
        return self._UNKNOWN if self._mean is None else round(self._mean)

    def learn(self, tokens: int) -> None:
        """An answer had so many."""
        before = self._mean
        self._mean = float(tokens) if before is None else before * 0.8 + tokens * 0.2


def whole_turns(messages: Sequence[Message]) -> tuple[list[Message], int]:
    """The messages without calls that nothing answers and results of no call, and how many were left out.

    >>> kept, left_out = whole_turns([Message("user", "Frost?"), Message("tool", "3", tool_call_id="a")])
    >>> [each.role for each in kept], left_out
    (['user'], 1)
    """
    selected: list[Message] = []
    number = 0
    while number < len(messages):
        message = messages[number]
        number += 1
        if message.role == "tool":
            continue  # its call would have taken it along
        if not message.tool_calls:
            selected.append(message)
            continue
        results = []
        while number < len(messages) and messages[number].role == "tool":
            results.append(messages[number])
            number += 1
        if {call.id for call in message.tool_calls} <= {each.tool_call_id for each in results}:
            selected += [message, *results]
    return selected, len(messages) - len(selected)


def turn_starts(messages: Sequence[Message]) -> list[int]:
    """Where turns begin: at words of the user that do not follow others of his; tool results belong to their turn.

    >>> turn_starts([Message("user", "Peas?"), Message("assistant", "In March."), Message("user", "Beans?")])
    [0, 2]
    """
    return [
        number
        for number, message in enumerate(messages)
        if message.role == "user" and (not number or messages[number - 1].role != "user")
    ]


def last_turn(messages: Sequence[Message]) -> int:
    """Where the last turn begins; the end of the messages where there is none."""
    return turn_starts(messages)[-1:][0] if turn_starts(messages) else len(messages)


def fitting(messages: Sequence[Message], ratio: TokenRatio, room: int) -> list[Message]:
    """The messages without so many of the oldest turns that the rest has room; a system text in front stays.

    Whole turns go, so that a call and its results stay together.

    Args:
        room: tokens for all of them.

    >>> said = [Message("system", "Brief."), *[Message(role, "word " * 40) for role in ("user", "assistant") * 3]]
    >>> [message.role for message in fitting(said, TokenRatio(), 150)]
    ['system', 'user', 'assistant']
    """
    leading = next((number for number, each in enumerate(messages) if each.role not in _SYSTEM), len(messages))
    tokens = [ratio.of(estimate_message(message)) for message in messages]
    available = room - sum(tokens[:leading])
    selected = len(messages)
    starts = set(turn_starts(messages))
    for number in range(len(messages) - 1, leading - 1, -1):
        available -= tokens[number]
        if available < 0:
            break
        if number in starts or number == leading:
            selected = number
    return [*messages[:leading], *messages[selected:]]
