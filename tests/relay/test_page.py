"""What is there to look at: the page and what it shows, metrics, the description; and programs of other languages."""

import asyncio
import http.server
import json
import re
import shutil
import subprocess
import sys
import threading
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.relay.access_tokens import TokenFile, new_token
from agouti.standins import Served

from ..dialects.test_contract import MODELS
from ..dialects.test_turns import WITH_TOOLS
from .browser import opened
from .kit import POOL, Running, relaying, until

EXAMPLES = Path(__file__).parents[2] / "examples" / "other_languages"


@pytest.fixture
def folder(tmp_path: Path, served: Served) -> Path:
    more = '[ledger]\nstore = "usage.sqlite"\n[relay]\norigins = ["http://127.0.0.1:ORIGIN"]\n'
    (tmp_path / "agouti.toml").write_text(served.toml + more)
    return tmp_path


def config(folder: Path, served: Served, origin: int = 1) -> agouti.Config:
    path = folder / "agouti.toml"
    path.write_text(path.read_text().replace("ORIGIN", str(origin)))
    return agouti.load_config(path, environment=served.environment)


def events(relay: Running, headers: dict[str, str]) -> Iterator[dict[str, Any]]:
    reply = POOL.request("GET", relay.address + "/page/calls", headers=headers, preload_content=False)
    assert reply.status == 200
    try:
        text = b""
        while True:
            text += reply.read1()
            *whole, text = text.split(b"\n\n")
            for event in whole:
                if event.startswith(b"event: call\ndata: "):
                    yield json.loads(event.partition(b"data: ")[2])
                else:
                    yield {}
    finally:
        reply.close()


def test_the_page_shows_calls_as_they_happen(folder: Path, served: Served) -> None:
    with relaying(config(folder, served)) as relay:
        for _ in range(3):
            assert relay.ask("almanac", "Where is the crocodile?")[0] == 200
        stream = events(relay, {})
        assert next(stream) == {}
        relay.ask("almanac-local")
        relay.ask("nix")
        seen = [next(stream), next(stream)]
        assert [(each["label"], each["status"]) for each in seen] == [("almanac-local", 200), ("", 404)]
        stream.close()
        assert until(lambda: not relay.relay.recent_calls._watchers, 2)
        assert until(lambda: relay.call("/page/facts")[1]["usage"]["today"]["calls"] == 4)
        facts = relay.call("/page/facts")[1]
        assert facts["usage"]["tokens"] == [facts["usage"]["month"] | {"token": ""}]
        assert facts["usage"]["today"]["cost"]["USD"] > 0
        assert [each["name"] for each in facts["models"]] == ["almanac", "finder", "almanac-local"]
        assert len(facts["latest"]) == 5
        assert "crocodile" not in json.dumps(facts)
        status, page, headers = relay.call("/")
        assert status == 200
        assert not re.search(rb'(src|href)="|https?://|@import', page)  # nothing from anywhere else
        assert "frame-ancestors 'none'" in headers["content-security-policy"]


