"""Make everything that is generated: the JSON Schema of agouti.toml, the tables of the guides and the pages of reference.

python docs/make.py           writes what has changed, and names it
python docs/make.py --check   writes nothing; ends with 1 where something would change

Pictures have a script of their own, docs/screenshots/make.py: they need a browser and a terminal.
"""

import subprocess
import sys
from pathlib import Path

DOCS = Path(__file__).parent
SCRIPTS = ("schema", "parameters", "translation", "failures", "faults", "hostile", "references")
GENERATED = (DOCS, DOCS.parent / "src" / "agouti" / "config")


def texts() -> dict[Path, str]:
    """What stands in all files that may be written."""
    files = [path for folder in GENERATED for path in folder.rglob("*") if path.suffix in (".md", ".json")]
    return {path: path.read_text(encoding="utf-8") for path in files}


def main(*, check: bool) -> int:
    """Run every script; the exit code."""
    before = texts()
    for name in SCRIPTS:
        subprocess.run([sys.executable, str(DOCS / f"{name}.py")], check=True, stdout=subprocess.DEVNULL)
    changed = sorted(path for path, text in texts().items() if before.get(path) != text)
    for path in changed:
        print(path.relative_to(DOCS.parent))
        if check:
            path.write_text(before[path], encoding="utf-8")
    return 1 if check and changed else 0


if __name__ == "__main__":
    sys.exit(main(check="--check" in sys.argv[1:]))
