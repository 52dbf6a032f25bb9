"""Whether an answer is one that its row can use: a function or a pattern of the application's own."""

import re
from collections.abc import Callable
from functools import partial
from typing import Any

from msgspec.structs import replace

from ..core.errors import NotAccepted, RequestError
from ..engine.effects import RunCallable, Steps
from ..forms.plain_values import plain_value
from ..replies.filled import FilledAnswer

Accept = Callable[[Any], Any]
"""Takes what came, a text or a value; gives True, False, or the reason why not in words."""


def accept_of(criterion: object) -> Accept | None:
    """What looks at answers.

    Args:
        criterion: a function, or a regular expression that is found in a text, or in the JSON of a value.

    Raises:
        RequestError: it is neither.
    """
    if criterion is None:
        return None
    if isinstance(criterion, str):
        try:
            return partial(_found, re.compile(criterion))
        except re.error as error:
            raise RequestError(
                f"accept = {criterion!r} cannot be read: {error}", hint="It is a regular expression."
            ) from None
    if isinstance(criterion, re.Pattern):
        return partial(_found, criterion)
    if not callable(criterion):
        raise RequestError(
            f"accept cannot be a {type(criterion).__name__}",
            hint="Pass a function of what came, or a regular expression.",
        )
    return criterion


def _found(pattern: "re.Pattern[str]", value: Any) -> "bool | str":
    import json

    text = value if isinstance(value, str) else json.dumps(plain_value(value), ensure_ascii=False)
    return pattern.search(text) is not None or f"{pattern.pattern!r} is not found in it"


def accepted(accept: Accept, value: Any, answers: tuple[FilledAnswer, ...]) -> Steps[None]:
    """See that what came is accepted; the function may take its time, or be a coroutine.

    Args:
        answers: all that were paid for; the last one has the value.

    Raises:
        NotAccepted: it is not, or the function has failed; the answers are in it.
    """
    try:
        verdict = yield RunCallable(partial(accept, value), None)
    except Exception as failure:  # of the application's own function: the answer is there all the same
        raise _not_accepted(f"accept failed: {type(failure).__name__}: {failure}", answers) from failure
    if verdict is True:
        return
    if verdict is not False and not isinstance(verdict, str):
        raise _not_accepted(
            f"accept gave a {type(verdict).__name__}, and not True, False or the reason why not", answers
        )
    raise _not_accepted(f"the answer was not accepted{f': {verdict}' if verdict else ''}", answers)


def _not_accepted(reason: str, answers: tuple[FilledAnswer, ...]) -> NotAccepted:
    error = NotAccepted(reason[:500], partial=answers[-1].reply)
    error.answers = (*answers[:-1], replace(answers[-1], problem="invalid", errors=(reason[:500],)))
    return error