def test_the_page_is_behind_the_token(folder: Path, served: Served) -> None:
    tokens = TokenFile(folder / "relay-tokens.json")
    text, kept = new_token("club")
    tokens.add(kept)
    other, kept_other = new_token("newsletter")
    tokens.add(kept_other)
    with relaying(config(folder, served)) as relay:
        for path in ("/page/facts", "/page/calls", "/metrics"):
            assert relay.call(path)[0] == 401
        status, page, _ = relay.call("/", headers={"accept": "text/html,*/*"})
        assert (status, b"Access token" in page) == (401, True)
        assert relay.call("/", token=text)[0] == 200
        for given, status in (("wrong", 401), ("", 401), (text, 303)):
            got = POOL.request("POST", relay.address + "/page", body=f"token={given}", redirect=False)
            assert got.status == status
        cookie = got.headers["set-cookie"]
        assert {"HttpOnly", "SameSite=Strict", "Path=/"} <= set(cookie.split("; "))
        session = {"cookie": cookie.partition(";")[0]}
        assert text not in cookie
        assert relay.call("/page/facts", headers=session)[1]["token"] == "club"
        # The session opens the page, and nothing that costs.
        assert relay.ask("almanac")[0] == 401
        for path in ("/v1/models", "/metrics"):
            assert relay.call(path, headers=session)[0] == 401
        assert relay.call("/v1/chat/completions", {"model": "almanac"}, headers=session)[0] == 401
        relay.ask("almanac-local", token=text)
        relay.ask("almanac", token=other)
        # By itself a token sees its own calls, and nothing of the models of others.
        assert relay.call("/metrics", token=text)[0] == 403
        owner, kept_owner = new_token("owner", sees_all=True)
        tokens.add(kept_owner)
        assert until(lambda: relay.call("/metrics", token=owner)[0] == 200)
        facts = relay.call("/page/facts", token=text)[1]
        assert {each["token"] for each in facts["latest"]} == {"club"}
        assert {each["token"] for each in facts["usage"]["tokens"]} <= {"club"}
        assert {each["token"] for each in relay.call("/page/facts", token=owner)[1]["latest"]} >= {"club", "newsletter"}
        assert b'token="newsletter"' in relay.call("/metrics", token=owner)[1]
        tokens.remove("club")
        assert until(lambda: relay.call("/page/facts", headers=session)[0] == 401)


def test_metrics_and_description(folder: Path, served: Served) -> None:
    with relaying(config(folder, served)) as relay:
        relay.ask("almanac")
        relay.ask("almanac", stream=True)
        relay.ask('nix\n"')
        assert until(lambda: len(relay.relay.recent_calls.latest) == 3)
        from prometheus_client.parser import text_string_to_metric_families

        families = {each.name: each for each in text_string_to_metric_families(relay.call("/metrics")[1].decode())}
        counted = {tuple(s.labels[n] for n in ("label", "status")): s.value for s in families["agouti_relay_requests"].samples if s.name.endswith("_total")}  # fmt: skip
        assert counted == {("almanac", "200"): 2.0, ("", "404"): 1.0}
        described = relay.call("/openapi.json")[1]
        for path, item in described["paths"].items():
            for method in item if "{" not in path else ():
                assert relay.call(path, b"{}" if method == "post" else None, method=method.upper())[0] != 404
        assert described["openapi"].startswith("3.1")


def test_odd_requests_by_the_description_end_in_no_server_error(folder: Path, served: Served) -> None:
    """schemathesis makes requests of the description: good ones, and bad ones of every kind."""
    with relaying(config(folder, served)) as relay:
        done = subprocess.run(
            [
                *(str(Path(sys.executable).with_name("schemathesis")), "run", f"{relay.address}/openapi.json", "--url", relay.address, "--no-color"),
                *("--checks", "not_a_server_error,response_schema_conformance,status_code_conformance"),
                *("--max-examples", "5", "--seed", "7", "--phases", "examples,coverage"),
            ],
            capture_output=True, text=True, timeout=150, cwd=folder,
            env={"PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin", "HOME": str(folder)},
        )  # fmt: skip
        assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-2000:]
        assert not [each for each in relay.relay.recent_calls.latest if each.status >= 500]


def program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        pytest.skip(f"{name} is not installed")
    return found


def run(relay: Running, *command: str) -> str:
    environment = {"RELAY": f"{relay.address}/v1", "PATH": "/usr/local/bin:/usr/bin:/bin", "HOME": "/nonexistent"}
    done = subprocess.run(command, capture_output=True, text=True, timeout=60, env=environment)
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.parametrize(("language", "file"), [("sh", "curl.sh"), ("java", "Ask.java"), ("perl", "ask.pl")])
def test_whole_and_streamed_in_other_languages(served: Served, language: str, file: str) -> None:
    """With what comes with the language, and its defaults: one of them offers another protocol with every request."""
    if language == "sh":
        program("curl")
    with relaying(served.config) as relay:
        out = run(relay, program(language), str(EXAMPLES / file), "almanac-local")
    whole, _, stream = out.partition("\n")
    assert "Peas" in json.loads(whole)["choices"][0]["message"]["content"]
    assert stream.rstrip().endswith("data: [DONE]")


