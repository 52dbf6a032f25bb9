"""Batches at a provider whose journal is lost: what they have answered is found again by the identifiers in it."""

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from ..core.errors import AgoutiError, RequestError
from ..dialects.base import DeferredBatches
from ..dialects.wire import Handed, Outgoing
from ..engine.effects import Sleep, Steps
from ..engine.operations.deferred import MISSING_STATUSES, path_of
from .deferred_batch import FIRST, GROWTH, LONGEST, Batch
from .result_index import digest_of

_HINT = "Name a batch that rows were handed over with, as the provider's list has it, or leave --take-over out."


class AdoptedBatch(Struct, frozen=True):
    """What is known of a row that such a batch has answered.

    Attributes:
        mark: of its batch.
        question_digest: a digest of the request; empty where the provider does not give back what was asked.
    """

    mark: str
    question_digest: bytes


class Found(Struct):
    """Batches that were found, and the rows in them by the digest of their key.

    Attributes:
        unasked: names of batches of which the provider does not tell what was asked.
    """

    batches: dict[str, Batch] = {}
    rows: dict[bytes, AdoptedBatch] = {}
    unasked: list[str] = []

    def has(self, digest: bytes, body: Mapping[str, Any]) -> str | None:
        """The mark of the batch that has answered this very request; `None` where none has."""
        row = self.rows.get(digest)
        if row is None or row.question_digest not in (b"", digest_of(body)):
            return None
        return row.mark


def found(
    names: tuple[str, ...],
    batches: DeferredBatches,
    ask: "Callable[[Outgoing, Callable[[bytes], Any]], Steps[Any]]",
    provider: str,
    now: float,
) -> Steps[Found]:
    """Wait until the batches of these names have ended, and find their rows.

    Args:
        ask: what a request about batches gets.
        provider: how errors call it.

    Raises:
        RequestError: one has failed, or is none that rows were handed over with.
    """
    found_rows = Found()
    for name in names:
        wait = FIRST
        try:
            submitted: Handed = yield from ask(batches.look(name), batches.read)
        except AgoutiError as error:
            if error.status not in MISSING_STATUSES:
                raise
            raise RequestError(f"{provider} knows no batch {name} (HTTP {error.status})", hint=_HINT) from None
        while submitted.state == "waiting":
            yield Sleep(wait)
            wait = min(wait * GROWTH, LONGEST)
            submitted = yield from ask(batches.look(name), batches.read)
        if submitted.state == "failed":
            raise RequestError(f"{provider} could not work on the batch {name}: {submitted.why}", hint=_HINT)
        yield from _add(found_rows, submitted, batches, ask, now)
        if name not in [each.name for each in found_rows.batches.values()]:
            raise RequestError(f"the batch {name} at {provider} has no answers to rows", hint=_HINT)
    return found_rows


def _add(
    found_rows: Found,
    submitted: Handed,
    batches: DeferredBatches,
    ask: "Callable[[Outgoing, Callable[[bytes], Any]], Steps[Any]]",
    now: float,
) -> Steps[None]:
    """Add the rows of a batch that has ended."""
    requests = yield from _requests(submitted, batches, ask)
    if requests is None:
        found_rows.unasked.append(submitted.name)
    for address in submitted.results:
        body = yield from ask(path_of(address), bytes)
        for name in _names(batches, body):
            mark = name.rpartition("-")[0]
            batch = Batch(mark, submitted.name, submitted.total, now, submitted.file)
            digest = batch.digest_in(name)
            if not mark or digest is None or (requests is not None and name not in requests):
                continue
            found_rows.batches.setdefault(mark, batch)
            found_rows.rows[digest] = AdoptedBatch(mark, b"" if requests is None else requests[name])


def _requests(
    submitted: Handed, batches: DeferredBatches, ask: "Callable[[Outgoing, Callable[[bytes], Any]], Steps[Any]]"
) -> Steps[dict[str, bytes] | None]:
    """What each row was asked; `None` where the provider does not tell it, or has it no more."""
    outgoing = batches.requests(submitted)
    if outgoing is None:
        return None
    try:
        body = yield from ask(outgoing, bytes)
    except AgoutiError as error:
        if error.status not in MISSING_STATUSES:
            raise
        return None
    return {name: digest_of(each) for name, each in batches.read_requests(body)}


def _names(batches: DeferredBatches, body: bytes) -> Iterator[str]:
    for line in batches.read_results(body):
        if line.name and line.status:
            yield line.name
