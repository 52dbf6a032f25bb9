"""Functions of the package that take a client: each side by side on both clients, with the same words."""

import asyncio
import re
from typing import Any

import pytest

import agouti
from agouti.standins import Served

LABELS = ("quill-large@northbank", "envelope-2@letterbox", "no-such@letterbox", "loam-2b@nowhere")


def both(config: Any, service: Any, *arguments: Any, **options: Any) -> Any:
    """What a service says to `Client`, once `AsyncClient` was told the same."""

    async def awaited() -> Any:
        async with agouti.AsyncClient(config) as client:
            try:
                return await service(client, *arguments, **options)
            except agouti.AgoutiError as error:
                return error

    with agouti.Client(config) as client:
        try:
            said = service(client, *arguments, **options)
        except agouti.AgoutiError as error:
            said = error
    other = asyncio.run(awaited())
    assert re.sub(r"\d+ ms", "n ms", repr(said)) == re.sub(r"\d+ ms", "n ms", repr(other))
    return said


def test_check_says_the_same_to_both_clients(served: Served) -> None:
    good, wrong = both(served.config, agouti.check, LABELS[:3])
    assert (good.provider, good.ok, wrong.provider, wrong.ok) == ("northbank", True, "letterbox", False)
    assert [finding.what for finding in wrong.findings if finding.ok is False] == ["model no-such@letterbox"]
    assert isinstance(both(served.config, agouti.check, LABELS[3:]), agouti.AgoutiError)


def test_explain_refuses_what_the_call_would_refuse(served: Served) -> None:
    shown = both(served.config, agouti.explain, "envelope-2@letterbox", "Peas?", temperature=0.2)
    assert (shown.method, shown.body["temperature"]) == ("POST", 0.2)
    for options, refusal in (
        ({"seed": 7}, agouti.ParameterUnsupported),
        ({"temperature": "warm"}, agouti.RequestError),
        ({"temprature": 1}, agouti.RequestError),
    ):
        told: dict[str, Any] = options
        said = both(served.config, agouti.explain, "envelope-2@letterbox", "Peas?", **told)
        assert isinstance(said, refusal)
        with agouti.Client(served.config) as client, pytest.raises(refusal) as asked:
            client.ask("envelope-2@letterbox", "Peas?", **told)
        assert str(asked.value) == str(said)
    assert isinstance(both(served.config, agouti.explain, LABELS[3], "Peas?"), agouti.LabelUnknown)


def test_check_finds_a_dialect_that_is_not_the_servers(served: Served) -> None:
    for dialect, ok in (("chat", True), ("messages", False), ("responses", False)):
        entry = {"address": served.address("shed"), "dialect": dialect}
        with agouti.Client({"providers": {"p": entry}}) as client:
            [checked] = agouti.check(client)
        assert checked.ok is ok, checked
        assert [each.what for each in checked.findings if each.ok is False] == ([] if ok else ["path"])
