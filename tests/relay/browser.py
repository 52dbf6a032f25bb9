"""A browser for the tests: Chromium, told what to do over its debugging protocol."""

import asyncio
import itertools
import json
import shutil
import subprocess
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import aiohttp
import pytest

OPTIONS = [
    *("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-dev-shm-usage"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync", "--remote-debugging-port=0"),
]


class Page:
    """One page."""

    def __init__(self, socket: aiohttp.ClientWebSocketResponse) -> None:
        self._socket = socket
        self._numbers = itertools.count(1)

    async def tell(self, method: str, **parameters: Any) -> Any:
        """Send a command; its result."""
        number = next(self._numbers)
        await self._socket.send_json({"id": number, "method": method, "params": parameters})
        while True:
            message = json.loads((await self._socket.receive(20)).data)
            if message.get("id") == number:
                assert "error" not in message, message
                return message["result"]

    async def value(self, script: str) -> Any:
        """What a script amounts to."""
        told = await self.tell("Runtime.evaluate", expression=script, returnByValue=True, awaitPromise=True)
        assert "exceptionDetails" not in told, told
        return told["result"].get("value")

    async def until(self, script: str, seconds: float = 15) -> Any:
        """What a script amounts to once that is something."""
        end = time.monotonic() + seconds
        while not (value := await self.value(script)):
            assert time.monotonic() < end, f"{script}: {await self.value('document.body.innerText')}"
            await asyncio.sleep(0.05)
        return value

    async def press(self, key: str) -> None:
        """Press a key."""
        for kind in ("keyDown", "keyUp"):
            await self.tell("Input.dispatchKeyEvent", type=kind, key=key, code=key, windowsVirtualKeyCode=9 if key == "Tab" else 13, text="\r" if key == "Enter" and kind == "keyDown" else "")  # fmt: skip

    async def names(self) -> list[tuple[str, str]]:
        """Role and name of everything that a screen reader comes upon."""
        nodes = (await self.tell("Accessibility.getFullAXTree"))["nodes"]
        return [
            (node["role"]["value"], node.get("name", {}).get("value", "")) for node in nodes if not node.get("ignored")
        ]


@asynccontextmanager
async def opened(folder: Path, address: str) -> AsyncIterator[Page]:
    """A page in a browser of its own; skipped where there is none."""
    program = shutil.which("chromium")
    if program is None:
        pytest.skip("chromium is not installed")
    profile = folder / "browser"
    process = subprocess.Popen(  # noqa: ASYNC220
        [program, *OPTIONS, f"--user-data-dir={profile}", address], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        port = profile / "DevToolsActivePort"
        for _ in range(600):
            if port.exists() and port.read_text().count("\n") >= 1:
                break
            await asyncio.sleep(0.05)
        base = f"http://127.0.0.1:{port.read_text().splitlines()[0]}"
        async with aiohttp.ClientSession() as session:
            for _ in range(200):
                async with session.get(base + "/json") as reply:
                    pages = [each for each in await reply.json() if each["type"] == "page"]
                if pages:
                    break
                await asyncio.sleep(0.05)
            async with session.ws_connect(pages[0]["webSocketDebuggerUrl"], max_msg_size=0) as socket:
                yield Page(socket)
    finally:
        process.terminate()
        process.wait(20)
