"""Checks of a comparison: what an answer must be, read and refused before anything is asked."""

import json
import re
from collections.abc import Callable, Sequence
from functools import partial
from typing import Annotated, Any, TypeAlias

import msgspec
from msgspec import Struct

from ...core.errors import RequestError
from ...engine.effects import RunCallable, Steps
from ...replies.reply import Reply

Check: TypeAlias = Callable[[Reply, int], Steps[float]]
"""Looks at the answer to a prompt (by number): 1 passed, 0 failed, or a share between them."""


class Verdict(Struct, forbid_unknown_fields=True):
    """What a model that judges says of an answer.

    Attributes:
        reason: why, in one or two sentences.
        score: from 0 (useless) to 10 (perfect).
    """

    reason: str
    score: Annotated[int, msgspec.Meta(ge=0, le=10)]


def checks_of(
    *,
    expect: object,
    contains: object,
    pattern: object,
    form: object,
    check: object,
    prompts: int,
) -> dict[str, Check]:
    """The checks that the arguments of `compare` amount to, by name.

    Raises:
        RequestError: one of them cannot be used.
    """
    checks: dict[str, Check] = {}
    if expect is not None:
        checks["expect"] = _reply_check(partial(_equals, _one_each("expect", expect, prompts)))
    if contains is not None:
        checks["contains"] = _reply_check(partial(_contains, _one_each("contains", contains, prompts)))
    if pattern is not None:
        checks["pattern"] = _reply_check(partial(_matches, _compiled(pattern)))
    if form is not None:
        checks["form"] = _fits(form)
    if check is not None:
        if not callable(check):
            raise RequestError(f"check cannot be a {type(check).__name__}", hint="Pass a function of a Reply.")
        checks["check"] = partial(_called, check)
    return checks


def expected_of(expect: object, prompts: int) -> list[str] | None:
    """What each answer should be, where that is said.

    Raises:
        RequestError: it is no such thing.
    """
    return None if expect is None else _one_each("expect", expect, prompts)


def _one_each(name: str, value: object, prompts: int) -> list[str]:
    values = [value] * prompts if isinstance(value, str) else value
    if not isinstance(values, Sequence) or not all(isinstance(each, str) for each in values):
        raise RequestError(f"{name} is neither a text nor a list of texts", hint="Pass one for all, or one a prompt.")
    if len(values) != prompts:
        raise RequestError(
            f"{name} has {len(values)} texts for {prompts} prompts", hint="Pass one for all, or one a prompt, in order."
        )
    if not all(each.strip() for each in values):
        raise RequestError(f"a text of {name} is empty", hint="It would fit every answer, or none.")
    return list(values)


def _compiled(pattern: object) -> "re.Pattern[str]":
    if isinstance(pattern, re.Pattern):
        return pattern
    if not isinstance(pattern, str) or not pattern:
        raise RequestError("pattern is no regular expression", hint="Pass a text, or what re.compile gives.")
    try:
        return re.compile(pattern)
    except re.error as error:
        raise RequestError(
            f"pattern {pattern!r} cannot be read: {error}", hint="See the syntax of module re."
        ) from None


def _reply_check(test: Callable[[Reply, int], bool]) -> Check:
    def steps(reply: Reply, prompt: int) -> Steps[float]:
        yield from ()
        return float(test(reply, prompt))

    return steps


def _folded(text: str) -> str:
    """A text as it is compared: without the case of letters, spaces and an end mark around it."""
    return " ".join(text.casefold().split()).strip(" .!\"'")


def _equals(expected: list[str], reply: Reply, prompt: int) -> bool:
    return _folded(reply.text) == _folded(expected[prompt])


def _contains(texts: list[str], reply: Reply, prompt: int) -> bool:
    return texts[prompt].casefold() in reply.text.casefold()


def _matches(pattern: "re.Pattern[str]", reply: Reply, prompt: int) -> bool:
    return pattern.search(reply.text) is not None


def _fits(kind: object) -> Check:
    from ...core.json.extract import json_in
    from ...forms.build import form_of
    from ...forms.form import Misfit

    form = form_of(kind)

    def test(reply: Reply, prompt: int) -> bool:
        found = json_in(reply.text)
        if found.problem or found.repairs:
            return False
        try:
            form.read(found.values[0])
        except Misfit:
            return False
        return True

    return _reply_check(test)


def _called(check: Callable[[Reply], Any], reply: Reply, prompt: int) -> Steps[float]:
    """What the application's own function says; a coroutine is awaited by whoever runs it."""
    result = yield RunCallable(partial(check, reply), None)
    if isinstance(result, bool) or (isinstance(result, (int, float)) and 0 <= result <= 1):
        return float(result)
    raise RequestError(
        f"the check gave {json.dumps(result, default=repr)[:60]}", hint="It gives True, False or a share from 0 to 1."
    )
