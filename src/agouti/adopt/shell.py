"""Pasted shell text as words, with what each shell would put in for variables marked: quotes decide whether it would.

>>> [statement] = statements("curl -H 'a: $b' -H \\"c: $D\\"")
>>> statement.tokens[2], expansions(statement.tokens[4])
('a: $b', [Expansion(kind='variable', text='D', default='')])
"""

import re
from collections.abc import Callable

from msgspec import Struct

from ..core.errors import RequestError

# Marks around what would be put in, from the private use area: no command has them.
_OPEN, _CLOSE, _SEP = "\ue000", "\ue001", "\ue002"
_MARKED = re.compile(f"{_OPEN}(variable|command){_SEP}([^{_CLOSE}]*?){_SEP}([^{_CLOSE}]*){_CLOSE}")
_NAME = re.compile(r"env:(\w+)|(\w+)")
_BRACED = re.compile(r"\{(?:env:)?(\w+)(?::?[-=]([^}]*))?\}")
_PERCENT = re.compile(r"%(\w+)%")
_HERE_DOCUMENT = re.compile(r"<<(?P<tabs>-)?[ \t]*(?P<quote>['\"\\]?)(?P<mark>\w+)(?P=quote)?")
_CAT = re.compile(
    r"\$\(\s*cat\s*-?\s*<<-?[ \t]*(?P<quote>['\"\\]?)(?P<mark>\w+)(?P=quote)?[ \t]*\n(?P<text>.*?)^\t*(?P=mark)\s*\)",
    re.DOTALL | re.MULTILINE,
)
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "a": "\a", "b": "\b", "f": "\f", "v": "\v", "e": "\x1b", "E": "\x1b"}
_NUMBERED = re.compile(r"x([0-9a-fA-F]{1,2})|u([0-9a-fA-F]{1,4})|U([0-9a-fA-F]{1,8})|([0-7]{1,3})")


class Expansion(Struct, frozen=True):
    """What a shell would put in.

    Attributes:
        kind: ``variable`` or ``command``.
        text: the variable's name, or the command.
        default: what stands for a variable that is not set.
    """

    kind: str
    text: str
    default: str = ""


class Statement(Struct):
    """One command of a text.

    Attributes:
        tokens: with marks where the shell would put something in: see `expansions`.
        piped: whether its output goes into the next one.
        stdin: what it reads, where that is said.
    """

    tokens: list[str]
    piped: bool = False
    stdin: str | None = None


def expansions(token: str) -> list[Expansion]:
    """What a shell would put into a word."""
    return [Expansion(*match.groups()) for match in _MARKED.finditer(token)]


def sole_expansion(token: str) -> Expansion | None:
    """The expansion that a word is, and nothing else."""
    match = _MARKED.fullmatch(token)
    return Expansion(*match.groups()) if match else None


def replaced(token: str, by: "Callable[[Expansion], str]") -> str:
    """The word with something else for each expansion."""
    return _MARKED.sub(lambda match: by(Expansion(*match.groups())), token)


def literal_text(token: str) -> str:
    """The word as it was written, or nearly so."""
    return replaced(token, lambda each: f"${each.text}" if each.kind == "variable" else f"$({each.text})")


def marked(kind: str, text: str, default: str = "") -> str:
    """An expansion as it stands in a word."""
    return f"{_OPEN}{kind}{_SEP}{text}{_SEP}{default}{_CLOSE}"


def expanded(text: str) -> str:
    """A text that is no command, with marks where a shell would put something in."""
    return _Lexer(text, percent=False)._expanded()


def statements(text: str) -> list[Statement]:
    """The commands of a text.

    Raises:
        RequestError: a quote is not closed.
    """
    text = re.sub(f"[{_OPEN}{_CLOSE}{_SEP}]", "", text.replace("\r\n", "\n"))
    carets = re.search(r"\bcurl(?:\.exe)?\s+(?:-{1,2}[\w-]+\s+)*\^\"", text) is not None
    percent = carets or bool(re.search(r"\^[ \t]*\n|\bcurl\.exe\b", text))
    if carets:
        # As a browser copies it for one shell: everything that means something there has a caret before it.
        text = re.sub(r"\^\n\s*", " ", text)
        text = re.sub(r"\^(.)", r"\1", text, flags=re.DOTALL)
    text = re.sub(r"[\\^`][ \t]*\n", " ", text)
    text = re.sub(r"^\s*(?:[$>%#]|PS [^>\n]*>)\s+", "", text)
    return _Lexer(text, percent=percent).result()


