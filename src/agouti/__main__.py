"""``python -m agouti``: the command."""

from .cli import main

main()
