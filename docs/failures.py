"""Make the table of failures in getting-in.md by running each of them against the stand-ins.

python docs/failures.py           writes the table
"""

import re
import socket
import ssl
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import agouti
from agouti.standins import Served, serve

GUIDE = Path(__file__).parent / "getting-in.md"
START, END = "<!-- made by docs/failures.py -->\n", "<!-- end -->"

Case = tuple[str, Callable[[Served], None]]


def asking(
    label: str, provider: str = "northbank", environment: dict[str, str] | None = None, **entry: Any
) -> Callable[[Served], None]:
    """A question to a model of a provider whose entry is changed so."""

    def run(served: Served) -> None:
        import tomllib

        values = tomllib.loads(served.entry(provider))["providers"][provider]
        config = {"providers": {provider: {**values, "retries": {"max": 0}, **entry}}}
        variables = served.environment if environment is None else environment
        with agouti.Client(agouti.load_config(config, environment=variables)) as client:
            client.ask(f"{label}@{provider}", "When do peas go in?")

    return run


def at(address: str, **entry: Any) -> Callable[[Served], None]:
    """A question to an address where something is wrong."""
    return asking("loam-2b", "shed", address=address, **entry)


def configured(text: str) -> Callable[[Served], None]:
    """A file with something wrong in it."""

    def run(_: Served) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "agouti.toml")
            path.write_text(text)
            try:
                agouti.load_config(path)
            except agouti.ConfigError as error:
                error.message = error.message.replace(f"{folder}/", "")
                raise

    return run


