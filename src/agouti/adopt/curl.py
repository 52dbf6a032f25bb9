"""Read a curl command as people paste it. Pure: files that it names are read by the caller.

>>> pasted = read('curl https://api.northbank.example/v1/models -H "Authorization: Bearer $NORTHBANK_KEY"')
>>> pasted.address, pasted.headers
('https://api.northbank.example/v1/models', {'Authorization': 'Bearer $NORTHBANK_KEY'})
"""

import re
import shlex
from collections.abc import Callable

from msgspec import Struct

from ..core.address import with_query
from ..core.errors import RequestError

# Options that take a value which does not matter here, in their short and long forms.
_WITH_VALUE = frozenset(
    [
        "-o",
        "--output",
        "-m",
        "--max-time",
        "--connect-timeout",
        "-A",
        "--user-agent",
        "-e",
        "--referer",
        "-w",
        "--write-out",
        "--retry",
        "--retry-delay",
        "--retry-max-time",
        "-c",
        "--cookie-jar",
        "-b",
        "--cookie",
        "--limit-rate",
        "-F",
        "--form",
        "--resolve",
        "--interface",
        "--http-version",
        "-T",
        "--upload-file",
        "-D",
        "--dump-header",
        "--cacert",
        "-E",
        "--cert",
        "--key",
        "--proxy",
        "-x",
        "--capath",
        "--pinnedpubkey",
    ]
)
_DATA = frozenset(["-d", "--data", "--data-raw", "--data-binary", "--data-ascii", "--data-urlencode", "--json"])
# Short options without a value, which people run together: -sSL
_FLAGS = "sSLkNvifgGI#0123456jOR"

# The quotes $'...', which shlex does not know. The other kinds stand here so that what looks like one inside them is
# passed over.
_WORDS = re.compile(r"""\$'((?:[^'\\]|\\.)*)'|'[^']*'|"(?:[^"\\]|\\.)*"|\\.""", re.DOTALL)

ReadFile = Callable[[str], str]


class Pasted(Struct, frozen=True):
    """What a command or address says.

    Attributes:
        address: as it stands there.
        headers: by the name as it stands there; ``$VARIABLE`` is kept.
        body: the data, put together; empty where there is none.
        user: ``name:password`` of ``-u``.
        signature: what the option for request signing says.
        insecure: certificates are not to be checked.
    """

    address: str
    headers: dict[str, str] = {}
    body: str = ""
    user: str = ""
    signature: str = ""
    insecure: bool = False


# A text behind the command: its mark in quotes or not, and the lines up to the mark.
_HERE_DOCUMENT = re.compile(
    r"(?<!<)<<(?P<tabs>-)?[ \t]*(?P<quote>['\"\\]?)(?P<mark>\w+)(?P=quote)?(?P<rest>[^\n]*)\n"
    r"(?P<text>.*?)^(?(tabs)\t*)(?P=mark)[ \t]*\)?$",
    re.DOTALL | re.MULTILINE,
)
_CAT = re.compile(r"\$\(\s*cat\s*-?\s*\)?")


def _without_here_document(text: str) -> tuple[str, str | None]:
    """The command without the text behind it, and that text: what it reads from its standard input."""
    match = _HERE_DOCUMENT.search(text)
    if match is None:
        return text, None
    inner = match["text"]
    if match["tabs"]:
        inner = re.sub(r"^\t+", "", inner, flags=re.MULTILINE)
    return f"{text[: match.start()]}{match['rest']} {text[match.end() :]}", inner


def read(text: str, read_file: ReadFile | None = None) -> Pasted:
    """The parts of a pasted command, or of a bare address.

    Args:
        read_file: gives the text of a file that the command names as ``@FILE``.

    Raises:
        RequestError: it is neither.
    """
    text, stdin = _without_here_document(text.strip().replace("\r\n", "\n"))
    joined = re.sub(r"[\\^`][ \t]*\n", " ", text.strip())
    joined = _WORDS.sub(lambda found: found[0] if found[1] is None else shlex.quote(_unescaped(found[1])), joined)
    joined = re.sub(r"^[$>%#]\s+", "", joined)
    if not joined:
        raise RequestError("nothing was pasted", hint="Paste a curl command or an address.")
    try:
        words = shlex.split(joined, posix=True)
    except ValueError as error:
        raise RequestError(
            f"the command cannot be read: {error}",
            hint="A quote is not closed: paste the whole command, to its last line.",
        ) from None
    if len(words) == 1 and words[0] != "curl":
        return Pasted(words[0])
    if "|" in words and words[0] in ("cat", "echo", "printf"):
        # Its data comes through a pipe.
        place = words.index("|")
        said = [word for word in words[1:place] if not word.startswith("-")]
        stdin = said[-1] if said and words[0] != "cat" else stdin
        words = words[place + 1 :]
    while words and "=" in words[0] and not words[0].startswith("-"):
        words.pop(0)  # VARIABLE=value curl ...
    if not words or words.pop(0).rpartition("/")[2] not in ("curl", "curl.exe"):
        raise RequestError(
            "this is neither a curl command nor an address", hint="Paste it from `curl` to the end of the last line."
        )
    return _Reader(words, read_file, stdin).result()


