"""Keys from everywhere, in turn, renewed, and what is said when they are not there."""

import json
import sys
import time
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply, HttpRequest
from agouti.credentials.credential import Credential, SigningCredential
from agouti.credentials.fetch import fetch
from agouti.credentials.rotation import KeyRotation
from agouti.credentials.sources import parse_key
from agouti.standins import Served
from agouti.standins.auth import Tokens
from agouti.standins.providers import by_label
from agouti.standins.tokens import ISSUER, REFRESH_TOKEN

from ..conftest import Caller


def no_post(request: HttpRequest) -> HttpReply:
    raise AssertionError(f"nothing is to be sent, least of all to {request.url}")


def get(value: Any, environment: dict[str, str] | None = None) -> Credential:
    return fetch(parse_key(value), environment or {}, no_post)


def script(text: str) -> list[str]:
    return [sys.executable, "-c", text]


@pytest.fixture
def keyring_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A keyring that is a file, for this test and the processes that it starts."""
    (tmp_path / "file_keyring.py").write_text(
        """
import json, os, pathlib
from keyring.backend import KeyringBackend
PATH = pathlib.Path(os.environ["FILE_KEYRING"])
class FileKeyring(KeyringBackend):
    priority = 1
    def _all(self): return json.loads(PATH.read_text()) if PATH.exists() else {}
    def get_password(self, service, name): return self._all().get(f"{service}/{name}")
    def set_password(self, service, name, value): self._keep(self._all() | {f"{service}/{name}": value})
    def delete_password(self, service, name):
        self._keep({place: value for place, value in self._all().items() if place != f"{service}/{name}"})
    def _keep(self, everything): PATH.write_text(json.dumps(everything))
