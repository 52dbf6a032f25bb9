"""Requests as text: HTTP as it goes over the wire or stands in an editor, and address, key and model in variables."""

import re

from .curl import Pasted
from .shell import expanded

_LINE = re.compile(r"^\s*(?:\S*[>$]\s+)?(GET|POST|PUT|PATCH)\s+(\S+)(?:\s+HTTP/\d(?:\.\d)?)?[ \t]*\n", re.IGNORECASE)
_HEADER = re.compile(r"^\s*([A-Za-z][\w-]*)[ \t]*:[ \t]*(.*)$")
_VARIABLE = re.compile(r"^\s*(?:export\s+|set\s+|\$env:)?([A-Za-z_]\w*)[ \t]*[=:][ \t]*(.*?)[ \t]*$")
_NAMED = (
    ("address", re.compile(r"(?i)(?:^|_)(?:base_?)?(?:url|uri|address|endpoint|host|base)(?:_|$)|baseurl|api_?base")),
    ("key", re.compile(r"(?i)(?:^|_)(?:key|token|secret|apikey|auth)(?:_|$)|api_?key")),
    ("model", re.compile(r"(?i)(?:^|_)(?:model|deployment)(?:_|$)|modelname")),
)


def http_request(text: str) -> Pasted | None:
    """A request of HTTP as text; `None` where it is none.

    >>> http_request('POST /v1/chat/completions HTTP/1.1\\nHost: api.northbank.example\\n\\n{"model": "q"}').address
    'https://api.northbank.example/v1/chat/completions'
    """
    match = _LINE.match(text)
    if match is None:
        return None
    head, _, body = text[match.end() :].partition("\n\n")
    headers: dict[str, str] = {}
    for line in head.splitlines():
        found = _HEADER.match(line)
        if found is None:
            if line.strip().startswith("{"):
                body = line + "\n" + body
            continue
        headers[found[1]] = expanded(_braces(found[2]))
    address = match[2]
    host = next((value for name, value in headers.items() if name.lower() == "host"), "")
    if not address.lower().startswith(("http://", "https://")):
        if not host:
            return None
        local = re.match(r"(localhost|127\.|\[::1\])", host) is not None
        address = f"{'http' if local else 'https'}://{host}{address if address.startswith('/') else '/' + address}"
    return Pasted(expanded(_braces(address)), headers, expanded(_braces(body.strip())))


def _braces(text: str) -> str:
    """Variables as editors write them, ``{{name}}``, in the way of a shell."""
    return re.sub(r"\{\{\s*\$?(?:dotenv\s+|processEnv\s+)?(\w+)\s*\}\}", r"${\1}", text)


def env_lines(text: str) -> Pasted | None:
    """Address, key and model in lines such as those of a ``.env``; `None` where there is no address among them.

    >>> env_lines("NORTHBANK_URL=https://api.northbank.example/v1\\nNORTHBANK_MODEL=quill-large").body
    '{"model": "quill-large"}'
    """
    values: dict[str, str] = {}
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith(("#", "//"))]
    for line in lines:
        match = _VARIABLE.match(line)
        if match is None:
            return None
        name, value = match[1], match[2].strip().rstrip(",;").strip("\"'")
        if value.startswith(("http://", "https://")) and "address" not in values:
            values["address"] = value
            continue
        for description, field_names in _NAMED:
            if field_names.search(name) and description not in values and value:
                values[description] = value
                break
    address = values.get("address", "")
    if not address or not re.match(r"https?://|[\w-]+(\.[\w-]+)+|localhost", address):
        return None
    headers = {"Authorization": f"Bearer {values['key']}"} if "key" in values else {}
    model = values.get("model", "")
    return Pasted(address, headers, f'{{"model": "{model}"}}' if re.fullmatch(r"[\w./:@-]+", model) else "")