class _Lexer:
    def __init__(self, text: str, *, percent: bool) -> None:
        self._text = text
        self._percent = percent
        self._at = 0
        self._token: str | None = None
        self._statements = [Statement([])]
        self._waiting: list[re.Match[str]] = []  # here-documents whose text is still to come

    def result(self) -> list[Statement]:
        text = self._text
        while self._at < len(text):
            letter = text[self._at]
            if self._quoted(letter):
                continue
            if letter == "\\" and self._at + 1 < len(text):
                self._add(text[self._at + 1])
                self._at += 2
            elif letter in "$`" and (expansion := self._expansion()) is not None:
                self._add(expansion)
            elif letter in " \t":
                self._end_word()
                self._at += 1
            elif letter == "#" and self._token is None:
                self._at = self._line_end()
            elif letter in "\n;|" or (letter == "&" and self._token is None) or text.startswith("&&", self._at):
                self._separator(letter)
            elif letter in "<>":
                self._redirection()
            else:
                self._add(letter)
                self._at += 1
        self._end_word()
        return [each for each in self._statements if each.tokens]

    def _add(self, text: str) -> None:
        self._token = (self._token or "") + text

    def _end_word(self) -> None:
        if self._token is not None:
            token = self._token
            if self._percent:
                token = _PERCENT.sub(lambda match: marked("variable", match[1]), token)
            self._statements[-1].tokens.append(token)
            self._token = None

    def _separator(self, letter: str) -> None:
        self._end_word()
        following = self._text[self._at : self._at + 2]
        self._statements[-1].piped = letter == "|" and following != "||"
        self._statements.append(Statement([]))
        if letter == "\n" and self._waiting:
            self._at += 1
            for each in self._waiting:
                self._here_document(each)
            self._waiting = []
        else:
            self._at += 2 if following in ("||", "&&") else 1

    def _redirection(self) -> None:
        text = self._text
        here_document = _HERE_DOCUMENT.match(text, self._at)
        if text.startswith("<<<", self._at):
            self._end_word()
            self._at += 3
            self._statements[-1].stdin = self._next_word()
        elif here_document is not None:
            self._end_word()
            self._waiting.append(here_document)
            self._here_of = self._statements[-1]
            self._at = here_document.end()
        else:
            if self._token is not None and self._token.isdigit():
                self._token = None  # 2>
            self._end_word()
            self._at += 1
            while self._at < len(text) and text[self._at] in ">&":
                self._at += 1
            self._next_word()

    def _next_word(self) -> str:
        """The word that follows, which is none of the command's."""
        before = self._statements[-1].tokens
        self._statements[-1].tokens = []
        text = self._text
        while self._at < len(text) and text[self._at] in " \t":
            self._at += 1
        inner = _Lexer(text[self._at :], percent=self._percent)
        found = inner._one_word()
        self._at += inner._at
        self._statements[-1].tokens = before
        return found

    def _quoted(self, letter: str) -> bool:
        """Take what stands in quotes; whether any begin here."""
        if letter == "'":
            self._add(self._single())
        elif letter == '"':
            self._at += 1
            self._add(self._until('"'))
        elif self._text.startswith("$'", self._at):
            self._at += 2
            self._add(self._escaped())
        else:
            return False
        return True

    def _one_word(self) -> str:
        text = self._text
        while self._at < len(text) and text[self._at] not in " \t\n;|&<>":
            letter = text[self._at]
            if self._quoted(letter):
                continue
            if letter in "$`" and (expansion := self._expansion()) is not None:
                self._add(expansion)
            else:
                self._add(letter)
                self._at += 1
        return self._token or ""

    def _here_document(self, here_document: re.Match[str]) -> None:
        tabs = r"\t*" if here_document["tabs"] else ""
        end = re.compile(rf"^{tabs}{re.escape(here_document['mark'])}[ \t]*\)?$", re.MULTILINE).search(
            self._text, self._at
        )
        inner = self._text[self._at : end.start() if end else len(self._text)]
        self._at = end.end() if end else len(self._text)
        if here_document["tabs"]:
            inner = re.sub(r"^\t+", "", inner, flags=re.MULTILINE)
        if not here_document["quote"]:
            inner = _Lexer(inner, percent=False)._expanded()
        self._here_of.stdin = inner

    def _expanded(self) -> str:
        return self._until("")

    def _single(self) -> str:
        end = self._text.find("'", self._at + 1)
        if end < 0:
            raise _not_closed()
        found = self._text[self._at + 1 : end]
        self._at = end + 1
        # One shell keeps its variables in there too, and nothing else begins like that.
        return re.sub(r"\$env:(\w+)", lambda match: marked("variable", match[1]), found)

    def _until(self, quote: str) -> str:
        """What stands between double quotes, or in a text that is treated so."""
        text, found = self._text, ""
        while self._at < len(text):
            letter = text[self._at]
            if letter == quote:
                self._at += 1
                return found
            if letter == "\\" and self._at + 1 < len(text) and text[self._at + 1] in f"{quote}\\$`\n":
                found += "" if text[self._at + 1] == "\n" else text[self._at + 1]
                self._at += 2
            elif letter in "$`" and (expansion := self._expansion()) is not None:
                found += expansion
            else:
                found += letter
                self._at += 1
        if quote:
            raise _not_closed()
        return found

    def _escaped(self) -> str:
        """What stands between ``$'`` and ``'``."""
        text, found = self._text, ""
        while self._at < len(text):
            letter = text[self._at]
            self._at += 1
            if letter == "'":
                return found
            if letter != "\\" or self._at >= len(text):
                found += letter
                continue
            numbered = _NUMBERED.match(text, self._at)
            if numbered is not None:
                digits = next(each for each in numbered.groups() if each is not None)
                code = int(digits, 8 if numbered[4] else 16)
                found += chr(code) if code < 0x110000 else ""
                self._at = numbered.end()
            else:
                found += _ESCAPES.get(text[self._at], text[self._at])
                self._at += 1
        raise _not_closed()

    def _expansion(self) -> str | None:
        """A variable or a command whose output is put in; `None`: the letter stands for itself."""
        text, start = self._text, self._at
        if text[start] == "`":
            end = text.find("`", start + 1)
            if end < 0:
                return None
            self._at = end + 1
            return marked("command", text[start + 1 : end])
        cat = _CAT.match(text, start)
        if cat is not None:
            self._at = cat.end()
            return cat["text"] if cat["quote"] else _Lexer(cat["text"], percent=False)._expanded()
        if text.startswith("$(", start):
            end = _closing(text, start + 2)
            self._at = end + 1
            return marked("command", text[start + 2 : end])
        braced = _BRACED.match(text, start + 1)
        if braced is not None:
            self._at = braced.end()
            return marked("variable", braced[1], braced[2] or "")
        named = _NAME.match(text, start + 1)
        if named is None or (named[2] or "A")[0].isdigit():
            return None
        self._at = named.end()
        return marked("variable", named[1] or named[2])

    def _line_end(self) -> int:
        end = self._text.find("\n", self._at)
        return len(self._text) if end < 0 else end


def _closing(text: str, at: int) -> int:
    """Where the bracket of ``$(`` closes, quotes and brackets within passed over."""
    depth, quote = 1, ""
    for position in range(at, len(text)):
        letter = text[position]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
            if not depth:
                return position
    raise _not_closed()


def _not_closed() -> RequestError:
    return RequestError(
        "the command cannot be read: a quote or a bracket is not closed",
        hint="Paste the whole command, to its last line.",
    )
