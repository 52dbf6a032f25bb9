"""What people paste, whatever it is: a command, a request as text, variables of a ``.env``, a few lines of code.

What is not understood is an error and never an entry.
"""

import re

from ..core.errors import RequestError
from . import curl
from .curl import Pasted, ReadFile
from .requests import env_lines, http_request
from .shell import literal_text
from .snippets import snippet

_FENCE = re.compile(r"^[ \t]*(```+|~~~+)[^\n]*\n(.*?)(?:^[ \t]*\1[`~]*[ \t]*$|\Z)", re.DOTALL | re.MULTILINE)
# Letters that pages and chats put in the place of plain ones.
_TYPOGRAPHIC = str.maketrans(
    {
        **dict.fromkeys("\u201c\u201d\u201e\u201f\u00ab\u00bb\u2033", '"'),
        **dict.fromkeys("\u2018\u2019\u201a\u201b\u2032", "'"),
        **dict.fromkeys("\u00a0\u2007\u202f\u2009\u3000", " "),
        **dict.fromkeys("\u200b\u200c\u200d\u2060\ufeff"),
        **dict.fromkeys("\u2010\u2011\u2012\u2212", "-"),
    }
)
_COMMAND = re.compile(r"(?:^|[\s;&|(`\"'])(?:\S*[/\\])?(curl|wget)(?:\.exe)?(?=\s)")
_INNER = re.compile(r"\$\(\s*(curl\b.*)\)\s*$", re.DOTALL)
_HOST = re.compile(
    r"(?:https?://)?(?:[^/\s@]*@)?(?:[\w${}()%-]+\.[\w.${}()%-]+|localhost|\[[0-9a-fA-F:]+\]|[\w-]+:\d+)(?:[:/?].*)?"
)
_HINT = (
    "Paste a curl or wget command, an HTTP request, lines of a .env file with address and key, a few lines of code "
    "that call a model by hand, or an address."
)


def read(text: str, read_file: ReadFile | None = None) -> Pasted:
    """The parts of what was pasted.

    Args:
        read_file: gives the text of a file that a command names as ``@FILE``.

    Raises:
        RequestError: nothing in it is understood.
    """
    if not text.strip():
        raise RequestError("nothing was pasted", hint=_HINT)
    text, notes = _without_fences(text.translate(_TYPOGRAPHIC).replace("\r\n", "\n").replace("\r", "\n"))
    pasted = _read(text, read_file)
    if notes:
        pasted = curl.with_notes(pasted, notes)
    return pasted


def _read(text: str, read_file: ReadFile | None) -> Pasted:
    stripped = text.strip()
    if not re.search(r"\s", stripped):
        address = stripped.strip("\"'`<>")
        if not _HOST.fullmatch(address) or address in ("curl", "wget"):
            curl.refuse_keys(address)
            if (lines := env_lines(stripped)) is not None:
                return lines
            raise RequestError("this is neither a command, a request, nor an address", hint=_HINT)
        return curl.read(text, read_file)
    if (request := http_request(text)) is not None:
        return request
    if (inner := _INNER.search(stripped)) is not None:
        return _read(inner[1], read_file)
    commands = _COMMAND.findall(text)
    code = snippet(text)
    if commands and not (code is not None and _is_code(text)):
        pasted = curl.read(text, read_file)
        further_commands = len(commands) - 1
        if further_commands and not any("several" in note for note in pasted.notes):
            pasted = curl.with_notes(pasted, [f"only the first of {len(commands)} commands was taken"])
        return pasted
    if (lines := env_lines(text)) is not None:
        return lines
    if code is not None:
        return code
    pasted = curl.read(text, read_file)
    if not _HOST.fullmatch(literal_text(pasted.address)):
        raise RequestError("this is neither a command, a request, nor an address", hint=_HINT)
    return pasted


def _is_code(text: str) -> bool:
    """Whether a text that speaks of a command is a program all the same."""
    return (
        re.search(r"^\s*(import |from \w+ import|const |let |async |Invoke-|\$headers\b)", text, re.MULTILINE)
        is not None
    )


def _without_fences(text: str) -> tuple[str, list[str]]:
    """The text within Markdown fences, where there are some: the first that is not empty."""
    fenced = [match[2] for match in _FENCE.finditer(text) if match[2].strip()]
    if not fenced:
        return re.sub(r"^\s*`([^`]+)`\s*$", r"\1", text), []
    chosen = next((each for each in fenced if _COMMAND.search(f"\n{each}") or "://" in each), fenced[0])
    return chosen, [f"only one of {len(fenced)} fenced parts was taken"] if len(fenced) > 1 else []
