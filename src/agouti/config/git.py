"""What git knows of a file: whether it is tracked, and whether it could be committed."""

import subprocess
from pathlib import Path


def _git(path: Path, *arguments: str) -> int:
    try:
        return subprocess.run(  # noqa: S603
            ["git", *arguments, path.name],  # noqa: S607
            cwd=path.absolute().parent,
            capture_output=True,
            check=False,
            timeout=10,
        ).returncode
    except (OSError, subprocess.TimeoutExpired):
        return -1


def tracked(path: Path) -> bool:
    """Whether git tracks a file."""
    return _git(path, "ls-files", "--error-unmatch") == 0


def could_be_committed(path: Path) -> bool:
    """Whether a file is in a git checkout and not ignored there."""
    return _git(path, "check-ignore", "-q") == 1
