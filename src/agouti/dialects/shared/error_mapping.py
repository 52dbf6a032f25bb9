"""What error replies mean, as far as all dialects agree: the status, the shape of the body, the words in it.

A dialect passes the codes of its own format; where they say nothing, the provider's words and then the status decide.
"""

import html
import re
from collections.abc import Mapping

import msgspec

from ...core.canonical.chat import Json
from ...core.errors import (
    AgoutiError,
    ContentRefused,
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    ProviderFault,
    RateLimited,
    RequestRefused,
)
from ...core.http.retry_after import asked_wait
from ...core.json.lenient import decode_json
from ..wire import Fault

Kind = type[AgoutiError]

_BY_STATUS: dict[int, Kind] = {
    401: CredentialRefused,
    402: OutOfCredit,
    403: NoAccess,
    408: ProviderFault,
    409: ProviderFault,
    413: ContextOverflow,
    424: ProviderFault,
    425: Overloaded,
    429: RateLimited,
    502: ProviderFault,
    503: Overloaded,
    504: ProviderFault,
    529: Overloaded,
}

# The words decide only among the kinds that the status leaves open: a 400 that speaks of "quota"
# in some other sense must not become OutOfCredit.
_BY_WORDS: tuple[tuple[frozenset[int], re.Pattern[str], Kind], ...] = tuple(
    (frozenset(statuses), re.compile(words, re.IGNORECASE), kind)
    for statuses, words, kind in (
        ((400, 401, 403), r"api[ _-]?key (is )?(invalid|expired|not valid)|invalid api[ _-]?key|token (has )?expired|incorrect api key", CredentialRefused),
        ((400, 402, 403, 429), r"insufficient[ _](quota|funds|credit|balance)|out of credit|credit balance|no credit|billing (hard )?limit|exceeded your current quota|(exceeds?|exceeded|over) (your|the) (\w+ )?budget|budget (has been |is |was )?(exceeded|exhausted|reached|spent|used up)", OutOfCredit),
        ((400, 413, 422, 500), r"context (length|window|size|limit)|maximum context|too many tokens|prompt is too long|input is too long|exceeds? the (available )?context|input token count[^.]{0,40}exceeds|input \(\d+ tokens\) is too large", ContextOverflow),
        ((400, 403, 404, 422), r"(no|not have|without) access to|not (enabled|available|supported|offered) (for your account|in (your|this) (region|location|country))|access denied|not been granted|location is not supported", NoAccess),
        ((400, 404, 422), r"model[^.]{0,80}(not found|does not exist|not exist|unknown|not installed|no such)|(no such|unknown|invalid) model|not a valid model|model identifier is invalid", ModelUnknown),
        ((400, 403, 422), r"content (policy|filter|management)|safety system|blocked by|moderation", ContentRefused),
        ((500,), r"overloaded|at capacity|too busy", Overloaded),
        ((500,), r"invalid (request|value|parameter|argument|option|input|prompt)|bad request|unsupported|must be|is required", RequestRefused),
    )
)  # fmt: skip

_PARAMETER = re.compile(
    r"(?:unsupported|unrecognized|unknown|unexpected|invalid|extra|additional)[^'\"`]{0,40}"
    r"(?:parameter|argument|field|input|key|name|property)[^'\"`]{0,30}['\"`]([A-Za-z_][\w.]*)['\"`]"
    r"|['\"`]([A-Za-z_][\w.]*)['\"`][^'\"`]{0,30}(?:is )?(?:not supported|unsupported|not permitted|not allowed|unknown)"
    r"|(?:unrecognized|unknown|unsupported|unexpected)[\w ]{0,20}(?:argument|parameter|field)s?(?: supplied)?: ?([A-Za-z_][\w.]*)"
    r"|(?:^|[\s;])([a-z_][\w.]*): (?:extra inputs are not permitted|unknown field|unexpected field)",
    re.IGNORECASE,
)
# The names of things around a parameter: `body.seed` means seed.
_AROUND = ("body.", "request.", "root.")


def classify(
    status: int,
    headers: Mapping[str, str],
    body: bytes,
    codes: Mapping[str, Kind],
) -> Fault:
    """The meaning of an error reply.

    Args:
        codes: the format's own codes (any of ``code``, ``type``, ``status`` in the body) and what they mean.
    """
    error = parse_error(body)
    message = error.message or f"HTTP {status}"
    kind = _kind(status, error, codes)
    parameter = error.parameter
    if parameter is None and issubclass(kind, RequestRefused):
        match = _PARAMETER.search(message)
        parameter = next(filter(None, match.groups()), None) if match else None
    for outer in _AROUND:
        parameter = parameter.removeprefix(outer) if parameter is not None else None
    return Fault(kind, message, parameter, asked_wait(headers, body), error.code)


