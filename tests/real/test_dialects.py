"""The other dialects that the real model server speaks: shapes only."""

import pytest

import agouti

from ..conftest import Caller
from .test_chat import ADDRESS, KEY, MODEL

pytestmark = pytest.mark.skipif(not ADDRESS, reason="AGOUTI_REAL_SERVER is not set")


@pytest.mark.parametrize("kind", ["ask", "stream"])
@pytest.mark.parametrize("dialect", ["messages", "responses", "prompt"])
def test_same_call_in_another_dialect(caller: Caller, dialect: str, kind: str) -> None:
    key = agouti.GivenKey(agouti.Secret(KEY)) if KEY else None
    config = agouti.Config.of([agouti.Provider("real", f"{ADDRESS}/v1", dialect, key)])
    reply = caller.call(kind, config, MODEL, "Broad beans are", max_tokens=8, temperature=0, system="Brief.")
    assert reply.text
    assert reply.model == "real-small"
    assert (reply.usage.output_tokens or 0) > 0
    assert reply.finish_reason in ("length", "stop")
    with pytest.raises(agouti.ContextOverflow):
        caller.call(kind, config, MODEL, "bean " * 3000, max_tokens=4)