def test_node(served: Served) -> None:
    """Streams of all dialects, and the same tool loop on all that have tools."""
    node = program("node")
    with relaying(served.config) as relay:
        for name, model in MODELS.items():
            if name != "board":
                assert "Peas" in run(relay, node, str(EXAMPLES / "stream.mjs"), model)
        for name in WITH_TOOLS:
            for way in ("whole", "stream"):
                said = run(relay, node, str(EXAMPLES / "tools.mjs"), MODELS[name], way)
                assert said == "The answer is 17.\n", (name, way)


def test_the_page_in_a_browser(folder: Path, served: Served) -> None:
    """With the keyboard alone: sign in, see a call as it happens, in dark and in light; a screen reader has names."""
    tokens = TokenFile(folder / "relay-tokens.json")
    text, kept = new_token("club")
    tokens.add(kept)

    async def look(relay: Running) -> None:
        async with opened(folder, relay.address + "/") as page:
            await page.until("document.activeElement && document.activeElement.id === 'token'")
            await page.tell("Input.insertText", text=text)
            await page.press("Enter")
            await page.until("!!document.querySelector('#state.live')")
            await page.until("document.querySelector('#calls').innerText.includes('No call yet')")
            await asyncio.to_thread(relay.ask, "almanac", token=text)
            calls = await page.until(
                "document.querySelectorAll('#calls td').length > 5 && document.querySelector('#calls').innerText"
            )
            assert "northbank / quill-large" in calls
            assert "club" in calls
            assert await page.until("document.querySelector('#said').textContent") == "almanac: 200"
            await page.until("document.querySelector('#cards').innerText.includes('USD')")
            assert "0.27 USD" in await page.value("document.querySelector('#models').innerText")
            assert await page.value(
                "performance.getEntriesByType('resource').every((e) => e.name.startsWith(location.origin))"
            )
            reached = []
            for _ in range(6):
                await page.press("Tab")
                reached.append(
                    await page.value(
                        "document.activeElement.className + document.activeElement.getAttribute('aria-labelledby')"
                    )
                )
            assert any("shade" in each for each in reached)
            assert any("calls-title" in each for each in reached)
            colours = set()
            for scheme in ("light", "dark"):
                await page.tell(
                    "Emulation.setEmulatedMedia", features=[{"name": "prefers-color-scheme", "value": scheme}]
                )
                colours.add(await page.value("getComputedStyle(document.body).backgroundColor"))
            await page.value("document.querySelector('button.shade').click()")
            colours.add(await page.value("getComputedStyle(document.body).backgroundColor"))
            assert len(colours) == 2
            names = await page.names()
            for role, name in (("heading", "Calls as they happen"), ("button", "Dark or light"), ("columnheader", "Tokens in"), ("list", "Usage"), ("status", "")):  # fmt: skip
                assert any(each == role and name in said for each, said in names), (role, name)
            tokens.remove("club")
            await page.until("!!document.querySelector('#token')", 25)  # whoever is let in no more is asked again

    with relaying(config(folder, served)) as relay:
        asyncio.run(look(relay))


def test_a_page_of_ones_own_asks_from_the_browser(folder: Path, served: Served) -> None:
    (folder / "page.html").write_text((EXAMPLES / "page.html").read_text())
    handler = partial(http.server.SimpleHTTPRequestHandler, directory=str(folder))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()

    async def look(relay: Running) -> None:
        address = f"http://127.0.0.1:{server.server_address[1]}/page.html?relay={relay.address}/v1&model=almanac"
        async with opened(folder, address) as page:
            await page.until("!!document.querySelector('form')")
            await page.value("document.querySelector('form').requestSubmit()")
            assert "Peas" in await page.until(
                "document.querySelector('#answer').textContent.includes('Peas') && document.querySelector('#answer').textContent"
            )

    try:
        with relaying(config(folder, served, server.server_address[1])) as relay:
            asyncio.run(look(relay))
    finally:
        server.shutdown()
        server.server_close()
