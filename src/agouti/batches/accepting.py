"""Whether an answer is one that its row can use: a function or a pattern of the application's own."""

import re
from collections.abc import Callable
from functools import partial
from typing import Any

from ..core.errors import NotAccepted, RequestError
from ..engine.effects import RunCallable, Steps
from ..filled import FilledAnswer
from ..plain_values import plain_value
from ..reply import Reply

Accept = Callable[[Any], Any]
"""Takes what came, a text or a value; gives True, False, or the reason why not in words."""


def accept_of(given: object) -> Accept | None:
    """What looks at answers.

    Args:
        given: a function, or a regular expression that is found in a text, or in the JSON of a value.

    Raises:
        RequestError: it is neither.
    """
    if given is None:
        return None
    if isinstance(given, str):
        try:
            return partial(_found, re.compile(given))
        except re.error as error:
            raise RequestError(
                f"accept = {given!r} cannot be read: {error}", hint="It is a regular expression."
            ) from None
    if isinstance(given, re.Pattern):
        return partial(_found, given)
    if not callable(given):
        raise RequestError(
            f"accept cannot be a {type(given).__name__}", hint="Pass a function of what came, or a regular expression."
        )
    return given


def _found(pattern: "re.Pattern[str]", value: Any) -> "bool | str":
    import json

    text = value if isinstance(value, str) else json.dumps(plain_value(value), ensure_ascii=False)
    return pattern.search(text) is not None or f"{pattern.pattern!r} is not found in it"


def accepted(accept: Accept, value: Any, reply: Reply) -> Steps[None]:
    """See that what came is accepted; the function may take its time, or be a coroutine.

    Raises:
        NotAccepted: it is not; the answer, which has been paid for, is in it.
    """
    said = yield RunCallable(partial(accept, value), None)
    if said is True:
        return
    why = f": {said}" if isinstance(said, str) and said else ""
    if said is not False and not isinstance(said, str):
        raise RequestError(
            f"accept gave a {type(said).__name__}", hint="It gives True, False, or the reason why not as a text."
        )
    error = NotAccepted(f"the answer was not accepted{why}"[:500], partial=reply)
    error.answers = (FilledAnswer(means="prompt", reply=reply, problem="invalid", errors=(why[2:],)),)
    raise error
