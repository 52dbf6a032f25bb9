"""A few lines of code that call a model by hand: address, headers and model are found in them, whatever the language.

Nothing is run and no language is parsed: texts in quotes, names that have been given one, and what stands in the place
of the key are looked for.
"""

import json
import re

from .curl import Pasted
from .shell import marked

_QUOTED = r"(?:[fFrRbBuU]{0,2}\"((?:[^\"\\\n]|\\.)*)\"|[fFrRbBuU]{0,2}'((?:[^'\\\n]|\\.)*)'|`((?:[^`\\]|\\.)*)`)"
_ASSIGNED = re.compile(
    rf"(?:^|[\s;(,{{])(?:const\s+|let\s+|var\s+|\$|self\.|this\.)?(\w+)\s*(?::\s*\w+\s*)?=\s*{_QUOTED}", re.MULTILINE
)
_FROM_ENVIRONMENT = re.compile(
    r"(?:^|[\s;(,{])(?:const\s+|let\s+|var\s+|\$)?(\w+)\s*=\s*[^\n=]*?"
    r"(?:environ(?:\.get)?[\[(]\s*[\"'](\w+)[\"']|getenv\(\s*[\"'](\w+)[\"']|process\.env\.(\w+)|process\.env\[[\"'](\w+)[\"']\]"
    r"|\$env:(\w+)|ENV\[[\"'](\w+)[\"']\]|Deno\.env\.get\([\"'](\w+)[\"']\))",
    re.MULTILINE,
)
_ENVIRONMENT = re.compile(
    r"(?:os\.)?environ(?:\.get)?[\[(]\s*[\"'](\w+)[\"'][^\])]*[\])]|(?:os\.)?getenv\(\s*[\"'](\w+)[\"'][^)]*\)"
    r"|process\.env\.(\w+)|process\.env\[[\"'](\w+)[\"']\]|\$env:(\w+)|ENV\[[\"'](\w+)[\"']\]"
)
_ADDRESS = re.compile(r"https?://[^\s\"'`<>\\]+")
_HEADER = re.compile(
    r"(?:[\"'`]?((?:[Aa]uthorization|[Xx]-[\w-]+|[Aa]pi-[Kk]ey|[Oo]cp-[\w-]+|[\w-]+-[Vv]ersion))[\"'`]?)\s*(?::|=>|=|,)\s*([^\n]*)"
)
_MODEL = re.compile(rf"[\"'`]?\b(?:model|model_name|modelId|deployment)[\"'`]?\s*(?::|=>|=)\s*(?:{_QUOTED}|\$?(\w+))")
_CODE = re.compile(
    r"^\s*(import\s|from\s+\w[\w.]*\s+import|const\s|let\s|var\s|def\s|async\s|await\s|requests\.|fetch\(|urllib|http|\$\w+\s*=|"
    r"Invoke-(?:RestMethod|WebRequest)|\w+\s*=\s*\S)",
    re.MULTILINE,
)


def snippet(text: str) -> Pasted | None:
    """What a few lines of code ask; `None` where no address stands in them, or they are no code.

    >>> url = 'url = "https://api.northbank.example/v1/chat/completions"'
    >>> found = snippet(f'import json\\n{url}\\nbody = {{"model": "quill"}}')
    >>> found.address, found.body
    ('https://api.northbank.example/v1/chat/completions', '{"model": "quill"}')
    """
    text = re.sub(r"^\s*(?:>>>|\.\.\.|In \[\d+\]:)\s?", "", text, flags=re.MULTILINE)
    if not _CODE.search(text):
        return None
    text = re.sub(r"(?m)^\s*(?:#|//)(?!\s*https?).*$", "", text)
    names = {match[1]: next(filter(None, match.groups()[1:]), "") for match in _ASSIGNED.finditer(text)}
    from_environment = {match[1]: next(filter(None, match.groups()[1:])) for match in _FROM_ENVIRONMENT.finditer(text)}
    address = _address(text, names)
    if address is None:
        return None
    headers: dict[str, str] = {}
    for match in _HEADER.finditer(text):
        value = _value(match[2], names, from_environment)
        if value:
            headers.setdefault(match[1], value)
    if not headers and (key := _key_among(names, from_environment)):
        headers["Authorization"] = f"Bearer {key}"
    model = ""
    for match in _MODEL.finditer(text):
        model = next(filter(None, match.groups()[:3]), "") or names.get(match[4] or "", "")
        if model:
            break
    return Pasted(address, headers, json.dumps({"model": model}) if model else "")


