"""Pasted commands, adopted and then used against the stand-ins."""

import json
import shlex
import sys
import tomllib
from pathlib import Path

import pytest

import agouti
from agouti.adopt import pasted as reading
from agouti.adopt.entries import adopt
from agouti.config.write import write_dotenv, write_toml
from agouti.standins import Served
from agouti.testing import FakeTransport

from .pasted import PASTED
from .snippets import KEY, REFUSED, SNIPPETS

PRINT_TOKEN = """
import json, urllib.parse, urllib.request
form = urllib.parse.urlencode({"grant_type": "client_credentials", "client_id": "seed-library",
                               "client_secret": "fr-77e0-marsh-lane-demo"})
print(urllib.request.urlopen("ORIGIN/ferry/oauth/token", form.encode()).read().decode())
"""


BODY = """{"model": "quill-large", "messages": [{"role": "system", "content": "Be brief."}, {"role": "user", "content": "It's?"}], "temperature": 0.3}"""
ADDRESS = "https://api.northbank.example/v1/chat/completions"
HERE = [
    f"curl {ADDRESS} -d @- <<EOF\n{BODY}\nEOF",
    f"curl {ADDRESS} --data-binary @- <<'JSON' | jq .\n{BODY}\nJSON\n",
    f"curl {ADDRESS} -d @- <<-EOF\n\t{BODY}\n\tEOF",
    f"curl {ADDRESS} -d \"$(cat <<'EOF'\n{BODY}\nEOF\n)\"",
    f"cat <<EOF | curl {ADDRESS} -d @-\r\n{BODY}\r\nEOF\r\n",
    f"curl {ADDRESS} -d @- <<< {shlex.quote(BODY)}",
    f"curl {ADDRESS} -d @- <<<{shlex.quote(BODY)}",
    f"echo {shlex.quote(BODY)} | curl {ADDRESS} -d @-",
]


@pytest.mark.parametrize("text", HERE)
def test_text_behind_a_command_is_its_data(text: str) -> None:
    adopted = adopt(reading.read(text))
    assert adopted.provider["address"] == "https://api.northbank.example/v1"
    assert adopted.model == {
        "provider": "northbank",
        "name": "quill-large",
        "system": "Be brief.",
        "parameters": {"temperature": 0.3},
    }


SYSTEMS = [
    ("https://e.example/v1/messages", {"model": "m", "system": [{"type": "text", "text": "Brief."}]}),
    ("https://e.example/v1/responses", {"model": "m", "instructions": "Brief."}),
    ("https://e.example/v1/models/m:generateContent", {"systemInstruction": {"parts": [{"text": "Brief."}]}}),
    ("https://e.example/model/m/converse", {"system": [{"text": "Brief."}]}),
    ("http://localhost:1/api/chat", {"model": "m", "messages": [{"role": "system", "content": "Brief."}]}),
    ("http://localhost:1/api/generate", {"model": "m", "system": "Brief."}),
    ("https://e.example/v1/models/a/m/predictions", {"input": {"prompt": "x", "system_prompt": "Brief."}}),
]


@pytest.mark.parametrize(("address", "body"), SYSTEMS)
def test_system_text_of_a_pasted_request_goes_into_the_entry(address: str, body: dict[str, object]) -> None:
    assert adopt(reading.read(f"curl {address} -d {shlex.quote(json.dumps(body))}")).model["system"] == "Brief."


def test_parameters_stay_where_no_model_is_named_and_an_operation_is_used_as_it_is(tmp_path: Path) -> None:
    body = {"input": {"prompt": "x", "temperature": 0.4}}
    adopted = adopt(reading.read(f"curl http://localhost:5000/predictions -d {shlex.quote(json.dumps(body))}"))
    write_toml(tmp_path / "agouti.toml", adopted.entries)
    job = {"id": "j1", "status": "succeeded", "output": ["In ", "March."], "urls": {}}
    fake = FakeTransport([job])
    with agouti.Client(tmp_path / "agouti.toml", transport=fake) as client:
        assert client.ask("local", "When do peas go in?").text == "In March."
    assert fake.requests[0].url == "http://localhost:5000/predictions"
    assert json.loads(fake.requests[0].body or b"") == {"input": {"prompt": "When do peas go in?", "temperature": 0.4}}


