"""Read a curl command as people paste it. Pure: files that it names are read by the caller.

>>> pasted = read('curl https://api.northbank.example/v1/models -H "Authorization: Bearer $NORTHBANK_KEY"')
>>> pasted.address, literal_text(pasted.headers["Authorization"])
('https://api.northbank.example/v1/models', 'Bearer $NORTHBANK_KEY')
"""

import re
from collections.abc import Callable
from urllib.parse import quote, unquote, urlsplit

from msgspec import Struct
from msgspec.structs import replace

from ..core.errors import RequestError
from ..core.http.address import with_query
from ..core.secrets.masking import looks_like_a_key
from .shell import Statement, expanded, expansions, literal_text, marked, replaced, statements

# Long options that take no value; all others do, but for those that begin with "no-".
_FLAGS = frozenset(
    """
    anyauth append basic ca-native cert-status compressed compressed-ssh create-dirs crlf digest disable disable-eprt
    disable-epsv disallow-username-in-url doh-cert-status doh-insecure fail fail-early fail-with-body false-start
    form-escape ftp-create-dirs ftp-pasv ftp-pret ftp-skip-pasv-ip ftp-ssl-ccc ftp-ssl-control get globoff
    haproxy-protocol head help http0.9 http1.0 http1.1 http2 http2-prior-knowledge http3 http3-only
    ignore-content-length include insecure ipv4 ipv6 junk-session-cookies list-only location location-trusted manual
    negotiate netrc netrc-optional next ntlm ntlm-wb parallel parallel-immediate path-as-is post301 post302 post303
    progress-bar proxy-anyauth proxy-basic proxy-ca-native proxy-digest proxy-http2 proxy-insecure proxy-negotiate
    proxy-ntlm proxy-ssl-allow-beast proxy-ssl-auto-client-cert proxy-tlsv1 proxytunnel raw remote-header-name
    remote-name remote-name-all remote-time remove-on-error retry-all-errors retry-connrefused sasl-ir show-error
    show-headers silent socks5-basic socks5-gssapi socks5-gssapi-nec ssl ssl-allow-beast ssl-auto-client-cert
    ssl-no-revoke ssl-reqd ssl-revoke-best-effort sslv2 sslv3 styled-output suppress-connect-headers tcp-fastopen
    tcp-nodelay test-event tftp-no-options tls-earlydata tlsv1 tlsv1.0 tlsv1.1 tlsv1.2 tlsv1.3 tr-encoding trace-ids
    trace-time use-ascii verbose version xattr
    """.split()  # noqa: SIM905 - a list of as many lines is read by nobody
)
_SHORT_WITH_VALUE = "AbcCdDeEFHKmoPQrtTuUwxXyYz"
_LONG = {
    "H": "header", "d": "data", "u": "user", "X": "request", "b": "cookie", "F": "form", "G": "get", "k": "insecure",
    "K": "config", "U": "proxy-user", "x": "proxy", "I": "head", "E": "cert", "T": "upload-file",
}  # fmt: skip
_DATA = frozenset(["data", "data-raw", "data-binary", "data-ascii", "data-urlencode", "json"])
_BEFORE = frozenset(["sudo", "env", "time", "command", "nohup", "exec", "call", "&"])
_LEFT_OUT = {
    "cookie": "the cookie was left out",
    "form": "the data is a form with files, which no dialect takes: it was left out",
    "config": "-K names a file with more options: what it says is not here",
    "cert": 'the client certificate was left out: tls = { certificate = "FILE.pem" }',
    "proxy": "the proxy was left out: set HTTPS_PROXY instead",
    "proxy-user": "the proxy's password was left out: it goes into HTTPS_PROXY",
    "upload-file": "the file to upload was left out",
    "variable": "--variable was left out",
}

ReadFile = Callable[[str], str]


class Pasted(Struct, frozen=True):
    """What a command or address says.

    Attributes:
        address: as it stands there. What a shell would put in is marked, here and below: see `shell.expansions`.
        headers: by the name as it stands there.
        body: the data, put together; empty where there is none.
        user: ``name:password`` of ``-u``, or of the address.
        signature: what the option for request signing says.
        insecure: certificates are not to be checked.
        notes: what was not taken over.
    """

    address: str
    headers: dict[str, str] = {}
    body: str = ""
    user: str = ""
    signature: str = ""
    insecure: bool = False
    notes: tuple[str, ...] = ()


