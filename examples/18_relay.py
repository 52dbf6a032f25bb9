"""The relay: every model at one address, for programs that know nothing of Agouti. They speak what they speak.

python examples/18_relay.py
"""

import json
import subprocess
import sys
import tempfile
import urllib.request
from pathlib import Path

from agouti.standins import serve


def ask(address: str, path: str, body: dict[str, object], token: str) -> dict[str, object]:
    """Plain HTTP, as any language has it."""
    request = urllib.request.Request(
        address + path,
        json.dumps(body).encode(),
        {"content-type": "application/json", "authorization": f"Bearer {token}"},
    )
    with urllib.request.urlopen(request) as reply:
        answer: dict[str, object] = json.load(reply)
        return answer


with serve() as served, tempfile.TemporaryDirectory() as folder:
    Path(folder, "agouti.toml").write_text(served.toml)
    Path(folder, ".env").write_text("".join(f"{name}={key}\n" for name, key in served.environment.items()))
    agouti = [sys.executable, "-m", "agouti"]
    made = subprocess.run(
        [*agouti, "relay", "token", "newsletter", "--labels", "almanac,almanac-local", "--budget", "2"],
        cwd=folder,
        capture_output=True,
        text=True,
        check=True,
    )
    token = made.stdout.strip()
    relay = subprocess.Popen(
        [*agouti, "relay", "--port", "0"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    try:
        assert relay.stdout is not None
        address = relay.stdout.readline().split()[0]
        question = [{"role": "user", "content": "When do peas go in?"}]
        print("chat completions:", ask(address, "/chat/completions", {"model": "almanac", "messages": question}, token))
        print(
            "responses:", ask(address, "/responses", {"model": "almanac-local", "input": "And beans?"}, token)["output"]
        )
        body = {"model": "almanac", "max_tokens": 40, "messages": question}
        print("messages:", ask(address, "/messages", body, token)["content"])
        print("token counts:", ask(address, "/messages/count_tokens", body, token))
    finally:
        relay.terminate()
        relay.communicate(timeout=60)