def _here_string(words: list[str]) -> str | None:
    """What ``<<<`` gives a command to read; `None` where there is none."""
    for number, word in enumerate(words):
        if word == "<<<":
            return words[number + 1] if number + 1 < len(words) else None
        if word.startswith("<<<"):
            return word[3:]
    return None


def _without_here_string(words: list[str]) -> list[str]:
    kept: list[str] = []
    following = iter(words)
    for word in following:
        if word == "<<<":
            next(following, None)
        elif not word.startswith("<<<"):
            kept.append(word)
    return kept


def _unescaped(text: str) -> str:
    escapes = {"n": "\n", "t": "\t", "r": "\r"}
    return re.sub(r"\\(.)", lambda found: escapes.get(found[1], found[1]), text)


class _Reader:
    def __init__(self, words: list[str], read_file: ReadFile | None, stdin: str | None) -> None:
        self._stdin = stdin
        self._words = _without_here_string(words)
        if len(self._words) < len(words):
            self._stdin = _here_string(words)
        self._read_file = read_file
        self._address = ""
        self._headers: dict[str, str] = {}
        self._body: list[str] = []
        self._query: list[str] = []
        self._user = ""
        self._signature = ""
        self._insecure = False
        self._data_is_query = False

    def result(self) -> Pasted:
        while self._words:
            word = self._words.pop(0)
            if not word.startswith("-") or word == "-":
                self._address = self._address or word
            else:
                self._option(word)
        if not self._address:
            raise RequestError("the command names no address", hint="Paste the whole command, with its https:// part.")
        address, body = self._address, "&".join(self._body)
        if self._data_is_query and body:
            address, body = with_query(address, body), ""
        return Pasted(address, self._headers, body, self._user, self._signature, self._insecure)

    def _option(self, word: str) -> None:
        name, value = word, None
        if word.startswith("--") and "=" in word:
            name, _, value = word.partition("=")
        elif not word.startswith("--") and len(word) > 2 and word[1] not in _FLAGS:
            name, value = word[:2], word[2:]  # -HName: value, -XPOST
        elif not word.startswith("--") and len(word) > 2:
            flags = word[1:]
            self._insecure |= "k" in flags
            self._data_is_query |= "G" in flags
            last = f"-{flags[-1]}"
            if last[1] not in _FLAGS:
                self._option(last)
            return
        if name in ("-k", "--insecure"):
            self._insecure = True
        elif name in ("-G", "--get"):
            self._data_is_query = True
        elif name in ("-H", "--header"):
            self._header(self._value(name, value))
        elif name in _DATA:
            self._data(name, self._value(name, value))
        elif name in ("-u", "--user"):
            self._user = self._value(name, value)
        elif name == "--url":
            self._address = self._value(name, value)
        elif name == "--oauth2-bearer":
            self._headers["Authorization"] = f"Bearer {self._value(name, value)}"
        elif name.endswith("-sigv4"):
            self._signature = self._value(name, value)
        elif name in ("-X", "--request") or name in _WITH_VALUE:
            self._value(name, value)

    def _value(self, name: str, value: str | None) -> str:
        if value is not None:
            return value
        if not self._words:
            raise RequestError(f"the command ends after {name}", hint="Paste the whole command, to its last line.")
        return self._words.pop(0)

    def _header(self, text: str) -> None:
        name, colon, value = text.partition(":")
        if colon and name.strip():
            self._headers[name.strip()] = value.strip()

    def _data(self, name: str, text: str) -> None:
        if self._stdin is not None and (text == "@-" or _CAT.fullmatch(text)):
            text = self._stdin
        elif text.startswith("@") and name != "--data-raw":
            text = self._file(text[1:])
        if name == "--json":
            self._headers.setdefault("Content-Type", "application/json")
        self._body.append(text)

    def _file(self, path: str) -> str:
        if self._read_file is None:
            return ""
        return self._read_file(path)
