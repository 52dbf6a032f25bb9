"""Keys with something around them, keys in the wrong place, and providers that repeat them: none is ever shown."""

import base64
import copy
import json
import logging
import pickle
import urllib.parse
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.core.secrets.masking import printable
from agouti.testing import FakeTransport

from ..examples import examples

KEY = "sk-PLANTED0123456789abcdef"


def config(value: str = KEY, **entry: Any) -> agouti.Config:
    provider = {"address": "https://p.example/v1", "retries": {"max": 0}, **entry}
    return agouti.load_config({"providers": {"p": {"key": {"env": "K"}, **provider}}}, environment={"K": value})


AROUND = ["{}\n# made in March", "{}\u200b", "\u201c{}\u201d", "\ufeff{}", "{}…", "{}\ud800", "{}\x07", "{}\x7f"]


@pytest.mark.parametrize("send_key", ["bearer", "header:x-key", "query:key", "basic"])
@pytest.mark.parametrize("around", AROUND)
def test_key_with_something_around_it_is_told_by_place_and_name(around: str, send_key: str) -> None:
    if send_key in ("query:key", "basic") and around in (AROUND[1], AROUND[2], AROUND[4], AROUND[3]):
        return  # there these can be sent
    fake = FakeTransport([{"choices": [{"message": {"content": "x"}}]}])
    with agouti.Client(config(around.format(KEY), send_key=send_key), transport=fake) as client:
        with pytest.raises(agouti.CredentialMissing, match=r"its character \d+ is") as told:
            client.ask("m@p", "x")
    assert KEY not in f"{told.value!r} {told.value} {told.value.hint}"
    assert not fake.requests


SAYINGS = st.sampled_from(
    ["Incorrect API key provided: {}", "header Authorization: Bearer {} is bad", "{}", "<html><title>{}</title></html>"]
)
FORMS = st.sampled_from(
    [str, lambda key: base64.b64encode(key.encode()).decode(), lambda key: urllib.parse.quote(key, safe="")]
)
KEYS = st.text("abcDEF0123456789-_/+=%", min_size=8, max_size=40).filter(lambda key: key.strip("\"'") == key)


@examples(150)
@given(KEYS, SAYINGS, FORMS, st.sampled_from([200, 400, 401, 403, 404, 429, 500, 307]), st.booleans())
def test_what_a_provider_repeats_is_masked(key: str, saying: str, form: Any, status: int, in_json: bool) -> None:
    shown = form(key)
    text = saying.format(shown)
    body = json.dumps({"error": {"message": text, "code": "x"}}).encode() if in_json else text.encode()
    headers = {"x-request-id": shown, "location": f"https://e.example/v1?key={shown}"}
    records: list[str] = []
    handler = logging.Handler()
    handler.emit = lambda record: records.append(record.getMessage())  # type: ignore[method-assign]
    log = logging.getLogger("agouti")
    log.addHandler(handler)
    level, log.level = log.level, logging.DEBUG
    try:
        with agouti.Client(config(key), transport=FakeTransport([HttpReply(status, headers, body)])) as client:
            with pytest.raises(agouti.AgoutiError) as told:
                client.ask("m@p", "x")
    finally:
        log.removeHandler(handler)
        log.level = level
    error = told.value
    said = [
        str(error),
        repr(error),
        error.message,
        error.provider_message,
        error.hint,
        error.request_id,
        *error.args,
        *records,
    ]
    said += [attempt.why for attempt in error.attempts]
    said.append(str(pickle.dumps(error)))
    assert not [each for each in said if each and shown in str(each)]


SLIPS = [
    f"key = {KEY}",
    f'key = "{KEY}',
    f'key = {{ env = "{KEY}" }}',
    f'send_key = "{KEY}"',
    f"headers = {{ x-key = {KEY} }}",
]


@pytest.mark.parametrize("line", SLIPS)
def test_key_in_the_wrong_place_is_not_repeated(tmp_path: Path, line: str) -> None:
    path = tmp_path / "agouti.toml"
    path.write_text(f'[providers.p]\naddress = "https://p.example/v1"\n{line}\n')
    with pytest.raises(agouti.AgoutiError) as told:
        agouti.Client(agouti.load_config(path, environment={}), transport=FakeTransport([])).ask("m@p", "x")
    assert KEY not in f"{told.value} {told.value.hint}"
    assert told.value.hint


@pytest.mark.parametrize(
    "entry",
    [
        {"timeouts": {"connect": 0}},
        {"timeouts": {"first_byte": float("nan")}},
        {"timeouts": {"between_chunks": float("inf")}},
        {"retries": {"max": -1}},
        {"retries": {"base": -0.5}},
        {"headers": {"x:": "a"}},
        {"headers": {"": "a"}},
        {"headers": {"x": "a\r\nEvil: 1"}},
        {"headers": {"x": "a\x00"}},
    ],
)
def test_settings_that_no_request_could_use_are_said(entry: dict[str, Any]) -> None:
    with pytest.raises(agouti.ConfigError):
        agouti.Client(config(**entry), transport=FakeTransport([])).ask("m@p", "x")


def test_copies_keep_what_they_need_and_show_nothing() -> None:
    made = copy.deepcopy(config())
    assert KEY not in repr(made)
    with agouti.Client(made, transport=FakeTransport([{"choices": [{"message": {"content": "x"}}]}])) as client:
        assert client.ask("m@p", "x").text == "x"


def test_foreign_text_steers_no_terminal() -> None:
    text = "all well\x1b]0;title\x07 \x1b[2J\x9b31m \u202egnp.exe \rover\x08 end"
    assert not [
        letter for letter in printable(text) if ord(letter) < 32 or 127 <= ord(letter) < 160 or letter == "\u202e"
    ]
    assert printable("Blüte 日本 🌱\n\tok") == "Blüte 日本 🌱\n\tok"


def test_devices_and_pipes_are_no_images() -> None:
    for path in ("/dev/zero", "/dev/null"):
        with pytest.raises(agouti.RequestError, match="no ordinary file"):
            agouti.Image(path)