def read(text: str, read_file: ReadFile | None = None) -> Pasted:
    """The parts of a pasted command, or of a bare address.

    Args:
        read_file: gives the text of a file that the command names as ``@FILE``.

    Raises:
        RequestError: it is neither.
    """
    if not text.strip():
        raise RequestError("nothing was pasted", hint="Paste a curl command or an address.")
    if not re.search(r"\s", text.strip()) and text.strip() != "curl":
        return _bare_address(expanded(text.strip().strip("\"'`<>")))
    found = statements(text.strip())
    variables: dict[str, str] = {}
    for number, statement in enumerate(found):
        arguments = _without_assignments(statement.tokens, variables)
        while arguments and arguments[0] in _BEFORE:
            arguments = _without_assignments(arguments[1:], variables)
        program = arguments[0].rpartition("/")[2].rpartition("\\")[2].removesuffix(".exe") if arguments else ""
        if program in ("curl", "wget"):
            stdin = statement.stdin
            if stdin is None and number and found[number - 1].piped:
                stdin = _printed(found[number - 1])
            arguments = [_with_values(argument, variables) for argument in arguments[1:]]
            kind = _Reader if program == "curl" else _WgetReader
            return kind(arguments, read_file, None if stdin is None else _with_values(stdin, variables)).result()
    first = [argument for statement in found for argument in statement.tokens]
    if len(first) == 1:
        return _bare_address(first[0])
    raise RequestError(
        "this is neither a curl command nor an address", hint="Paste it from `curl` to the end of the last line."
    )


def with_notes(pasted: Pasted, notes: list[str]) -> Pasted:
    """The same, with more that was not taken over."""
    return replace(pasted, notes=(*pasted.notes, *notes))


def refuse_keys(argument: str) -> None:
    """See that a word is no key.

    Raises:
        RequestError: it looks like one.
    """
    if looks_like_a_key(argument) and "/" not in argument and "." not in argument:
        raise RequestError(
            "this looks like a key, not like a curl command or an address",
            hint="Paste the command that uses it; a key alone goes into .env, or: agouti secret put NAME",
        )


def _bare_address(argument: str) -> Pasted:
    """An address that stands alone."""
    refuse_keys(argument)
    if re.match(r"(?i)(sk|pk)-", argument):
        raise RequestError("this is neither a curl command nor an address", hint="Paste the whole command.")
    address, user = _without_user(argument)
    return Pasted(address, user=user)


def _without_assignments(arguments: list[str], variables: dict[str, str]) -> list[str]:
    """The words of a command behind ``NAME=value``, which are noted; all of ``export NAME=value`` is one."""
    if arguments and arguments[0] in ("export", "set", "declare", "local"):
        arguments = [*(argument for argument in arguments[1:] if not argument.startswith("-"))]
    arguments = [*arguments]
    while arguments and (assigned := re.match(r"(?:\$env:)?(\w+)=", arguments[0])):
        variables[assigned[1]] = arguments.pop(0)[assigned.end() :]
    return arguments


def _with_values(argument: str, variables: dict[str, str]) -> str:
    """The word with the values that the text itself has given to variables."""
    return replaced(
        argument,
        lambda each: (
            variables[each.text]
            if each.kind == "variable" and variables.get(each.text)
            else marked(each.kind, each.text, each.default)
        ),
    )


def _printed(before: Statement) -> str | None:
    """What the command before a pipe prints, where that can be seen."""
    if before.stdin is not None:
        return before.stdin
    operands = [argument for argument in before.tokens[1:] if not argument.startswith("-")]
    return operands[-1] if operands and before.tokens[0] in ("echo", "printf") else None


def _without_user(address: str) -> tuple[str, str]:
    """An address without user name and password, and those."""
    try:
        parts = urlsplit(address)
    except ValueError:
        return address, ""
    if "@" not in parts.netloc:
        return address, ""
    user, _, host = parts.netloc.rpartition("@")
    return address.replace(f"{user}@{host}", host, 1), unquote(user)


