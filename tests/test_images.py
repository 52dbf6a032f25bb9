"""Images: where they come from, how each format carries them, what is not sent."""

import base64
from pathlib import Path
from typing import Any

import pytest

import agouti
from agouti.standins import Served
from agouti.standins.images import LABELS, packet
from agouti.testing import FakeTransport

from .conftest import Caller
from .dialects.test_contract import MODELS

SEEING = [name for name in MODELS if name not in ("prompt", "board")]
GIF = b"GIF89a" + bytes(20)


@pytest.mark.parametrize("name", SEEING)
def test_packet_is_read_on_every_dialect_that_carries_images(served: Served, name: str) -> None:
    with agouti.Client(served.config) as client:
        reply = client.ask(MODELS[name], "What is on this packet?", images=[packet("kale")])
        assert "Old Fen Curled" in reply.text
        with client.stream(MODELS[name], ["What is on it?", agouti.Image(packet("beetroot").read_bytes())]) as stream:
            assert "Lane Globe" in "".join(stream)
        if name in ("chat", "messages", "contents", "responses", "lines", "converse"):
            both = client.ask(MODELS[name], "Which?", images=[packet("kale"), str(packet("beetroot"))]).text
            assert "Old Fen Curled" in both
            assert "Lane Globe" in both


def test_form_is_filled_from_a_image(served: Served) -> None:
    form = {"type": "object", "properties": {"variety": {"type": "string"}, "seeds": {"type": "integer"}}, "required": ["variety", "seeds"]}  # fmt: skip
    with agouti.Client(served.config) as client:
        for name in LABELS:
            value = client.fill("almanac", form, "Read the label.", images=[packet(name)]).value
            assert f"Variety: {value['variety']}" in LABELS[name]
            assert f"Seeds: {value['seeds']}" in LABELS[name]
        talk = client.conversation("almanac")
        talk.say("Look.", images=[packet("kale")])
        assert "kale" in talk.say("Again, please.", images=[packet("kale")]).text


@pytest.mark.parametrize(
    ("data", "media_type"),
    [
        (b"\x89PNG\r\n\x1a\n..", "image/png"),
        (b"\xff\xd8\xff\xe0", "image/jpeg"),
        (GIF, "image/gif"),
        (b"RIFF\0\0\0\0WEBPVP8 ", "image/webp"),
    ],
)
def test_media_type_is_told_by_the_content(data: bytes, media_type: str, tmp_path: Path) -> None:
    (tmp_path / "lies.txt").write_bytes(data)
    for source in (data, tmp_path / "lies.txt", str(tmp_path / "lies.txt")):
        assert agouti.Image(source).address == f"data:{media_type};base64,{base64.b64encode(data).decode()}"


@pytest.mark.parametrize(
    ("source", "words"),
    [
        (b"", "it is empty"),
        (b"%PDF-1.7", "first bytes"),
        ("missing.png", "cannot be read"),
        (b"GIF89a" + bytes(21 * 1024 * 1024), "22.0 MB"),
        (3, "cannot be a int"),
    ],
)
def test_what_is_no_image_is_said(source: Any, words: str) -> None:
    with pytest.raises(agouti.RequestError, match=words) as wrong:
        agouti.Image(source)
    assert wrong.value.hint


def test_model_that_cannot_see_is_told_by_the_entry_or_by_the_provider(served: Served) -> None:
    config = {
        "providers": {"shed": {"address": served.address("shed")}},
        "models": {"blind": {"provider": "shed", "name": "loam-2b", "inputs": ["text"]}},
    }
    with agouti.Client(config) as client:
        with pytest.raises(agouti.RequestError, match="takes no images") as told:
            client.ask("blind", "What is it?", images=[GIF])
        assert told.value.attempts == ()
        with pytest.raises(agouti.RequestRefused, match="image input"):
            client.ask("loam-2b@shed", "What is it?", images=[GIF])


ADDRESS = "https://seed-library.example/a.png"


@pytest.mark.parametrize("name", ["chat", "responses", "messages", "contents"])
def test_address_goes_along_where_the_format_takes_it(name: str) -> None:
    fake = FakeTransport([b"{}"])
    entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": name}}}
    with agouti.Client(entry, transport=fake) as client, pytest.raises(agouti.AgoutiError):
        client.ask("m@p", "What is it?", images=[agouti.Image(ADDRESS, detail="low")], fetch_images=True)
    assert ADDRESS in (fake.requests[0].body or b"").decode()


@pytest.fixture
def images(tmp_path: Path) -> Any:
    """A small web server with an image, a page, a redirect and something endless."""
    import threading
    from http.server import BaseHTTPRequestHandler, HTTPServer

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            status = {"/a.png": 200, "/page": 200, "/large": 200, "/moved": 302}.get(self.path, 404)
            body = packet("kale").read_bytes() if self.path in ("/a.png", "/large") else b"<html>"
            body += bytes(25_000_000) if self.path == "/large" else b""
            self.send_response(status)
            if status == 302:
                self.send_header("location", "http://other.example/a.gif")
            self.send_header("content-length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: Any) -> None:
            pass

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.01})
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    thread.join()
    server.server_close()


@pytest.mark.parametrize(
    ("path", "fetch", "words"),
    [
        ("/a.png", "private", ""),
        ("/a.png", False, "only as data"),
        ("/a.png", True, "private network"),
        ("/page", "private", "no image that models take"),
        ("/moved", "private", "it is at http://other.example/a.gif"),
        ("/gone", "private", "HTTP 404"),
        ("/large", "private", "the most that is sent"),
    ],
)
def test_address_is_fetched_only_where_needed_and_allowed(
    images: str, path: str, fetch: Any, words: str, served: Served, caller: Caller
) -> None:
    options: Any = {"images": [images + path], "fetch_images": fetch}
    if not words:
        reply = caller.ask(served.config, MODELS["lines"], "What is on this packet?", **options)
        assert "Old Fen Curled" in reply.text
        assert len(reply.attempts) == 1
        return
    with pytest.raises(agouti.RequestError, match=words) as refused:
        caller.ask(served.config, MODELS["lines"], "What is it?", **options)
    assert refused.value.hint
    assert refused.value.attempts == ()


def test_fetched_image_is_recorded_and_replayed_without_a_network(images: str, served: Served, tmp_path: Path) -> None:
    address, path = f"{images}/a.png", tmp_path / "x.har"
    options: Any = {"images": [address], "fetch_images": "private"}
    with agouti.Client(served.config, record=path) as client:
        text = client.ask(MODELS["lines"], "What is on this packet?", **options).text
    config = {"providers": {"barn": {"address": served.address("barn"), "dialect": "lines"}}}
    for client in (agouti.Client(config, replay=path), agouti.Client(served.config, replay=path)):
        assert client.ask(MODELS["lines"], "What is on this packet?", **options).text == text


@pytest.mark.parametrize(
    "host", ["10.0.0.1", "169.254.169.254", "[::1]", "192.168.1.1", "[fe80::1]", "0.0.0.0", "100.64.0.1", "localhost"]
)
def test_private_networks_are_not_reached_for_a_stranger(served: Served, caller: Caller, host: str) -> None:
    with pytest.raises(agouti.RequestError, match=r"private network|no host"):
        caller.ask(served.config, MODELS["lines"], "?", images=[f"http://{host}/latest"], fetch_images=True)
