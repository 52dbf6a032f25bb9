"""A night in small: a large batch on a bad provider, through kills, a full disk and a changed entry; whose books agree?

python benchmarks/batch_overnight.py [--rows N] [--per-minute N] [--delay SECONDS]

The provider refuses, fails, hangs and chokes on one row in a hundred, and keeps books of what it has answered. The
command is killed three times, meets a full disk once and an entry that asks otherwise once, and then goes to its end.
Each row must be there once, with its own answer; paid twice is at most what was in hand at a kill.
"""

import json
import os
import resource
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import measure
import msgspec

SERVER = r"""
import asyncio, json, sys
delay = float(sys.argv[1])
answered, tried, most, now = {}, {}, 0, 0
USAGE = {"prompt_tokens": 9, "completion_tokens": 3, "total_tokens": 12}
GOOD = json.dumps({"choices": [{"message": {"content": "<%s>"}, "finish_reason": "stop"}], "usage": USAGE})

def reply(status, body, more=""):
    head = f"HTTP/1.1 {status}\r\ncontent-type: application/json\r\n{more}content-length: {len(body)}"
    return f"{head}\r\n\r\n{body}".encode()

def outcome(row, note, first):
    if row % 200 == 7: return reply("400 No", '{"error": {"message": "no such words"}}')
    if row % 200 == 107: return reply("500 Choked", '{"error": {"message": "choked"}}')
    if first and row % 97 == 0:
        wait = "retry-after: 1\r\n" if row % 5000 == 0 else ""  # that holds for all requests of the account
        return reply("429 Slow", '{"error": {"message": "slow down"}}', wait)
    if first and row % 101 == 0: return reply("503 Busy", '{"error": {"message": "overloaded"}}')
    if first and row % 2003 == 0: return None
    answered[row] = answered.get(row, 0) + 1
    return reply("200 OK", GOOD % note)

class Provider(asyncio.Protocol):
    def connection_made(self, transport):
        self.transport, self.data = transport, b""
    def data_received(self, data):
        global now, most
        self.data += data
        head, end, body = self.data.partition(b"\r\n\r\n")
        if not end: return
        length = int(head.lower().partition(b"content-length:")[2].partition(b"\r\n")[0])
        if len(body) < length: return
        self.data = b""
        note = json.loads(body)["messages"][-1]["content"].partition(": ")[2]
        row = int(note.split()[1])
        first = tried[row] = tried.get(row, 0) + 1
        now += 1
        most = max(most, now)
        asyncio.get_running_loop().call_later(delay, self.answer, row, note, first == 1)
    def answer(self, row, note, first):
        global now
        now -= 1
        if self.transport.is_closing(): return  # killed: it has not been paid
        if (said := outcome(row, note, first)) is not None: self.transport.write(said)

async def main():
    server = await asyncio.get_running_loop().create_server(Provider, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    loop = asyncio.get_running_loop()
    while await loop.run_in_executor(None, sys.stdin.readline):
        print(json.dumps({"answered": answered, "requests": sum(tried.values()), "most": most}), flush=True)
asyncio.run(main())
"""


class Books(msgspec.Struct):
    """What a provider knows.

    Attributes:
        answered: how often each row was.
        requests: in all.
        most: at once.
    """

    answered: dict[int, int]
    requests: int
    most: int


class Provider:
    """The provider as a process of its own."""

    def __init__(self, delay: float) -> None:
        command = [sys.executable, "-c", SERVER, str(delay)]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        self.port = int(self._line())

    def _line(self) -> str:
        assert self._process.stdout is not None
        return self._process.stdout.readline()

    def books(self) -> "Books":
        """What it has seen so far."""
        assert self._process.stdin is not None
        self._process.stdin.write("\n")
        self._process.stdin.flush()
        return msgspec.json.decode(self._line(), type=Books)

    def stop(self) -> None:
        assert self._process.stdin is not None
        self._process.stdin.close()
        self._process.wait(10)


