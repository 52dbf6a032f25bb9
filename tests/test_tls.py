"""Certificates of an own authority, for both transports."""

import runpy
from pathlib import Path

import pytest

import agouti

from .conftest import Caller

FAILURES = runpy.run_path(str(Path(__file__).parent.parent / "docs" / "failures.py"))


BODY = b'{"choices": [{"message": {"content": "In March."}}]}'
REPLY = b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: %d\r\n\r\n%s" % (len(BODY), BODY)


def test_own_authority_is_trusted_when_named(caller: Caller, tmp_path: Path) -> None:
    context = FAILURES["self_signed"](tmp_path)
    path = tmp_path / "agouti.toml"

    def ask(tls: str) -> str:
        with FAILURES["answering"](REPLY, context) as place:
            address = f"https://{place.replace('127.0.0.1', 'localhost')}/v1"
            path.write_text(f'[providers.club]\naddress = "{address}"\nretries = {{ max = 0 }}\n{tls}')
            return caller.ask(path, "m@club", "Peas?").text

    assert ask('tls = { ca = "cert.pem" }') == "In March."
    with pytest.raises(agouti.TLSFailed) as refused:
        ask("")
    assert "tls = { ca" in refused.value.hint
    with pytest.raises(agouti.ConfigError, match=r"nowhere\.pem"):
        ask('tls = { ca = "nowhere.pem" }')
