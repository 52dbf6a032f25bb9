"""Thinking that was asked for in one format's words, said in those of the model's own."""

from msgspec.structs import replace

from ...core.canonical.chat import Request
from ..providers.provider import Target

# Words that one format alone has: how much it thinks is the model's own affair, or as much as it can.
_EFFORTS: dict[str, str | None] = {"adaptive": None, "max": "high"}


def with_effort(request: Request, target: Target, form: str) -> Request:
    """The request of a caller who speaks a format, as a model of another one can be told it."""
    provider, parameters = target.provider, request.parameters
    if provider.dialect.name == form:
        return request
    changed = dict(parameters)
    if parameters.get("reasoning_effort") in _EFFORTS:
        effort = _EFFORTS[changed.pop("reasoning_effort")]
        if effort is not None:
            changed["reasoning_effort"] = effort
    no_budget = "reasoning_budget" in provider.unsupported
    if "reasoning_budget" in parameters and (
        no_budget if provider.accepted is None else "reasoning_budget" not in provider.accepted
    ):
        # A budget is said as the effort that it amounts to, where the format has only those.
        budget = changed.pop("reasoning_budget")
        changed.setdefault("reasoning_effort", "low" if budget <= 2048 else "medium" if budget <= 8192 else "high")
    return replace(request, parameters=changed)