@pytest.mark.parametrize(("name", "provider", "text", "model"), PASTED, ids=[row[0] for row in PASTED])
def test_pasted_command_works(
    served: Served, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, provider: str, text: str, model: str
) -> None:
    origin = f"http://127.0.0.1:{served.port}"
    text = text.replace("https://HOST", "HOST").replace("HOST", origin).replace("python3", sys.executable)
    (tmp_path / "body.json").write_text('{"model": "quill-large", "messages": []}')
    (tmp_path / "print_token.py").write_text(PRINT_TOKEN.replace("ORIGIN", origin))
    found = adopt(reading.read(text, lambda path: (tmp_path / path).read_text()), provider_label="server")
    write_dotenv(tmp_path / ".env", found.secrets)
    write_toml(tmp_path / "agouti.toml", found.entries)
    written = (tmp_path / "agouti.toml").read_text()
    assert "marsh-lane-demo" not in written
    # What the page calls $NORTHBANK_KEY the user has set; a placeholder is set under the name that was made up for it.
    for variable, value in served.keys((provider,)).items():
        monkeypatch.setenv(variable, value)
        if "placeholder" in name:
            monkeypatch.setenv("SERVER_KEY", value)
    monkeypatch.setenv("AGOUTI__PROVIDERS__SERVER__VALUES__PROJECT", "seed-library")
    with agouti.Client() as client:
        assert client.ask(model, "When do peas go in?").text.startswith("Peas")


def test_what_is_taken_over_and_what_is_said() -> None:
    text = """curl https://api.eu.northbank.example/v1/chat/completions -k -H 'x-team: beds' -H 'x-secret-two: abc' \\
      -H "Authorization: Bearer nb-1" -d '{"model": "group/Quill Large", "messages": [], "stream": true, "top_p": 0.9, "max_tokens": 5,
      "safe": true, "tools": [], "options": {"num_predict": 5, "mirostat": 1}}'"""
    found = adopt(reading.read(text))
    assert found.provider_label == "northbank"
    assert found.provider == {
        "address": "https://api.eu.northbank.example/v1",
        "key": {"env": "NORTHBANK_KEY"},
        "headers": {"x-team": "beds", "x-secret-two": {"env": "NORTHBANK_SECRET_TWO"}},
        "add": {"safe": True, "options": {"num_predict": 5, "mirostat": 1}},
    }
    assert (found.model_label, found.model["name"]) == ("quill-large", "group/Quill Large")
    assert found.model["parameters"] == {"top_p": 0.9, "max_tokens": 5}
    assert found.secrets["NORTHBANK_KEY"].reveal() == "nb-1"
    assert found.secrets["NORTHBANK_SECRET_TWO"].reveal() == "abc"
    assert [word for note in found.notes for word in ("-k", "safe") if word in note] == ["-k", "safe"]
    assert len(found.notes) == 2
    lines = reading.read(
        'curl localhost:1/api/chat -d \'{"model": "m", "options": {"num_predict": 5, "mirostat": 1}}\''
    )
    assert adopt(lines).model["parameters"] == {"max_tokens": 5}
    assert "mirostat was left out" in adopt(lines).notes[0]


@pytest.mark.parametrize(
    ("instances", "instance"),
    [
        ([{"prompt": "x"}], None),
        ([{"content": "x"}], {"prompt": "/content"}),
        ([{"image": {}, "prefix": "x"}], {"prompt": "/prefix"}),
        ([{"messages": []}], {"messages": "/messages"}),
        ([], None),
        ("x", None),
    ],
)
def test_place_of_the_question_in_an_instance_is_taken_over(instances: object, instance: object) -> None:
    body = json.dumps({"instances": instances})
    found = adopt(reading.read(f"curl https://mill.example/v1/models/grist-1:predict -d '{body}'"))
    assert found.provider["dialect"] == "predict"
    assert found.provider.get("instance") == instance


