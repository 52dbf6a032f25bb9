"""The command ``agouti``. Its libraries come with the extra ``cli``."""

import signal
import sys
from contextlib import suppress


def main() -> None:
    """Run the command, and end the process with its exit code."""
    try:
        code = _main()
    except KeyboardInterrupt:  # while something is still loaded
        code = 130
    # What is left to do at the end prints no traceback where somebody presses Ctrl-C once more.
    with suppress(ValueError):
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    sys.exit(code)


def _main() -> int:
    try:
        from .app import run
    except ModuleNotFoundError as error:
        if error.name not in ("click", "rich"):
            raise
        print(f"agouti: the command needs {error.name}, which is not installed", file=sys.stderr)
        print("  Install it: pip install 'agouti-client[cli]'", file=sys.stderr)
        return 2
    return run(sys.argv[1:])
