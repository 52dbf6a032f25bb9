"""No output of any kind contains a planted secret."""

import copy
import io
import json
import logging
import pickle
import string
import traceback
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import agouti
from agouti.calls.calls import calls_of
from agouti.services.check.check_entries import check
from agouti.services.explain import explain
from agouti.standins import Served
from agouti.testing import FakeTransport

from .cli.conftest import agouti_command  # noqa: F401 - a fixture
from .conftest import Caller
from .examples import examples

GOOD = {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}]}
# Long enough that it cannot stand somewhere by chance.
SECRETS = st.text(string.ascii_letters + string.digits + "-_.", min_size=14, max_size=40).map(lambda text: f"s{text}s")
WAYS = ["bearer", "basic", "header:x-orchard-key", "query:key"]
PLACES: list[dict[str, Any]] = [
    {"label": "quill-large@p", "path": "/northbank/v1"},
    {"label": "loam-2b+cut=2@p", "path": "/shed/v1"},
    {"label": "loam-2b+html@p", "path": "/shed/v1"},
    {"label": "loam-2b@p", "path": None},
]


def walked(config: agouti.Config) -> str:
    """What tools make of a configuration that walk over fields."""
    from rich.console import Console

    out = io.StringIO()
    Console(file=out, width=400).print(config, config.origins, config.environment)
    return (
        f"{out.getvalue()} {msgspec.json.encode(config, enc_hook=repr)!r} {msgspec.to_builtins(config, enc_hook=repr)}"
    )


def everything_about(config: agouti.Config, label: str, caller: Caller) -> str:
    """All that can be printed of a configuration, a call with it, and how that fails."""
    said = [repr(config), str(config), repr(config.providers), repr(config.origins), repr(config.environment)]
    said += [repr(pickle.dumps(config)), repr(copy.deepcopy(config)), walked(config)]
    log = io.StringIO()
    handler = logging.StreamHandler(log)
    root = logging.getLogger()
    root.addHandler(handler)
    level, root.level = root.level, logging.DEBUG
    try:
        for kind in ("ask", "stream"):
            try:
                reply = caller.call(kind, config, label, "Peas?")
                said += [repr(reply), json.dumps(reply.as_dict()), repr(reply.raw)]
            except agouti.AgoutiError as error:
                frames = traceback.TracebackException.from_exception(error, capture_locals=True)
                said += [
                    str(error),
                    repr(error),
                    "".join(frames.format()),
                    repr(pickle.dumps(error)),
                    repr(vars(error)),
                ]
        with agouti.Client(config) as client:
            said += [repr(check(client)), repr(explain(client, label)), repr(calls_of(client).chat(label, "Peas?", {}))]
    finally:
        root.removeHandler(handler)
        root.level = level
    return "\n".join([*said, log.getvalue()])


@pytest.mark.parametrize("kind", ["sync", "async"])
@given(
    secret=SECRETS,
    way=st.sampled_from(WAYS),
    place=st.sampled_from(PLACES),
    given_as=st.sampled_from(["env", "literal"]),
)
@examples(15, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_planted_secret_is_nowhere(
    served: Served, kind: str, secret: str, way: str, place: dict[str, Any], given_as: str
) -> None:
    origin = f"http://127.0.0.1:{served.port}{place['path']}" if place["path"] else "http://127.0.0.1:9/v1"
    place_of = {"env": "PLANTED"} if given_as == "env" else secret
    entry = {
        "address": f"{origin}?sig={secret}" if given_as == "literal" else origin,
        "key": place_of,
        "send_key": way,
        "headers": {"x-second-token": place_of, "x-mixed": "club-{api_key}"},
        "query": {"token": place_of},
        "values": {"api_key": place_of},
        "add": {"login": {"password": place_of}},
        "retries": {"max": 0},
    }
    config = agouti.load_config({"providers": {"p": entry}}, environment={"PLANTED": secret})
    said = everything_about(config, place["label"], Caller(kind))
    assert secret not in said
    with pytest.raises(agouti.ConfigError) as crash:
        agouti.Client({"providers": {"p": {**entry, "adress": "x"}}})
    frames = traceback.TracebackException.from_exception(crash.value, capture_locals=True).stack
    assert not [
        f
        for f in frames
        if "site-packages" not in f.filename and "/tests/" not in f.filename and secret in str(f.locals)
    ]
    with agouti.Client(config, headers={"x-call-token": secret}, transport=FakeTransport([GOOD])) as client:
        assert client.ask("m@p", "x").text == "x"
        assert secret not in repr(client.config) + walked(client.config)


@pytest.mark.parametrize("interruption", [KeyboardInterrupt, SystemExit])
def test_interrupted_call_shows_no_key_in_its_traceback(
    served: Served, monkeypatch: pytest.MonkeyPatch, interruption: type[BaseException]
) -> None:
    import http.client

    def interrupted(*_: Any) -> None:
        raise interruption

    monkeypatch.setattr(http.client.HTTPConnection, "getresponse", interrupted)
    with (
        agouti.Client.at(served.address("northbank"), key="planted-secret") as client,
        pytest.raises(interruption) as raised,
    ):
        client.ask("quill-large", "Peas?")
    frames = traceback.TracebackException.from_exception(raised.value, capture_locals=True)
    ours = [line for line in frames.format() if "test_secrets" not in line]
    assert "planted-secret" not in "".join(ours)


def test_command_line_prints_no_key(agouti_command: Any, served: Served, tmp_path: Any) -> None:  # noqa: F811
    (tmp_path / "agouti.toml").write_text(
        f'[providers.northbank]\naddress = "{served.address("northbank")}"\nkey = {{ env = "PLANTED" }}\n'
    )
    label = "quill-large@northbank"
    for arguments in (
        ["--debug", "ask", label, "x"],
        ["check"],
        ["check", "--json"],
        ["explain", label],
        ["explain", label, "--json"],
    ):
        done = agouti_command(*arguments, PLANTED="planted-secret")
        assert done.returncode in (0, 1)
        assert "planted-secret" not in done.stdout + done.stderr