class _Reader:
    def __init__(self, arguments: list[str], read_file: ReadFile | None, stdin: str | None) -> None:
        self._arguments = arguments
        self._stdin = stdin
        self._read_file = read_file
        self._address = ""
        self._headers: dict[str, str] = {}
        self._body: list[str] = []
        self._user = ""
        self._signature = ""
        self._insecure = False
        self._data_is_query = False
        self._notes: list[str] = []

    def result(self) -> Pasted:
        spare = [argument for argument in self._arguments if argument.startswith(("http://", "https://"))]
        while self._arguments:
            argument = self._arguments.pop(0)
            if argument == "--next":
                self._notes.append("only the first of several requests was taken")
                break
            if not argument.startswith("-") or argument == "-":
                self._address = self._address or argument
            elif argument.startswith("--"):
                name, equals, value = argument[2:].partition("=")
                self._option(name, value if equals else None)
            else:
                self._short(argument[1:])
        if spare and not self._address.startswith(("http://", "https://")):
            self._address = spare[0]  # an option that is not known here has taken it for its value
        if not self._address:
            raise RequestError("the command names no address", hint="Paste the whole command, with its https:// part.")
        address, user = _without_user(self._address)
        body = "&".join(self._body)
        if self._data_is_query and body:
            address, body = with_query(address, body), ""
        return Pasted(
            address,
            self._headers,
            body,
            self._user or user,
            self._signature,
            self._insecure,
            tuple(dict.fromkeys(self._notes)),
        )

    def _short(self, letters: str) -> None:
        """Short options, which people run together: ``-sSXPOST``."""
        for position, letter in enumerate(letters):
            if letter in _SHORT_WITH_VALUE:
                remainder = letters[position + 1 :]
                self._option(_LONG.get(letter, letter), remainder.removeprefix("=") or None, short=True)
                return
            self._option(_LONG.get(letter, letter), None, short=True, flag=True)

    def _option(self, name: str, value: str | None, *, short: bool = False, flag: bool = False) -> None:
        if flag or (not short and (name in _FLAGS or name.startswith("no-"))):
            self._insecure |= name == "insecure"
            self._data_is_query |= name == "get"
            return
        text = self._value(name, value)
        if name == "header":
            self._header(text)
        elif name in _DATA:
            self._data(name, text)
        elif name == "user":
            self._user = text
        elif name == "url":
            self._address = text
        elif name == "oauth2-bearer":
            self._headers["Authorization"] = f"Bearer {text}"
        elif name == "url-query":
            self._address = with_query(self._address, text) if self._address else self._address
        elif name.endswith("-sigv4"):
            self._signature = text
        elif name in _LEFT_OUT:
            self._notes.append(_LEFT_OUT[name])

    def _value(self, name: str, value: str | None) -> str:
        if value is not None:
            return value
        if not self._arguments:
            raise RequestError(f"the command ends after --{name}", hint="Paste the whole command, to its last line.")
        return self._arguments.pop(0)

    def _header(self, text: str) -> None:
        if text.startswith("@"):
            for line in self._file(text[1:]).splitlines():
                self._header(line)
            return
        name, colon, value = text.partition(":")
        if colon and name.strip():
            self._headers[name.strip()] = value.strip()

    def _data(self, name: str, text: str) -> None:
        if text == "@-" or _is_cat(text):
            if self._stdin is None:
                raise RequestError(
                    "the command reads its data from standard input, which is not here",
                    hint="Paste what stands behind it as well, or put the data into the command: -d '...'",
                )
            text = self._stdin
        elif text.startswith("@") and name != "data-raw":
            text = self._file(text[1:])
        elif name == "data-urlencode" and not text.lstrip().startswith("{"):
            field, equals, value = text.partition("=")
            text = f"{field}={quote(value)}" if equals and not expansions(value) else text
        if name == "json":
            self._headers.setdefault("Content-Type", "application/json")
        self._body.append(text)

    def _file(self, path: str) -> str:
        return "" if self._read_file is None else self._read_file(literal_text(path))


class _WgetReader(_Reader):
    """The other program's options: fewer, and under other names."""

    def _short(self, letters: str) -> None:
        if letters[:1] in "OoaPeitTUQw":
            self._option("output", letters[1:] or None, short=True)

    def _option(self, name: str, value: str | None, *, short: bool = False, flag: bool = False) -> None:
        if name == "output":
            self._value(name, value)
        elif name == "header":
            self._header(self._value(name, value))
        elif name in ("post-data", "body-data"):
            self._data("data-raw", self._value(name, value))
        elif name in ("post-file", "body-file"):
            self._body.append(self._file(self._value(name, value)))
        elif name in ("user", "http-user", "password", "http-password"):
            text = self._value(name, value)
            self._user = f"{self._user}:{text}" if "password" in name else text
        elif name in ("method", "output-document", "timeout", "tries", "user-agent"):
            self._value(name, value)
        elif name == "no-check-certificate":
            self._insecure = True


def _is_cat(text: str) -> bool:
    """Whether data is what ``cat`` prints of a here-document."""
    inner = expansions(text)
    return len(inner) == 1 and inner[0].kind == "command" and bool(re.fullmatch(r"\s*cat\s*-?\s*", inner[0].text))
