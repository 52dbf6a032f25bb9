"""The command ``agouti``. Its libraries come with the extra ``cli``."""

import sys


def main() -> None:
    """Run the command, and end the process with its exit code."""
    try:
        from .app import run
    except ModuleNotFoundError as error:
        if error.name not in ("click", "rich"):
            raise
        print(f"agouti: the command needs {error.name}, which is not installed", file=sys.stderr)
        print("  Install it: pip install 'agouti-client[cli]'", file=sys.stderr)
        sys.exit(2)
    sys.exit(run(sys.argv[1:]))
