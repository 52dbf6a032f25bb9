"""For the site: examples in docstrings shown as code, with their prompts and what comes back."""

import re
from typing import Any

import griffe

_BLOCK = re.compile(r"^([ \t]*)>>> .*?(?=^[ \t]*$|\Z)", re.DOTALL | re.MULTILINE)


def fenced(text: str) -> str:
    """A docstring with fences around its examples."""
    return _BLOCK.sub(lambda found: f"{found[1]}```pycon\n{found[0].rstrip()}\n{found[1]}```\n", text)


class Doctests(griffe.Extension):
    """Puts fences around the examples of every docstring."""

    def on_object(self, *, obj: griffe.Object, loader: Any, **_: Any) -> None:
        if obj.docstring is not None and ">>> " in obj.docstring.value:
            obj.docstring.value = fenced(obj.docstring.value)
