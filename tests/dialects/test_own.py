"""Dialects that others bring: wrong ones are found by the check, and one of an installed package works from a file."""

from pathlib import Path
from typing import Any

import msgspec
import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.dialects.api import (
    Abilities,
    Choice,
    Completion,
    Dialect,
    Ending,
    Fault,
    Field,
    Finished,
    LineSplitter,
    Outgoing,
    PayloadStream,
    Request,
    RequestRefused,
    Text,
    in_words,
    read_reply,
    text_of,
)
from agouti.testing import FakeTransport
from agouti.testing.contract import ContractBroken, Sample, check_dialect


class Said(msgspec.Struct):
    says: str | None = None
    more: str | None = None
    ended: str | None = None


class Dialogue(Dialect):
    name = "dialogue"
    abilities = Abilities(
        parameters={"temperature": Field("heat"), "max_tokens": Field("limits/words")}, endings=(Ending("/say"),)
    )

    def said(self, request: Request) -> list[Any]:
        return [[message.role, text_of(message)] for message in in_words(request.messages)]

    def encode_chat(self, request: Request) -> Outgoing:
        body: dict[str, Any] = {"who": request.model, "said": self.said(request), "lines": request.stream}
        self.abilities.write(body, request.parameters)
        return Outgoing("chat", "/say", {**body, **request.extra})

    def decode_chat(self, body: bytes) -> Completion:
        said = read_reply(body, Said, "the reply")
        return Completion((Choice(said.says or "", "stop" if said.ended else None),))

    def stream_decoder(self) -> "DialogueStream":
        return DialogueStream()

    def classify(self, status: int, headers: Any, body: bytes) -> Fault:
        return Fault(RequestRefused, f"HTTP {status}")


class DialogueStream(PayloadStream):
    def __init__(self) -> None:
        super().__init__(LineSplitter())
        self._decoder = msgspec.json.Decoder(Said)

    def take(self, name: str, payload: bytes, events: list[Any]) -> None:
        said = self.read(payload, self._decoder, Said)
        if said is not None and said.more:
            events.append(Text(said.more))
        if said is not None and said.ended:
            self.done = True
            events.append(Finished("stop"))


class NoName(Dialogue):
    def encode_chat(self, request: Request) -> Outgoing:
        return msgspec.structs.replace(made := super().encode_chat(request), body={**(made.body or {}), "who": "x"})


class NoRoles(Dialogue):
    def said(self, request: Request) -> list[Any]:
        return [["user", text] for _, text in super().said(request)]


class NoStreams(Dialogue):
    def encode_chat(self, request: Request) -> Outgoing:
        return super().encode_chat(msgspec.structs.replace(request, stream=False))


class OnePlace(Dialogue):
    abilities = Abilities(
        parameters={"temperature": Field("heat"), "max_tokens": Field("heat")}, endings=(Ending("/say"),)
    )


class NoCalls(Dialogue):
    def said(self, request: Request) -> list[Any]:
        return [[message.role, text_of(message)] for message in request.messages]


class BlindPromises(Dialogue):
    abilities = Abilities(parameters={}, inputs=("text", "image"), endings=(Ending("/say"),))


SAMPLE = Sample(
    plain=b'{"says": "In March.", "ended": "yes"}',
    stream=b'{"more": "In "}\n{"more": "March."}\n{"ended": "yes"}\n',
    completion=Completion((Choice("In March.", "stop"),)),
)


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        (NoName, "name"), (NoRoles, "roles"), (NoStreams, "stream"), (OnePlace, "one place"), (NoCalls, "function"),
        (BlindPromises, "image"),
    ],
)  # fmt: skip
def test_wrong_dialects_are_found(wrong: type[Dialogue], words: str) -> None:
    check_dialect(Dialogue(), SAMPLE, noise=2000)
    with pytest.raises(ContractBroken, match=words):
        check_dialect(wrong(), SAMPLE, noise=2000)


def test_dialect_of_a_package_works_from_a_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    package = tmp_path / "nine_dialogue-1.0.dist-info"
    package.mkdir()
    (package / "METADATA").write_text("Metadata-Version: 2.1\nName: nine-dialogue\nVersion: 1.0\n")
    (package / "entry_points.txt").write_text("[agouti.dialects]\ndialogue = tests.dialects.test_own:Dialogue\n")
    monkeypatch.syspath_prepend(tmp_path)
    text = '[providers.nine]\naddress = "https://nine.example/v9"\ndialect = "dialogue"\n[models.m]\nprovider = "nine"\nname = "x"\n'
    (tmp_path / "agouti.toml").write_text(text)
    fake = FakeTransport([HttpReply(200, {}, SAMPLE.plain)])
    with agouti.Client(tmp_path / "agouti.toml", transport=fake) as client:
        assert client.ask("m", "When?").text == "In March."
        # What the format does not hold never gets lost.
        with pytest.raises(agouti.RequestError, match="takes no images"):
            client.ask("m", "What is it?", images=["data:image/png;base64,AAAA"])
        with pytest.raises(agouti.RequestError, match="application/pdf"):
            client.ask("m", "What is it?", files=[agouti.File(b"%PDF-1.7", name="a.pdf")])
    (tmp_path / "agouti.toml").write_text(text.replace('"dialogue"', '"dialoge"'))
    with pytest.raises(agouti.ConfigError) as unknown:
        agouti.load_config(tmp_path / "agouti.toml")
    assert "dialogue" in unknown.value.hint