@pytest.mark.parametrize(
    ("address", "dialect", "base", "model"),
    [
        ("https://a.example/v1/messages", "messages", "https://a.example/v1", None),
        ("https://a.example/v1/responses", "responses", "https://a.example/v1", None),
        ("https://a.example/v1/completions", "prompt", "https://a.example/v1", None),
        (
            "https://a.example/v1beta/models/m-1:generateContent?key=$A_KEY",
            "contents",
            "https://a.example/v1beta",
            "m-1",
        ),
        ("http://localhost:4000/api/chat", "lines", "http://localhost:4000", None),
        ("https://a.example/v1/p/q/m-2:predict", "predict", "https://a.example/v1/p/q", "m-2"),
        ("https://a.example/v1/models/o/n/predictions", "jobs", "https://a.example/v1", "o/n"),
        ("https://a.example/model/m%3A1/converse", "converse", "https://a.example", "m:1"),
    ],
)
def test_dialect_is_told_by_the_path(address: str, dialect: str, base: str, model: str | None) -> None:
    found = adopt(reading.read(f'curl "{address}" -d "{{}}"'))
    assert (found.provider["dialect"], found.provider["address"], found.model.get("name")) == (dialect, base, model)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "curl",
        "curl -H 'a: b'",
        "curl https://a.example -d '{",
        "curl https://a.example -H",
        "ftp://a.example",
    ],
)
def test_what_cannot_be_read_is_said(text: str) -> None:
    with pytest.raises((agouti.RequestError, agouti.ConfigError)) as wrong:
        adopt(reading.read(text))
    assert wrong.value.hint


def test_files_are_left_as_they_were_but_for_the_addition(tmp_path: Path) -> None:
    path = tmp_path / "agouti.toml"
    before = "# my notes\n[providers.shed]\naddress = 'http://localhost:1/v1'   # the old one\n"
    path.write_text(before)
    found = adopt(reading.read('curl https://northbank.example/v1/chat/completions -d \'{"model": "m"}\''))
    write_toml(path, found.entries)
    write_toml(path, found.entries)  # again: nothing is added twice
    assert path.read_text().startswith(before)
    assert tomllib.loads(path.read_text())["models"]["m"]["provider"] == "northbank"
    other = adopt(reading.read("https://northbank.example/v2"))
    with pytest.raises(agouti.ConfigError, match=r"another entry \[providers\.northbank\]"):
        write_toml(path, other.entries)
    path.write_text("providers = { shed = { address = 'http://localhost:1' } }\n")
    with pytest.raises(agouti.ConfigError, match="cannot be added"):
        write_toml(path, other.entries)
    assert json.dumps(tomllib.loads(path.read_text()))


def test_key_file_is_private_and_an_older_key_is_kept(tmp_path: Path) -> None:
    from agouti.config.write import free_name

    env = tmp_path / ".env"
    env.write_text("NORTHBANK_KEY=old\nOTHER=1\n")
    name = free_name("NORTHBANK_KEY", agouti.Secret("new"), {"NORTHBANK_KEY": "old"})
    write_dotenv(env, {name: agouti.Secret("new")})
    assert env.stat().st_mode & 0o777 == 0o600
    text = env.read_text()
    assert "NORTHBANK_KEY=old" in text
    assert "NORTHBANK_KEY_2='new'" in text


@pytest.mark.parametrize(
    ("text", "base", "key", "model"), [row[1:] for row in SNIPPETS], ids=[row[0] for row in SNIPPETS]
)
def test_what_newcomers_paste_becomes_entries(text: str, base: str, key: str, model: str) -> None:
    adopted = adopt(reading.read(text))
    assert (adopted.provider["address"], adopted.model.get("name", "")) == (base, model)
    literal = [secret.reveal() for secret in adopted.secrets.values()]
    if key.startswith("$"):
        assert adopted.provider["key"] == {"env": key[1:]}
        assert not literal
    else:
        assert literal == ([key] if key else [])
    assert KEY not in json.dumps([entry.values for entry in adopted.entries])


@pytest.mark.parametrize("text", [text for _, text in REFUSED], ids=[name for name, _ in REFUSED])
def test_what_is_not_understood_is_never_an_entry(text: str) -> None:
    with pytest.raises(agouti.RequestError) as refused:
        adopt(reading.read(text))
    assert refused.value.hint
    assert KEY not in str(refused.value)


def test_further_commands_are_told() -> None:
    two = next(text for name, text, *_ in SNIPPETS if name == "two commands")
    assert adopt(reading.read(two)).notes[0] == "only the first of 2 commands was taken"
