"""The policy: every row of the table, seen through `decide`; and what stands above the table."""

from typing import Any

import pytest

from agouti.core import errors
from agouti.core.errors import AgoutiError
from agouti.core.settings.retries import Retries
from agouti.engine.attempts.decide import Done, GiveUp, NextModel, Retry, Situation, decide
from agouti.engine.attempts.error_policy import POLICY, Repeat, policy_of
from agouti.engine.outcome import Answer, Answered, Failed
from agouti.replies import errors as carrying
from agouti.replies.errors import StreamCut

MODULES = {**vars(errors), **vars(carrying)}
KINDS = [each for each in MODULES.values() if isinstance(each, type) and issubclass(each, AgoutiError)]
RETRIES = Retries(base=1.0)


def situation(**more: Any) -> Situation[str]:
    return Situation(**{"request": "Q", "retries": RETRIES, "chance": 0.5, **more})


def test_every_class_of_errors_has_a_row_and_nothing_else_has() -> None:
    assert set(POLICY) == set(KINDS)

    class Mine(errors.RateLimited):
        pass

    assert policy_of(Mine) is POLICY[errors.RateLimited]


@pytest.mark.parametrize("kind", KINDS)
def test_row_is_what_is_done(kind: type[AgoutiError]) -> None:
    row = POLICY[kind]
    error = kind("x")
    assert error.retryable is kind.may_pass
    assert kind("x", retryable=not kind.may_pass).retryable is not kind.may_pass
    repeats = {
        Repeat.NEVER: (False, False),
        Repeat.CONNECTING: (False, False),  # only in one phase: see below
        Repeat.UNANSWERED: (True, False),
        Repeat.ALWAYS: (True, True),
    }[row.repeat]
    for began, again in zip((False, True), repeats, strict=True):
        decision = decide(Failed(error, started=began), situation())
        assert decision == (Retry(0.5, "Q", "policy") if again else GiveUp(error))
    other = decide(Failed(error, started=True), situation(retries=Retries(max=0), next_model=True))
    assert other == (NextModel(error) if row.next_model else GiveUp(error))


BUSY = errors.Overloaded("x")
LOST = errors.ConnectionLost("x")


@pytest.mark.parametrize(
    ("failed", "more", "expected"),
    [
        (Failed(errors.TimedOut("x", phase="connect")), {}, Retry(0.5, "Q", "policy")),
        (Failed(errors.TimedOut("x", phase="first byte")), {}, None),
        (Failed(BUSY), {"repeats": 1}, Retry(1.0, "Q", "policy")),
        (Failed(BUSY), {"repeats": 2}, None),
        (Failed(BUSY), {"left": 0.4}, None),
        (Failed(BUSY), {"left": 0.6}, Retry(0.5, "Q", "policy")),
        (Failed(errors.RateLimited("x", wait=7.0)), {}, Retry(7.35, "Q", "policy")),
        (Failed(errors.RateLimited("x", wait=31.0)), {}, None),
        (Failed(BUSY, final=True), {}, None),
        (Failed(BUSY, sent=False), {}, None),
        (Failed(BUSY, sent=False), {"reduced": "q", "other_key": True}, None),
        (Failed(LOST), {"was_reused": True, "repeats": 2}, Retry(0.0, "Q", "kept connection")),
        (Failed(LOST, started=True), {"was_reused": True}, None),
        (Failed(errors.CredentialRefused("x")), {"other_key": True}, Retry(0.0, "Q", "other key")),
        (Failed(errors.RequestRefused("x")), {"reduced": "q"}, Retry(0.0, "q", "reduced")),
        (Failed(StreamCut("x", partial=object())), {"next_model": True}, None),  # type: ignore[arg-type]
    ],
)
def test_what_stands_above_the_table(failed: Failed, more: Any, expected: Any) -> None:
    assert decide(failed, situation(**more)) == (expected or GiveUp(failed.error))


def test_answer_ends_it() -> None:
    answer = Answer("text", 200, {})
    assert decide(Answered(answer), situation()) == Done(answer)