class Night:
    """The runs of one command.

    Attributes:
        seconds: that rows were asked.
        memory: MiB of each run, as it went.
    """

    def __init__(self, folder: Path, port: int, per_minute: int) -> None:
        self.folder = folder
        self.out = folder / "answers.jsonl"
        self.seconds = 0.0
        self.memory: list[list[float]] = []
        self._port = port
        self._per_minute = per_minute
        self.entry("Sort the notes.")

    def entry(self, system: str) -> None:
        """Write the configuration."""
        (self.folder / "agouti.toml").write_text(
            f'[providers.p]\naddress = "http://127.0.0.1:{self._port}/v1"\ntimeouts = {{ first_byte = 3 }}\n'
            f"limits = {{ requests_per_minute = {self._per_minute} }}\n"
            f'[models.m]\nprovider = "p"\nname = "quill"\nsystem = "{system}"\n'
        )

    def rows_there(self) -> int:
        """Results in the file."""
        return self.out.read_bytes().count(b"\n") if self.out.exists() else 0

    def run(self, *more: str, kill_at: int | None = None, room: int | None = None) -> tuple[int, list[str], str]:
        """Run the command; how it ended, what it printed, and what it said.

        Args:
            kill_at: kill it when so many results are there.
            room: bytes that may be written into one file.
        """

        def limit() -> None:
            if room is not None:
                resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

        command = [
            sys.executable,
            "-m",
            "agouti",
            "batch",
            "m",
            "rows.jsonl",
            "--prompt",
            "Sort: {note}",
            "--key",
            "id",
        ]
        began = time.monotonic()
        process = subprocess.Popen(
            [*command, "--out", self.out.name, "-n", "9", *more], cwd=self.folder, text=True, preexec_fn=limit,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"},
        )  # fmt: skip
        seen: list[float] = []
        watching = threading.Thread(target=self._watch, args=(process, seen, kill_at))
        watching.start()
        printed, said = process.communicate()
        watching.join()
        self.seconds += time.monotonic() - began
        self.memory.append(seen)
        return process.returncode, printed.splitlines(), said

    def _watch(self, process: "subprocess.Popen[str]", seen: list[float], kill_at: int | None) -> None:
        while process.poll() is None:
            try:
                pages = int(Path(f"/proc/{process.pid}/statm").read_text().split()[1])
            except (OSError, IndexError, ValueError):
                break
            seen.append(pages * resource.getpagesize() / 2**20)
            if kill_at is not None and self.rows_there() >= kill_at:
                process.send_signal(signal.SIGKILL)
                break
            time.sleep(0.25)

    def results(self) -> Iterator[dict[str, object]]:
        with self.out.open() as lines:
            for line in lines:
                yield json.loads(line)


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rows", type=int, default=200_000)
    options.add_argument("--per-minute", type=int, default=24_000)
    options.add_argument("--delay", type=float, default=0.02)
    given = options.parse_args()
    count = given.rows
    bounds = measure.Bounds(judged=True)  # of counts, which are right or wrong on any machine
    provider = Provider(given.delay)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with (folder / "rows.jsonl").open("w") as file:
            for number in range(count):
                file.write(json.dumps({"id": f"n{number}", "note": f"bed {number}"}) + "\n")
        night = Night(folder, provider.port, given.per_minute)
        for share in (0.2, 0.4, 0.6):
            code, _, _ = night.run(kill_at=int(count * share))
            if not given.smoke:  # which may be over before
                bounds.at_most("exit code of a kill", code, -signal.SIGKILL)
            print(f"  killed with {night.rows_there():,} results there")
        code, printed, said = night.run(room=max(path.stat().st_size for path in folder.iterdir()) * 6 // 5 + 65536)
        if not given.smoke:  # in which the file is never so long
            bounds.at_least("told that the disk is full", "cannot be" in said, 1)
        print(said[-600:])
        print(f"  a full disk after {night.rows_there():,} results; {len(printed)} printed")
        before = provider.books().requests
        night.entry("Sort them otherwise.")
        code, _, said = night.run()
        night.entry("Sort the notes.")
        bounds.at_least("another entry is seen", "results of another run" in said, 1)
        bounds.at_most("asked with another entry", provider.books().requests - before, 0)
        code, _, said = night.run()
        kinds = Counter(str(each.get("error", "")).partition(":")[0] for each in night.results())
        print("\n".join(line for line in said.splitlines() if "failed" in line or "answered" in line))
        night.run("--retry-kind", "TimedOut")
        books = provider.books()
        provider.stop()
        judge(night, books, count, len(printed), bounds)
        ideal = books.requests / given.per_minute * 60
        print(f"  {night.seconds:.0f} s in all runs, {night.seconds / ideal:.2f} x what the limit allows")
        print(f"  {dict(kinds)} before what timed out was asked again")
        early = max(night.memory[0][: max(len(night.memory[0]) // 10, 1)])
        most = max(max(each, default=0.0) for each in night.memory)
        print(f"  memory {early:.0f} MiB after a tenth of the first run, {most:.0f} MiB at most")
        if not given.smoke:
            bounds.at_most("time against the limit", night.seconds / ideal, 1.1)
            bounds.at_most("MiB more than early", most - early, 40)
    return bounds.code()


def judge(night: Night, books: Books, count: int, printed: int, bounds: measure.Bounds) -> None:
    """Lay the books beside the results."""
    seen: Counter[str] = Counter()
    wrong = poisoned = failed = 0
    for result in night.results():
        key = str(result["key"])
        seen[key] += 1
        chokes = int(key[1:]) % 100 == 7
        if "error" in result:
            poisoned += chokes
            failed += not chokes
        elif result["answer"] != f"<bed {key[1:]}>" or chokes:
            wrong += 1
    paid, different = sum(books.answered.values()), len(books.answered)
    bounds.at_most("rows that are lost", count - len(seen), 0)
    bounds.at_most("rows that are there twice", sum(seen.values()) - len(seen), 0)
    bounds.at_most("answers of other rows", wrong, 0)
    bounds.at_most("rows that failed without being poisoned", failed, 0)
    bounds.at_most("answers that nobody has", different - (len(seen) - poisoned - failed), 0)
    in_hand = 3 * books.most + printed
    bounds.at_most("paid twice", paid - different, in_hand)
    print(
        f"{count:,} rows, {len(seen):,} results, {poisoned:,} poisoned, {failed} others failed, {wrong} wrong; "
        f"{paid - different} of {paid:,} paid twice (at most {in_hand} were in hand)"
    )


if __name__ == "__main__":
    sys.exit(main())
