"""Metrics of the relay, as Prometheus reads them."""

from typing import Any

from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram, generate_latest
from prometheus_client.exposition import CONTENT_TYPE_LATEST

from .recent_calls import CallSeen

MEDIA_TYPE = CONTENT_TYPE_LATEST
_STEPS = (0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 120, 300)


class Metrics:
    """Counts of one relay."""

    def __init__(self) -> None:
        self._registry = CollectorRegistry()
        names = ("label", "token", "form")
        self._requests = Counter(
            "agouti_relay_requests", "Requests, by HTTP status.", (*names, "status"), registry=self._registry
        )
        self._tokens = Counter(
            "agouti_relay_tokens", "Tokens, by direction.", (*names, "direction"), registry=self._registry
        )
        self._cost = Counter("agouti_relay_cost", "Spent, by currency.", (*names, "currency"), registry=self._registry)
        self._seconds = Histogram(
            "agouti_relay_seconds",
            "Seconds of whole calls.",
            ("label", "form"),
            buckets=_STEPS,
            registry=self._registry,
        )
        # Looking a child up costs more than counting: those of the usual calls are kept.
        self._children: dict[tuple[str, ...], Any] = {}
        self._under_way = Gauge("agouti_relay_under_way", "Calls that are under way.", registry=self._registry)

    def begins(self) -> None:
        """A call begins."""
        self._under_way.inc()

    def ended(self, call: CallSeen, label: str) -> None:
        """A call has ended; it is counted under this label."""
        self._under_way.dec()
        names = (label, call.token, call.form)
        self._child("requests", self._requests, *names, str(call.status)).inc()
        self._child("seconds", self._seconds, label, call.form).observe(call.seconds)
        for direction, count in (("input", call.input_tokens), ("output", call.output_tokens)):
            if count is not None and count > 0:
                self._child("tokens", self._tokens, *names, direction).inc(count)
        if call.cost is not None and call.cost > 0:
            self._child("cost", self._cost, *names, call.currency).inc(call.cost)

    def refused(self, call: CallSeen, status: int) -> None:
        """A request that was no call has ended."""
        self._child("requests", self._requests, "", call.token, "other", str(status)).inc()

    def _child(self, kind: str, metric: Counter | Histogram, *labels: str) -> Any:
        key = (kind, *labels)
        child = self._children.get(key)
        if child is None:
            child = self._children[key] = metric.labels(*labels)
        return child

    def text(self) -> bytes:
        """All of them."""
        return generate_latest(self._registry)