def _address(text: str, names: dict[str, str]) -> str | None:
    addresses = [each.rstrip(").,;") for each in _ADDRESS.findall(text)]
    if not addresses:
        return None
    address = next(
        (each for each in addresses if re.search(r"/(v\d|chat|api|completions|messages)", each)), addresses[0]
    )
    # Put together of a base and a path: f"{BASE}/chat/completions", base + "/chat/completions".
    for name, value in names.items():
        if value.startswith(address) or address.startswith(value or "?"):
            joined = re.search(rf"\{{{name}\}}([\w/.:-]+)|\b{name}\s*\+\s*[\"']([\w/.:-]+)[\"']", text)
            if joined is not None and value:
                return value.rstrip("/") + "/" + (joined[1] or joined[2]).lstrip("/")
    return _filled(address, names)


def _filled(text: str, names: dict[str, str]) -> str:
    """A text with the values of the names that stand in its braces."""
    return re.sub(r"\$?\{(\w+)\}", lambda match: names.get(match[1]) or marked("variable", match[1].upper()), text)


def _value(written: str, names: dict[str, str], from_environment: dict[str, str]) -> str:
    """The value of a header: texts and names that are put together; what comes from the environment is marked."""
    value = ""
    at = 0
    part = re.compile(rf"\s*(?:\+|\.)?\s*(?:{_ENVIRONMENT.pattern}|{_QUOTED}|\$?([A-Za-z_]\w*))")
    while (match := part.match(written, at)) is not None and match.end() > at:
        groups = match.groups()
        variable = next(filter(None, groups[:6]), None)
        quoted = next((each for each in groups[6:9] if each is not None), None)
        if variable is not None:
            value += marked("variable", variable)
        elif quoted is not None:
            value += _templated(quoted, names, from_environment)
        elif groups[9] in from_environment:
            value += marked("variable", from_environment[groups[9]])
        elif groups[9] in names:
            value += names[groups[9]]
        else:
            value += marked("variable", groups[9].upper())
        at = match.end()
        if written[at : at + 1] in (",", "}", ")", ";"):
            break
    put_in = re.match(r"\s*(?:%\s*\(?|\.format\(\s*)\$?(\w+)", written[at:])
    if put_in is not None and re.search(r"%s|\{\}", value):
        name = put_in[1]
        known = marked("variable", from_environment[name]) if name in from_environment else names.get(name)
        value = re.sub(r"%s|\{\}", lambda _: known or marked("variable", name.upper()), value, count=1)
    return value


def _templated(text: str, names: dict[str, str], from_environment: dict[str, str]) -> str:
    """A text in quotes with what stands in its braces put in."""

    def put(match: "re.Match[str]") -> str:
        inner = match[1] or match[2]
        if inner.startswith("env:"):
            return marked("variable", inner[4:])
        environment = _ENVIRONMENT.search(inner)
        if environment is not None:
            return marked("variable", next(filter(None, environment.groups())))
        name = inner.strip().rpartition(".")[2]
        if name in from_environment:
            return marked("variable", from_environment[name])
        return names.get(name) or marked("variable", name.upper())

    return re.sub(r"\$?\{([^{}]+)\}|\$((?:env:)?\w+)", put, text)


def _key_among(names: dict[str, str], from_environment: dict[str, str]) -> str:
    for name, variable in from_environment.items():
        if re.search(r"(?i)key|token|secret", name):
            return marked("variable", variable)
    return next((value for name, value in names.items() if re.search(r"(?i)(api_?)?key|token|secret", name)), "")
