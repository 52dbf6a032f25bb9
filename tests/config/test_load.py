"""Configuration: layers, inheritance, origins, and what is said when it is wrong."""

from pathlib import Path

import pytest

import agouti
from agouti.calls.calls import calls_of
from agouti.config.load import load

BASE = '[providers.shed]\naddress = "localhost:8080/v1"\n'


def test_layers_override_each_other_and_remember_where_values_came_from(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    user = tmp_path / "user" / "agouti"
    user.mkdir(parents=True)
    (user / "agouti.toml").write_text('[providers.shed]\naddress = "localhost:1/v1"\nheaders = { a = "1" }\n')
    (tmp_path / "agouti.toml").write_text(
        '\n# mine\n[providers.shed]\naddress = "localhost:2/v1"\n\n[models.almanac-local]\nprovider = "shed"\nname = "loam"\n'
        'system = """\nTwo\nlines"""\nparameters = { temperature = 0.1, stop = [\n  "#",\n] }\n'
    )
    (tmp_path / ".env").write_text("SHED_KEY=from-dotenv\nAGOUTI__PROVIDERS__SHED__KEY={ env = 'SHED_KEY' }\n")
    monkeypatch.setenv("AGOUTI__MODELS__ALMANAC_LOCAL__PARAMETERS__TEMPERATURE", "0.9")
    below = tmp_path / "a" / "b"
    below.mkdir(parents=True)
    monkeypatch.chdir(below)
    config = load()
    assert config.origins is not None
    shed, model = config.providers["shed"], config.models["almanac-local"]
    assert (shed.address, shed.headers) == ("localhost:2/v1", {"a": "1"})
    assert shed.key == agouti.EnvKey(("SHED_KEY",))
    assert config.environment["SHED_KEY"] == "from-dotenv"
    assert model.parameters == {"temperature": 0.9, "stop": ["#"]}
    origins = [
        str(config.origins.of("providers", "shed", "address")).rpartition("/")[2],
        str(config.origins.of("providers", "shed", "headers", "a")).rpartition("user/")[2],
        str(config.origins.of("models", "almanac-local", "system")).rpartition("/")[2],
        str(config.origins.of("models", "almanac-local", "parameters", "stop")).rpartition("/")[2],
        str(config.origins.of("models", "almanac-local", "parameters", "temperature")),
        str(config.origins.of("models", "almanac-local", "price")),
    ]
    assert origins == [
        "agouti.toml:4",
        "agouti/agouti.toml:3",
        "agouti.toml:9",
        "agouti.toml:12",
        "AGOUTI__MODELS__ALMANAC_LOCAL__PARAMETERS__TEMPERATURE (environment)",
        "default",
    ]


def test_persona_takes_everything_it_does_not_say_itself() -> None:
    config = load(
        {
            "providers": {"shed": {"address": "localhost:8080/v1"}},
            "models": {
                "almanac": {
                    "provider": "shed",
                    "name": "loam",
                    "system": "Brief.",
                    "parameters": {"seed": 1, "top_p": 0.5},
                },
                "kids": {"extends": "almanac", "system": "For children.", "parameters": {"seed": 2}},
                "tiny": {"extends": "kids", "name": "loam-tiny"},
            },
        }
    )
    tiny = config.models["tiny"]
    assert (tiny.provider, tiny.name, tiny.system) == ("shed", "loam-tiny", "For children.")
    assert tiny.parameters == {"seed": 2, "top_p": 0.5}


WRONG = [
    # what follows BASE (two lines), what is said, the hint
    ("[model.x]\n", ":3: unknown table [model]", "models"),
    ("[models.x]\nprovider = 'shed'\nnmae = 'a'\n", ":5: unknown key 'nmae'", "name"),
    ("[models.x]\nname = 'a'\n", ":3: [models.x] has no provider", "shed"),
    ("[models.x]\nprovider = 'shde'\nname = 'a'\n", ":4: [models.x] names provider 'shde'", "shed"),
    ("[models.x]\nprovider = 'shed'\n", ":3: [models.x] has no name", "name ="),
    ("[models.x]\nextends = 'y'\n", ":4: [models.x] extends 'y'", "label"),
    ("[models.x]\nextends = 'y'\n[models.y]\nextends = 'x'\n", "circle: x -> y -> x", "out"),
    ("[models.x]\nprovider = 'shed'\nname = 'a'\nparameters = 3\n", ":6: models.x.parameters = 3", "parameters"),
    ("[models.x]\nprovider = 'shed'\nname = 7\n", ":5: models.x.name = 7", "in quotes"),
    ("[providers.b]\naddress = 'ftp://x'\n", ":4: [providers.b]", "https://"),
    ("[providers.b]\nkey = { env = 'A' }\n", ":3: [providers.b] has no address", "address"),
    ("[providers.b]\naddress = 'x.example'\nkey = { evn = 'A' }\n", "no such kind of key: 'evn'", "env"),
    ("[providers.b]\naddress = 'x.example'\nkey = { env = 'A', file = 'b' }\n", "two kinds of key", "key"),
    ("[providers.b]\naddress = 'x.example'\nkey = { command = 'a b' }\n", ":5: providers.b.key", "key"),
    ("[providers.b]\naddress = 'x.example'\nsend_key = 'heder:x'\n", ":5: [providers.b] send_key", "header:NAME"),
    ("[providers.b]\naddress = 'x.example'\nretries = { max = 'many' }\n", "providers.b.retries", "retries"),
    ("[providers.shed]\naddress = 'y'\n", "not valid TOML", "one name"),
    ("[models.'a@b']\n", "holds an @", "NAME@PROVIDER"),
]


@pytest.mark.parametrize(("text", "what", "hint"), WRONG)
def test_what_is_wrong_is_said_with_its_place(tmp_path: Path, text: str, what: str, hint: str) -> None:
    (tmp_path / "agouti.toml").write_text(BASE + text)
    with pytest.raises(agouti.ConfigError) as wrong:
        load()
    assert what in wrong.value.message
    assert hint in wrong.value.hint + wrong.value.message
    assert wrong.value.file == "agouti.toml"


def test_entries_made_in_code_are_checked_too() -> None:
    shed = agouti.Provider("shed", "localhost:1")
    with pytest.raises(agouti.ConfigError, match="two providers are called 'shed'"):
        agouti.Config.of([shed, shed])
    with pytest.raises(agouti.LabelUnknown):
        agouti.Config.of([shed], [agouti.Model("a", "shde", "m")])


@pytest.mark.parametrize(
    ("variable", "what"),
    [("AGOUTI__PROVIDERS", "names no setting"), ("AGOUTI__PROVIDERS__SHED__ADRESS", "unknown key 'adress'")],
)
def test_wrong_variable_is_named(monkeypatch: pytest.MonkeyPatch, variable: str, what: str) -> None:
    monkeypatch.setenv(variable, "x")
    with pytest.raises(agouti.ConfigError, match=what) as wrong:
        load({"providers": {"shed": {"address": "localhost:1"}}})
    assert variable in wrong.value.message


def test_key_never_goes_over_plain_http_to_another_machine() -> None:
    def client(**more: object) -> agouti.Client:
        entry = {"address": "http://models.northbank.example/v1", "key": {"env": "PATH"}, **more}
        return agouti.Client({"providers": {"northbank": entry}})

    with pytest.raises(agouti.ConfigError, match="plain http"):
        client().ask("m@northbank", "Hi")
    assert calls_of(client(plain_http=True)).provider("northbank").base.startswith("http:")


def test_templates_want_their_values() -> None:
    entry = {"address": "https://{region}.northbank.example/v1", "values": {"regoin": "north"}}
    with pytest.raises(agouti.ConfigError, match=r"wants a value for \{region\}") as wrong:
        calls_of(agouti.Client({"providers": {"northbank": entry}})).provider("northbank")
    assert "regoin" in wrong.value.hint


@pytest.mark.parametrize(
    ("pasted", "base"),
    [
        (" <https://api.x.example/v1/> ", "https://api.x.example/v1"),
        ("api.x.example/v1/chat/completions", "https://api.x.example/v1"),
        ("HTTP://[::1]:8080/v1/models", "http://[::1]:8080/v1"),
        ("127.0.0.1:8080", "http://127.0.0.1:8080"),
        ("https://x.example:8443/prefix/v1/embeddings?a=b", "https://x.example:8443/prefix/v1"),
        ("https://x.example/models-hub/v1", "https://x.example/models-hub/v1"),
        ("https://x.example/v1#top", "https://x.example/v1"),
    ],
)
def test_addresses_as_pasted(pasted: str, base: str) -> None:
    assert calls_of(agouti.Client.at(pasted)).provider("here").base == base


@pytest.mark.parametrize(
    "pasted", ["", "two words", "ftp://x", "https://", "http://x:99999", "https://me:pw@x.example"]
)
def test_what_is_no_address_is_said(pasted: str) -> None:
    with pytest.raises(agouti.ConfigError) as wrong:
        calls_of(agouti.Client.at(pasted)).provider("here")
    assert wrong.value.hint
    assert "pw" not in str(wrong.value)