_STATUS = re.compile("[45][0-9][0-9]")
# Codes by which formats find fault with the request, wherever they stand.
_AT_FAULT = re.compile(
    r"invalid[_ ]?(request|argument|prompt|parameter|input|value)|bad[_ ]?request|validation", re.IGNORECASE
)


def _kind(status: int, error: "ErrorBody", codes: Mapping[str, Kind]) -> Kind:
    for code in error.codes:
        if code in codes:
            return codes[code]
    if status < 400:
        # An error inside a good reply: some servers give the status as its code.
        status = next((int(code) for code in error.codes if _STATUS.fullmatch(code)), status)
    for statuses, signs, kind in _BY_WORDS:
        if (status in statuses or status < 400) and signs.search(error.message):
            return kind
    if status in _BY_STATUS:
        return _BY_STATUS[status]
    if (status < 400 or status == 500) and any(_AT_FAULT.match(code) for code in error.codes):
        return RequestRefused
    return ProviderFault if status >= 500 or status < 400 else RequestRefused


class ErrorBody(msgspec.Struct, frozen=True):
    """What could be found in an error body of any shape."""

    message: str = ""
    codes: tuple[str, ...] = ()
    parameter: str | None = None
    code: str | None = None


def parse_error(body: bytes) -> ErrorBody:
    """Read an error body: an object, a text, a list, HTML or nothing.

    >>> parse_error(b'{"error": {"message": "no", "code": "bad"}}')
    ErrorBody(message='no', codes=('bad',), parameter=None, code='bad')
    >>> parse_error(b'<html><title>502 Bad Gateway</title></html>').message
    '502 Bad Gateway'
    """
    try:
        value = decode_json(body)
    except (msgspec.DecodeError, RecursionError):
        return ErrorBody(_plain_text(body))
    return _from_json(value)


def _from_json(value: Json) -> ErrorBody:
    if isinstance(value, list) and value:
        value = value[0]
    if isinstance(value, str):
        return ErrorBody(value.strip()[:2000])
    if not isinstance(value, dict):
        return ErrorBody()
    inner = value.get("error", value)
    if isinstance(inner, str):
        return ErrorBody(inner[:2000], _codes(value))
    if not isinstance(inner, dict):
        inner = value
    listed = _listed(inner.get("detail"))
    if listed is not None:
        return listed
    message = ""
    for name in ("message", "Message", "detail", "error_description", "msg", "title", "reason"):
        match = inner.get(name, value.get(name))
        if match:
            message = match if isinstance(match, str) else msgspec.json.encode(match).decode()
            break
    parameter, code = (each if isinstance(each, str) and each else None for each in map(inner.get, ("param", "code")))
    return ErrorBody(message[:2000], _codes(inner), parameter, code)


def _listed(detail: Json) -> ErrorBody | None:
    """The first of a list of what is wrong with a request, each with the place where."""
    if not isinstance(detail, list) or not detail or not isinstance(detail[0], dict):
        return None
    first = detail[0]
    where = first.get("loc")
    where = where if isinstance(where, list) else []
    message = "; ".join(_detail_text(each) for each in detail[:5] if isinstance(each, dict))
    # Only a field that is too much can be left out; one with a wrong value was asked for.
    extra = "extra" in str(first.get("type")) or "not permitted" in message
    names = [each for each in where if isinstance(each, str) and each != "body"]
    return ErrorBody(message[:2000], _codes(first), ".".join(names) if extra and names else None)


def _detail_text(detail: dict[str, Json]) -> str:
    where = detail.get("loc")
    location = ".".join(str(each) for each in where) if isinstance(where, list) else ""
    return f"{location}: {detail.get('msg') or detail.get('message') or detail.get('type') or ''}".strip(": ")


def _codes(error: dict[str, Json]) -> tuple[str, ...]:
    match = (error.get(name) for name in ("code", "type", "status"))
    return tuple(str(code) for code in match if isinstance(code, (str, int)) and not isinstance(code, bool))


# No tag has a bracket within, nor more letters than that.
_TAG = re.compile(r"<[^<>]{0,2000}>")


def _plain_text(body: bytes) -> str:
    text = body[:65536].decode("utf-8", "replace").strip()
    if text[:1] == "<":
        # Searched for by hand: patterns would look through the whole page once for every bracket in it.
        folded = text.lower()
        begin = folded.find("<title")
        open_ends = folded.find(">", begin) if begin >= 0 else -1
        end = folded.find("</title>", open_ends) if open_ends >= 0 else -1
        text = text[open_ends + 1 : end] if end >= 0 else _TAG.sub(" ", text)
        text = html.unescape(text)
    return " ".join(text.split())[:500]