@contextmanager
def answering(answer: bytes, context: ssl.SSLContext | None = None) -> Iterator[str]:
    """A server that says one thing to whoever connects."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve_one() -> None:
            try:
                connection, _ = server.accept()
                with connection:
                    connection.settimeout(2)
                    spoken = context.wrap_socket(connection, server_side=True) if context is not None else connection
                    asked = b""
                    while not asked.endswith(b"}") and (more := spoken.recv(65536)):
                        asked += more  # head and body may come apart; what is unread would reset the connection
                        if asked.startswith(b"CONNECT"):
                            break
                    spoken.sendall(answer)
                    spoken.close()
            except OSError:
                pass

        thread = threading.Thread(target=serve_one)
        thread.start()
        try:
            yield f"127.0.0.1:{server.getsockname()[1]}"
        finally:
            with socket.socket() as poke:
                poke.settimeout(0.2)
                poke.connect_ex(server.getsockname())
            thread.join(5)


def against(answer: bytes, scheme: str = "http", certificate: bool = False, **entry: Any) -> Callable[[Served], None]:
    """A question to such a server."""

    def run(served: Served) -> None:
        with tempfile.TemporaryDirectory() as folder:
            context = self_signed(Path(folder)) if certificate else None
            with answering(answer, context) as place:
                at(f"{scheme}://{place}/v1", **entry)(served)

    return run


def through_proxy(served: Served) -> None:
    """A question through a proxy that says no."""
    import os

    with answering(b"HTTP/1.1 407 Proxy Authentication Required\r\ncontent-length: 0\r\n\r\n") as place:
        os.environ["https_proxy"] = f"http://{place}"
        try:
            at("https://models.northbank.example/v1")(served)
        finally:
            del os.environ["https_proxy"]


def self_signed(folder: Path) -> ssl.SSLContext:
    """A certificate that nobody has signed."""
    command = "openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -days 2 -subj /CN=localhost -addext subjectAltName=DNS:localhost"
    subprocess.run(command.split(), cwd=folder, check=True, capture_output=True)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "cert.pem", folder / "key.pem")
    return context


def free_address() -> str:
    """An address where nothing listens."""
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return f"http://127.0.0.1:{sock.getsockname()[1]}/v1"


PAGE = b"HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 32\r\n\r\n<title>Northbank console</title>"
MOVED = b"HTTP/1.1 307 Moved\r\nlocation: https://elsewhere.example/v1\r\ncontent-length: 0\r\n\r\n"

CASES: tuple[Case, ...] = (
    ("a misspelt key in the file", configured('[providers.shed]\nadress = "localhost:8080/v1"\n')),
    ("a model without provider", configured('[models.almanac]\nname = "quill-large"\n')),
    ("the variable is not set", asking("quill-large", environment={"NORTHBANK_KEI": "x"})),
    ("the variable is empty", asking("quill-large", environment={"NORTHBANK_KEY": ""})),
    ("a command that prints no token", asking("quill-large", key={"command": ["echo", "please log in"]})),
    ("the key is wrong", asking("quill-large", key="wrong")),
    ("no key, but one is wanted", asking("quill-large", key=None)),
    ("the key travels in the wrong header", asking("pippin-1", "orchard", send_key="bearer")),
    ("a token that has expired", asking("barge-3", "ferry", key="ferry-token-0000-old")),
    ("the token endpoint says no", asking("barge-3", "ferry", environment={"FERRY_SECRET": "wrong"})),
    ("signed for the wrong region", asking("sluice:1", "lock", environment=None, key={
        "signature": "v4", "region": "south", "service": "models",
        "access_key": {"env": "LOCK_ACCESS_KEY"}, "secret_key": {"env": "LOCK_SECRET_KEY"}})),
    ("a header that the provider demands is missing", asking(
        "pippin-1", "orchard", headers={"x-orchard-version": "2026-03-01"})),
    ("a project that the account has no part in", asking("pippin-1", "orchard", values={"project": "other"})),
    ("no access to the model yet", asking("quill-next")),
    ("the model is not offered in the region", asking("barge-3-south", "ferry")),
    ("out of credit", asking("penny-1", "toll")),
    ("a wrong model name", asking("quil-large")),
    ("a deployment path without its version", asking("club-almanac", "harbour", query={})),
    ("/v1 is missing from the address", lambda served: at(served.address("shed").removesuffix("/v1"))(served)),
    ("nothing listens there", lambda served: at(free_address())(served)),
    ("there is no such host", at("https://api.northbnk.invalid/v1")),
    ("a page for people, not the API", against(PAGE)),
    ("a redirect to another host", against(MOVED)),
    ("not HTTP at all", against(b"220 mail.example ESMTP ready\r\n")),
    ("https where plain http is spoken", against(b"HTTP/1.1 400 Bad Request\r\n\r\n", "https")),
    ("a certificate that nobody has signed", against(b"", "https", certificate=True)),
    ("a proxy on the way that says no", through_proxy),
    ("a key over plain http to another machine", at("http://models.northbank.example/v1", key={"env": "PATH"})),
)  # fmt: skip


def table(served: Served) -> str:
    """The table, each row from the error that really came."""
    rows = ["| what is wrong | error | what it says | what it says to do |", "|---|---|---|---|"]
    for name, run in CASES:
        try:
            run(served)
        except agouti.AgoutiError as error:
            cells = (name, f"`{type(error).__name__}`", error.message, error.hint)
            rows.append("| " + " | ".join(_plain(cell) for cell in cells) + " |")
        else:
            raise SystemExit(f"nothing went wrong with: {name}")
    return "\n".join(rows) + "\n"


def _plain(text: str) -> str:
    text = re.sub(r"127\.0\.0\.1:\d+", "127.0.0.1:8080", " ".join(text.split()))
    # What a TLS library says differs between its versions.
    text = re.sub(r"\s*\(_ssl\.c:\d+\)|\[SSL[^\]]*\]\s*|\[Errno -?\d+\]\s*", "", text)
    return text.replace("|", "\\|").replace("<", "&lt;")


def main() -> None:
    """Write the table into the guide."""
    with serve() as served:
        made = table(served)
    before, _, rest = GUIDE.read_text().partition(START)
    GUIDE.write_text(before + START + made + END + rest.partition(END)[2])


if __name__ == "__main__":
    main()
