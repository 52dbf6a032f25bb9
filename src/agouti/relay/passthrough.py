"""What a caller says goes to a provider of the same format as it was said: fields, query, headers.

What another format cannot say is named in an error; nothing of a request is left out without a word.
"""

import re
from collections.abc import Mapping
from urllib.parse import parse_qsl, urlencode

from ..core.canonical.chat import Json, Request
from ..core.canonical.parameters import NAMES
from ..core.errors import RequestError
from ..core.secrets.secret import looks_secret
from ..dialects.server_base import ServerFormat
from ..engine.providers.provider import Target
from ..engine.question import OwnForm

# Fields by which some servers are told another model than the one of the request, or several of them.
_CHOOSES = frozenset({"deployment", "deployment_id", "engine", "fallbacks", "models", "route", "version"})
# Headers by which features of a provider are switched on, and the one by which it knows a repeated request again.
_FEATURES = re.compile(r"(^|-)(beta|betas|version|features?|preview)$|^idempotency-key$")
_NOT_IN_BODY = ("model", "stream")


def request_in(form: ServerFormat, body: Mapping[str, Json], targets: tuple[Target, ...]) -> tuple[Request, bool]:
    """What is asked, and whether it could be read: where all models speak the caller's format it need not be.

    Raises:
        RequestError: it is wrong, and somebody would have to say it in other words.
    """
    try:
        return form.decode_request(body), True
    except RequestError:
        if not all(speaks(form, target) for target in targets):
            raise
        if form.canonical:
            # Only numbers that mean something to one server alone, such as -1 for no limit: all else is wrong for all.
            checked = {name: value for name, value in body.items() if not isinstance(value, (int, float))}
            form.decode_request(checked)
        return form.request_in_own_format(body), False


def speaks(form: ServerFormat, target: Target) -> bool:
    """Whether a model takes a request as it was said in a format."""
    return (
        target.provider.dialect.name == form.name
        and not target.model.examples
        and not target.provider.dialect.abilities.canonical
    ) or (form.canonical and target.provider.dialect.abilities.canonical and not target.model.examples)


def own_form(
    form: ServerFormat,
    body: Mapping[str, Json],
    request: Request,
    scope: Mapping[str, object],
    headers: Mapping[str, str],
    *,
    readable: bool,
) -> OwnForm | None:
    """The request in the caller's own words; `None` where the canonical form keeps all of them."""
    query, feature_headers = query_of(scope), _features(headers)
    if not readable:
        fields = {name: value for name, value in body.items() if name not in _NOT_IN_BODY}
        # Nothing stands there in its place: not even what an entry puts around texts.
        for name in (form.conversation, *form.blank):
            fields.setdefault(name, None)
        return OwnForm(form.name, fields, True, frozenset(NAMES), query, feature_headers)
    if not form.canonical:
        own_fields = form.own_fields(body, request)
        return OwnForm(
            form.name, own_fields, form.conversation in own_fields, form.says(own_fields), query, feature_headers
        )
    return OwnForm(form.name, {}, False, frozenset(), query, feature_headers) if query or feature_headers else None


def query_of(scope: Mapping[str, object]) -> str:
    """The query of the caller's address, without what looks like a secret: that is for the relay, if for anybody."""
    query_string = scope.get("query_string")
    if not isinstance(query_string, bytes) or not query_string:
        return ""
    pairs = parse_qsl(query_string.decode("latin-1")[:2000], keep_blank_values=True)
    return urlencode([(name, value) for name, value in pairs if not looks_secret(name)])


def _features(headers: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    return tuple((name, value[:1000]) for name, value in headers.items() if _FEATURES.search(name) and value.isascii())


def check_sayable(form: ServerFormat, body: Mapping[str, Json], request: Request, targets: tuple[Target, ...]) -> None:
    """See that all models understand what is said in the caller's format, and that it names no other model.

    Raises:
        RequestError: one that speaks another format would get a field, a part, or a tool of the server's own, that
            means nothing there, or something else.
    """
    if named := sorted(_CHOOSES & body.keys() - {"model"}):
        raise RequestError(
            f"{named[0]} says which model is asked, and here the label alone says that",
            hint=f"Leave {named[0]} out, and ask the label of the model that you want.",
        )
    foreign = [target for target in targets if target.provider.dialect.name != form.name]
    if not foreign or form.canonical:
        return
    label, dialect = foreign[0].model.label, foreign[0].provider.dialect.name
    fields = {**request.extra, **request.parameters}
    named = sorted(
        form.alone & {name for name, value in body.items() if value is not None} | form.alone & fields.keys()
    )
    if found := (named[0] if named else form.foreign(body)):
        raise RequestError(
            f"{found} cannot be said to {label}, which is asked in another format ({dialect})",
            hint="Leave it out, or ask a model of your own format.",
        )
    tools = request.parameters.get("tools")
    for tool in tools if isinstance(tools, list) else ():
        kind = tool.get("type", "function") if isinstance(tool, dict) else "function"
        if kind not in ("function", "custom"):
            raise RequestError(
                f"{label} is asked in another format ({dialect}), which has no tool of type {kind!r}",
                hint="Leave it out, or ask a model of your own format.",
            )