"""
    )
    monkeypatch.setenv("FILE_KEYRING", str(tmp_path / "keyring.json"))
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "file_keyring.FileKeyring")
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    monkeypatch.syspath_prepend(tmp_path)
    return tmp_path


def test_each_place(tmp_path: Path, keyring_folder: Path) -> None:
    import keyring
    from keyring.core import load_keyring

    keyring.set_keyring(load_keyring("file_keyring.FileKeyring"))
    keyring.set_password("agouti", "northbank", "k5")
    (tmp_path / "key").write_text("Bearer k3\n")
    later = time.time() + 900
    found = [
        get({"env": "A"}, {"A": ' "k1" '}),
        get({"env": ["B", "A"]}, {"A": "k2", "B": ""}),
        get({"file": str(tmp_path / "key")}),
        get("k4"),
        get({"keyring": "northbank"}),
        get({"command": script("print('k6')"), "lifetime": 50}),
        get({"command": script('print(\'{"access_token": "k7", "expires_in": 900}\')')}),
        get({"command": script(f'print(\'{{"token": "k8", "expiry": {later}}}\')')}),
    ]
    assert [each.secret.reveal() for each in found] == [f"k{number}" for number in range(1, 9)]
    assert found[1].found == "A (environment)"
    assert [round(each.expires - time.time(), -1) for each in found if each.expires is not None] == [50, 900, 900]


@pytest.mark.parametrize(
    ("value", "what", "hint"),
    [
        ({"env": "NORTHBANK_KEY"}, "NORTHBANK_KEY is not set", "NORTHBANK_KEI"),
        ({"env": ["ONE", "TWO"]}, "ONE, then TWO are not set", "export ONE"),
        ({"env": "EMPTY"}, "EMPTY is empty", "export EMPTY"),
        ({"file": "nowhere"}, "nowhere cannot be read", "chmod 600"),
        ({"keyring": "absent"}, "keyring", "agouti secret put absent|key = "),
        ({"command": ["no-such-program"]}, "'no-such-program' cannot be run", "list"),
        ({"command": script("import sys; sys.exit('log in first')")}, "log in first", "by hand"),
        ({"command": script("import time; time.sleep(9)"), "timeout": 0.3}, "did not end within 0.3", "timeout"),
        ({"command": script("print('please log in')")}, "printed no token", "access_token"),
        ({"command": script("print('{}')")}, "JSON without a token", "access_token"),
        ({"oauth": "assertion", "token_address": "https://x.example"}, "needs a private key", "private_key"),
        ({"oauth": "client_credentials"}, "names no token_address", "token_address"),
        ({"signature": "v4", "region": "n", "service": "m"}, "access_key and secret_key", "profile_file"),
        (
            {"signature": "v4", "region": "n", "service": "m", "profile_file": "nowhere"},
            "nowhere cannot be read",
            "chmod",
        ),
    ],
)
def test_what_is_missing_is_said_with_the_next_step(keyring_folder: Path, value: Any, what: str, hint: str) -> None:
    with pytest.raises(agouti.CredentialMissing) as missing:
        get(value, {"NORTHBANK_KEI": "x", "EMPTY": ""})
    assert what in missing.value.message
    assert any(each in missing.value.hint for each in hint.split("|")), missing.value.hint


def test_profile_file_with_prefixes_and_session_token(tmp_path: Path) -> None:
    (tmp_path / "profiles").write_text(
        "[default]\nx = 1\n[club]\nfoo_access_key_id = A\nfoo_secret_access_key = B%\nfoo_session_token = C\n"
    )
    value = {
        "signature": "v4",
        "region": "n",
        "service": "m",
        "profile_file": str(tmp_path / "profiles"),
        "profile": "club",
    }
    found = get(value)
    assert isinstance(found, SigningCredential)
    assert (found.access_key, found.secret.reveal(), found.session_token) == ("A", "B%", agouti.Secret("C"))
    signed = found.sign(HttpRequest("POST", "https://x.example/model/a%3A1/converse", {}, b"{}"))
    assert "Credential=A/" in signed.headers["authorization"].encode().decode()
    assert "C" not in repr(signed.headers)
    with pytest.raises(agouti.CredentialMissing, match=r"no profile \[clbu\]") as missing:
        get({**value, "profile": "clbu"})
    assert "club" in missing.value.hint


PRIVATE = "seed-library-assertion-secret-0001"
CLIENT = {"client_id": "seed-library", "client_secret": {"env": "FERRY_SECRET"}}


@pytest.mark.parametrize(
    "grant",
    [
        CLIENT | {"oauth": "client_credentials"},
        CLIENT | {"oauth": "client_credentials", "client_auth": "body"},
        CLIENT | {"oauth": "refresh_token", "refresh_token": REFRESH_TOKEN},
        {"oauth": "assertion", "issuer": ISSUER, "algorithm": "HS256", "private_key": PRIVATE},
        {"oauth": "assertion", "algorithm": "HS256", "account": "account.json"},
    ],
)
def test_oauth_token_is_minted_kept_and_renewed_once_refused(
    served: Served, caller: Caller, tmp_path: Path, grant: dict[str, Any]
) -> None:
    (tmp_path / "account.json").write_text(json.dumps({"client_email": ISSUER, "private_key": PRIVATE}))
    tokens = next(door for door in by_label("ferry").doors if isinstance(door, Tokens))
    key = {**grant, "token_address": f"http://127.0.0.1:{served.port}/ferry/oauth/token"}
    entry = {"address": served.address("ferry"), "values": {"region": "north"}, "key": key}
    config = agouti.load_config({"providers": {"ferry": entry}}, environment=served.environment)
    before = tokens.minted
    assert caller.ask(config, "barge-3@ferry", "Peas?").text
    assert tokens.minted == before + 1
    with agouti.Client(config) as client:
        for _ in range(2):
            client.ask("barge-3@ferry", "Peas?")
        assert tokens.minted == before + 2
        tokens.expire()
        reply = client.ask("barge-3@ferry", "Peas?")
        assert tokens.minted == before + 3
        assert [attempt.outcome for attempt in reply.attempts] == ["CredentialRefused", "answered"]


def test_oauth_refusals_are_said(served: Served) -> None:
    address = f"http://127.0.0.1:{served.port}"
    for token_address, what in (
        (f"{address}/ferry/oauth/token", "invalid_client"),
        (f"{address}/shed/v1/models", "gives no token|HTTP"),
        ("http://127.0.0.1:9/token", "cannot be reached"),
        ("http://tokens.northbank.example/token", "plain http"),
    ):
        key = {
            "oauth": "client_credentials",
            "client_id": "x",
            "client_secret": "planted",
            "token_address": token_address,
        }
        entry = {"address": served.address("ferry"), "values": {"region": "north"}, "key": key}
        with agouti.Client({"providers": {"ferry": entry}}) as client, pytest.raises(agouti.AgoutiError) as refused:
            client.ask("barge-3@ferry", "Peas?")
        assert any(each in refused.value.message for each in what.split("|")), refused.value
        assert refused.value.provider == "ferry"


def test_several_keys_take_turns_and_a_refused_one_is_set_aside(served: Served, caller: Caller) -> None:
    good = served.environment["NORTHBANK_KEY"]
    entry = {"address": served.address("northbank"), "key": ["bad", good, "worse"]}
    with agouti.Client({"providers": {"northbank": entry}}) as client:
        outcomes = [
            [attempt.outcome for attempt in client.ask("quill-small@northbank", "Peas?").attempts] for _ in range(4)
        ]
        assert sum(len(each) - 1 for each in outcomes) == 2
        assert outcomes[-1] == ["answered"]
    entry["key"] = ["bad", "worse"]
    with pytest.raises(agouti.CredentialRefused):
        caller.ask({"providers": {"northbank": entry}}, "quill-small@northbank", "Peas?")


def test_key_is_fetched_again_shortly_before_it_expires() -> None:
    key = agouti.CommandKey(("x",))
    turns = KeyRotation(key)
    assert turns.next(0.0) is key
    held = Credential(agouti.Secret("t"), "", expires=1000.0, renewable=True)
    turns.store(key, held)
    assert turns.next(900.0) is held
    assert turns.next(950.0) is key


def test_secret_commands(keyring_folder: Path, served: Served, tmp_path: Path) -> None:
    import subprocess

    def run(*arguments: str, text: str | None = None) -> "subprocess.CompletedProcess[str]":
        return subprocess.run(
            [sys.executable, "-m", "agouti", *arguments], input=text, capture_output=True, text=True, cwd=tmp_path
        )

    assert run("secret", "where", "northbank").returncode == 2
    stored = run("secret", "put", "northbank", text="nb-3f9a-marsh-lane-demo\n")
    assert (stored.returncode, stored.stdout) == (0, "")
    assert 'key = { keyring = "northbank" }' in stored.stderr
    where = run("secret", "where", "northbank")
    assert "nb-3f9a" not in where.stdout + where.stderr
    entry = f'[providers.northbank]\naddress = "{served.address("northbank")}"\nkey = {{ keyring = "northbank" }}\n'
    (tmp_path / "agouti.toml").write_text(entry)
    assert run("ask", "quill-small@northbank", "Peas?").stdout.startswith("Peas")
    assert run("secret", "remove", "northbank").returncode == 0
    gone = run("ask", "quill-small@northbank", "Peas?")
    assert gone.returncode == 2
    assert "agouti secret put northbank" in gone.stderr
    assert run("secret", "put", "x", text="").returncode == 2
