"""Break promises of the documentation on purpose, one at a time, and see whether a test notices.

python tests/broken_promises.py [WORD ...]     all of them, or those whose promise or file has one of these words
python tests/broken_promises.py --share 0.1    a tenth of them, by chance; always the same ones with --seed 1
python tests/broken_promises.py --workers 2    several at a time

Each row of `tests/breaks` is a change of one place in the source and the promise that it breaks. The tests run in a copy
of the checkout with an interpreter of its own, so that the programs which they start are broken as well. First they have
to be green without any change. Only a test that fails has noticed: no other end of pytest counts, and no hanging.
"""

import argparse
import os
import random
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import venv
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from tests.breaks import ROWS, Row  # noqa: E402

# What a copy of the checkout has.
_PARTS = (
    "src",
    "tests",
    "docs",
    "examples",
    "benchmarks",
    ".ci",
    "pyproject.toml",
    "mkdocs.yml",
    "README.md",
    "CHANGELOG.md",
)
# One row may take so many seconds; a test that hangs names itself long before.
_LONGEST = 600


class Copy:
    """A copy of the checkout with an interpreter whose `agouti` it is."""

    def __init__(self, folder: Path) -> None:
        self.root = folder / "checkout"
        self.root.mkdir()
        for name in _PARTS:
            part = ROOT / name
            if part.is_dir():
                shutil.copytree(part, self.root / name, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
            else:
                shutil.copy(part, self.root / name)
        venv.create(folder / "env", symlinks=True)
        self.python = folder / "env" / "bin" / "python"
        command = folder / "env" / "bin" / "agouti"
        command.write_text(f"#!{self.python}\nimport runpy\nrunpy.run_module('agouti', run_name='__main__')\n")
        command.chmod(0o755)
        version = f"python{sys.version_info.major}.{sys.version_info.minor}"
        site = folder / "env" / "lib" / version / "site-packages"
        (site / "checkout.pth").write_text(f"{self.root / 'src'}\n{sysconfig.get_path('purelib')}\n")

    def run(self, tests: Iterable[str], longest: float = _LONGEST) -> "tuple[int, str]":
        """The exit code of pytest and what it has said; -1 where it has not ended in time."""
        command = [str(self.python), "-m", "pytest", "-q", "-x", "-n0", "--durations=0", "--timeout=60", *tests]
        environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        try:
            done = subprocess.run(
                command, cwd=self.root, env=environment, capture_output=True, text=True, timeout=longest, check=False
            )
        except subprocess.TimeoutExpired:
            return -1, ""
        return done.returncode, done.stdout + done.stderr

    def broken(self, row: Row) -> "tuple[int, str]":
        """The same with the change of a row."""
        path = self.root / "src" / "agouti" / row.file
        text = path.read_text()
        self._write(path, text.replace(row.before, row.after))
        try:
            return self.run(row.tests.split())
        finally:
            self._write(path, text)

    @staticmethod
    def _write(path: Path, text: str) -> None:
        path.write_text(text)
        for compiled in (path.parent / "__pycache__").glob(f"{path.stem}.*"):
            compiled.unlink()  # of a change within the same second nobody would know


def unfit(rows: Iterable[Row]) -> list[str]:
    """Rows that say nothing any more: what they change is not there, or they change nothing."""
    wrong = []
    for row in rows:
        path = ROOT / "src" / "agouti" / row.file
        count = path.read_text().count(row.before) if path.exists() else 0
        if not count or row.before == row.after:
            wrong.append(f"{row.file} has {row.before!r} {count} times ({row.promise})")
        elif row.file.endswith(".py"):
            try:
                compile(path.read_text().replace(row.before, row.after), row.file, "exec")
            except SyntaxError as error:
                wrong.append(f"{row.file}: {error} ({row.promise})")
    return wrong


def main(arguments: list[str]) -> int:
    """Run the rows that were asked for; 1 where no test notices one of them."""
    parser = argparse.ArgumentParser(description="Break promises on purpose, and see whether a test notices.")
    parser.add_argument("words", nargs="*")
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--workers", type=int, default=1)
    given = parser.parse_args(arguments)
    rows = [row for each in ROWS.values() for row in each]
    if wrong := unfit(rows):
        print(*wrong, sep="\n")
        return 1
    rows = [row for row in rows if not given.words or any(word in row.promise + row.file for word in given.words)]
    if given.share < 1:
        rows = random.Random(given.seed).sample(rows, max(round(len(rows) * given.share), 1))
    with tempfile.TemporaryDirectory() as folder:
        copies: SimpleQueue[Copy] = SimpleQueue()
        for number in range(given.workers):
            own = Path(folder) / str(number)
            own.mkdir()
            copies.put(Copy(own))
        first = copies.get()
        every = sorted({each for row in rows for each in row.tests.split()})
        code, said = first.run(every, 6 * _LONGEST)
        copies.put(first)
        if code != 0:
            print(said[-3000:], f"\nnot green without a change: pytest ended with {code}")
            return 1

        def noticed(row: Row) -> bool:
            copy = copies.get()
            try:
                code, said = copy.broken(row)
            finally:
                copies.put(copy)
            good = code == 1 and "\nFAILED " in said
            word = "noticed " if good else "SURVIVES" if code == 0 else f"ENDS {code:3}"
            print(f"{word}  {row.file}: {row.promise}", flush=True)
            return good

        with ThreadPoolExecutor(given.workers) as pool:
            count = sum(pool.map(noticed, rows))
    print(f"{count} of {len(rows)} noticed")
    return 0 if count == len(rows) else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
