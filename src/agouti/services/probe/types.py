"""What probes find."""

from collections.abc import Iterable
from typing import Any, Literal, TypeAlias

import msgspec
from msgspec import Struct

from ...calls.calls import Calls
from ...config.entries import Model
from ...core.canonical.chat import Json
from ...core.canonical.structured import Means
from ...core.canonical.usage import Usage, total_usage
from ...core.errors import AgoutiError
from ...engine.providers.provider import Target
from ...replies.reply import Reply
from ...tables.table import Table
from .probe_budget import ProbeBudget

Found: TypeAlias = Literal["yes", "no", "refused", "unclear", "skipped"]
"""What came of a probe: it works; it was accepted and not done; it was refused; it cannot be told; it was not tried."""


class Probed(Struct, frozen=True, kw_only=True):
    """One thing that was probed.

    Attributes:
        what: ``stream``, ``stop strings``, ``schema``, ``image``, ...
        declared: whether the entry, the provider's list or the wire format says that there is such a thing; `None`:
            nothing says anything.
        found: see `Found`.
        value: what was measured: seconds, tokens per second, the length of vectors.
        detail: what was seen, one line.
    """

    what: str
    declared: bool | None
    found: Found
    value: float | None = None
    detail: str = ""

    @property
    def ok(self) -> bool | None:
        """`False`: it is claimed, or was accepted, and is not done; `None`: it cannot be told."""
        if self.found == "yes":
            return True
        if self.found == "refused":
            return False if self.declared else None
        return False if self.found == "no" and self.declared is not None else None


class ProbeResult(Table[Probed]):
    """What was found about one model.

    Attributes:
        rows: one for each thing that was probed.
        label, provider, name: of the model.
        usage, cost: of all answers that told them; the cost is that of all requests, `None` where it
            is not known: the entry has no price, or a request was lost.
        currency: of the cost.
    """

    def __init__(
        self, rows: tuple[Probed, ...], model: Model, replies: Iterable[Reply], cost: float | None = None
    ) -> None:
        super().__init__(rows)
        replies = list(replies)
        self.label = model.label
        self.provider = model.provider
        self.name = model.name
        self.usage: Usage = total_usage(reply.usage for reply in replies if reply.usage.input_tokens is not None)
        self.cost = cost
        self.currency = None if model.price_now is None else model.price_now.currency

    def __repr__(self) -> str:
        return f"ProbeResult({self.label!r}, {len(self.rows)} probes, {len(self.lies)} that do not hold)"

    def of(self, feature: str) -> Probed:
        """The row about one thing.

        Raises:
            KeyError: it was not probed.
        """
        return {row.what: row for row in self.rows}[feature]

    @property
    def lies(self) -> tuple[Probed, ...]:
        """What is claimed, or was accepted, and is not done."""
        return tuple([row for row in self.rows if row.ok is False])

    @property
    def settings(self) -> dict[str, Json]:
        """What the entry is to say by these findings: ``means`` and ``inputs``."""
        found = {row.what: row.found for row in self.rows}
        # What cannot be told stays as it is claimed.
        supported = {row.what for row in self.rows if row.found == "yes" or (row.found == "unclear" and row.declared)}
        settings: dict[str, Json] = {}
        if "schema" in found:
            tried: dict[Means, str] = {"schema": "schema", "tool": "forced call", "json": "JSON mode"}
            settings["output_methods"] = [method for method, feature in tried.items() if feature in supported] + [
                "prompt"
            ]
        if found.get("image") in ("yes", "no", "refused"):
            kinds = [kind for kind in ("image", "file") if kind in supported]
            settings["inputs"] = ["text", *kinds]
        return settings

    def records(self) -> list[dict[str, Any]]:
        return [{**msgspec.to_builtins(row), "ok": row.ok} for row in self.rows]

    def _columns(self) -> list[str]:
        return [*Probed.__struct_fields__, "ok"]


class Probing:
    """A model that is being probed: bare of its persona, and asked without a second chance.

    Attributes:
        model: the entry as it stands.
        target: the bare model made ready.
        base: the first answer, which others are compared with.
        replies: all that came, for what it cost.
        label: of the bare model.
    """

    base: Reply

    def __init__(self, calls: Calls, label: str, limit: float | None = None) -> None:
        config = calls.config
        self.model = model = calls.target(label).model
        bare_entry = Model(
            label=model.label,
            provider=model.provider,
            name=model.name,
            price=model.price,
            markers=model.markers,
            reasoning_tag=model.reasoning_tag,
        )
        # What a provider does not take is to be seen, not to be left out.
        entry = msgspec.structs.replace(config.provider(model.provider), unsupported="error")
        self.calls = calls.of(
            msgspec.structs.replace(
                config, models={bare_entry.label: bare_entry}, providers={**config.providers, entry.label: entry}
            )
        )
        self.label = bare_entry.label
        self.target: Target = self.calls.target(self.label)
        self.budget = ProbeBudget(self.target.price, limit)
        self.calls.hooks = (*self.calls.hooks, self.budget)
        self.replies: list[Reply] = []

    def result(self, rows: list[Probed]) -> ProbeResult:
        """What was found, and what it has cost."""
        cost = None if self.budget.unknown else float(self.budget.spent)
        return ProbeResult(tuple(rows), self.model, self.replies, cost)

    def accepts(self, parameter: str) -> bool:
        """Whether the wire format has a parameter."""
        provider = self.target.provider
        return parameter not in provider.unsupported if provider.accepted is None else parameter in provider.accepted

    def claims(self, method: Means) -> bool:
        """Whether the entry, or else the format, has a means of structured output."""
        return method in (self.model.output_methods or self.target.provider.dialect.abilities.means)

    def claims_input(self, kind: str) -> bool | None:
        """Whether the entry says that the model takes images or files."""
        return None if self.model.inputs is None else kind in self.model.inputs


def error_excerpt(error: AgoutiError) -> str:
    """An error in one line."""
    return (error.provider_message or error.message).partition("\n")[0][:160]
