"""Both clients against running stand-ins."""

import pickle
from typing import Any

import pytest

import agouti
from agouti.standins import Served

from .conftest import Caller


@pytest.mark.parametrize(("name", "words"), [("deadlin", "deadline"), ("api_key", "key="), ("nonsense", "transport")])
def test_client_knows_its_options(name: str, words: str) -> None:
    for make in (agouti.Client, agouti.AsyncClient):
        with pytest.raises(agouti.RequestError, match=f"no option '{name}'") as wrong:
            make.at("https://p.example/v1", **{name: "x"})
        assert words in wrong.value.hint


def test_plain_and_streamed_give_the_same_reply(served: Served, caller: Caller) -> None:
    question = "When do broad beans go in?"
    plain = caller.ask(served.config, "almanac", question)
    events, streamed = caller.stream(served.config, "almanac", question)
    assert (
        str(plain)
        == plain.text
        == streamed.text
        == "".join(event.text for event in events if isinstance(event, agouti.events.Text))
    )
    assert plain.usage == streamed.usage
    assert plain.usage.output_tokens
    for reply in (plain, streamed):
        assert (reply.provider, reply.model, reply.label) == ("northbank", "quill-large", "almanac")
        assert (reply.finish_reason, reply.truncated) == ("stop", False)
        assert reply.cost == pytest.approx((plain.usage.input_tokens * 0.27 + plain.usage.output_tokens * 0.81) / 1e6)  # type: ignore[operator]
        assert reply.elapsed > 0
    assert plain.raw["object"] == "chat.completion"
    assert streamed.first_token is not None
    assert plain.first_token is None


def test_parameters_reach_the_provider(served: Served, caller: Caller) -> None:
    capped = caller.ask(served.config, "almanac-local", "Peas?", max_tokens=3)
    assert (capped.finish_reason, capped.truncated, capped.usage.output_tokens) == ("length", True, 3)
    assert caller.ask(served.config, "almanac-local", "Peas?", stop="March").text == "Peas go in from "
    assert len(caller.ask(served.config, "almanac-local", "Peas?", n=3).texts) == 3
    with pytest.raises(agouti.RequestRefused) as refused:
        caller.ask(served.config, "almanac-local", "Peas?", extra={"top_q": 1})
    assert refused.value.parameter == "top_q"


def test_prompts_of_every_form(served: Served, caller: Caller) -> None:
    asked: list[Any] = [{"role": "user", "content": "Peas?"}]
    same = [agouti.Message("user", "Peas?")]
    replies = {caller.ask(served.config, "almanac-local", prompt).text for prompt in ("Peas?", asked, same)}
    assert len(replies) == 1
    plain = caller.ask(served.config, "almanac-local", "Peas?").usage.input_tokens or 0
    shown = caller.ask(served.config, "almanac-local", "Peas?", system="Brief.", examples=[("a", "b")])
    assert (shown.usage.input_tokens or 0) > plain
    for wrong in ("", [], 5, [5], [{"role": "gardener"}]):
        with pytest.raises(agouti.RequestError):
            caller.ask(served.config, "almanac-local", wrong)


WRONG = [
    ("almanak", {}, agouti.LabelUnknown, "almanac"),
    ("quill@northbonk", {}, agouti.LabelUnknown, "northbank"),
    ("loam@shed", {}, agouti.ModelUnknown, "loam"),
    ("almanac", {"temperature": 9}, agouti.RequestError, "from 0 to 5"),
    ("almanac", {"temprature": 1}, agouti.RequestError, "temperature"),
    ("loam-2b+html@shed", {}, agouti.AddressWrong, "/v1"),
    ("loam-2b+other-json@shed", {}, agouti.ReplyUnreadable, "dialect"),
    ("loam-2b+not-json@shed", {}, agouti.ReplyUnreadable, "dialect"),
    ("loam-2b+status=500@shed", {}, agouti.ProviderFault, "later"),
]


@pytest.mark.parametrize("kind", ["ask", "stream"])
@pytest.mark.parametrize(("label", "options", "error", "hint"), WRONG)
def test_what_is_wrong_and_what_to_do(
    served: Served, caller: Caller, kind: str, label: str, options: dict[str, Any], error: type, hint: str
) -> None:
    with pytest.raises(error) as raised:
        caller.call(kind, served.config, label, "Peas?", **options)
    assert hint in raised.value.hint or hint in raised.value.message
    again = pickle.loads(pickle.dumps(raised.value))
    assert (type(again), str(again), again.provider) == (error, str(raised.value), raised.value.provider)


@pytest.mark.parametrize(("fault", "error"), [("cut=4", agouti.StreamCut), ("error=4", agouti.Overloaded)])
def test_broken_stream_carries_what_came(served: Served, caller: Caller, fault: str, error: type) -> None:
    whole = caller.ask(served.config, "almanac-local", "Garlic?").text
    with pytest.raises(error) as raised:
        caller.stream(served.config, f"loam-2b+{fault}@shed", "Garlic?")
    assert raised.value.partial is not None
    assert raised.value.partial.text
    assert whole.startswith(raised.value.partial.text)


def test_client_of_one_address_without_a_file(served: Served) -> None:
    address = served.address("northbank")
    for pasted in (address, address + "/", address + "/chat/completions"):
        with agouti.Client.at(pasted, key=served.environment["NORTHBANK_KEY"]) as client:
            assert client.ask("quill-small", "Peas?").model == "quill-small"
    with agouti.Client.at(address, key="wrong") as client, pytest.raises(agouti.CredentialRefused) as refused:
        client.ask("quill-small", "Peas?")
    assert refused.value.status == 401
    assert refused.value.provider_message == "Incorrect API key provided."


def test_leaving_a_stream_early_keeps_the_client_usable(served: Served) -> None:
    with agouti.Client(served.config) as client:
        with client.stream("almanac", "Plan my spring bed.") as stream:
            first = next(iter(stream))
        assert stream.reply.text.startswith(first)
        assert stream.reply.finish_reason is None
        assert client.ask("almanac", "Peas?").text
