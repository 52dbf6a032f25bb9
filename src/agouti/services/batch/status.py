"""How far the deferred batches of a run are, without taking the run up."""

import os
from collections.abc import Coroutine
from pathlib import Path
from typing import TYPE_CHECKING, Literal, overload

from msgspec import Struct
from msgspec.structs import replace

from ...batches.deferred_batch import Batch
from ...batches.export import submissions_of
from ...calls.calls import calls_of
from ...core.errors import AgoutiError
from ...engine.call import Call
from ...engine.effects import Steps
from ...engine.operations.deferred import MISSING_STATUSES, batches_of, done
from .. import run

if TYPE_CHECKING:
    from ...client.async_client import AsyncClient
    from ...client.client import Client


class DeferredBatch(Struct, frozen=True, kw_only=True):
    """A batch of rows at a provider.

    Attributes:
        name: the provider's name for it; empty where it did not come back before a kill: the next run looks for it.
        state: ``waiting``; ``ended``: its results can be fetched; ``failed``; ``gone``: the provider knows nothing of
            it any more; ``unknown``: it could not be asked for.
        done, total: requests that have an answer, and all of them.
        since: when it was handed over, in seconds since the epoch.
        why: why it has failed, or could not be asked for.
    """

    name: str
    state: Literal["waiting", "ended", "failed", "gone", "unknown"]
    done: int
    total: int
    since: float
    why: str = ""


@overload
def batch_status(client: "Client", label: str, out: str | os.PathLike[str]) -> list[DeferredBatch]: ...
@overload
def batch_status(
    client: "AsyncClient", label: str, out: str | os.PathLike[str]
) -> Coroutine[None, None, list[DeferredBatch]]: ...
def batch_status(
    client: "Client | AsyncClient", label: str, out: str | os.PathLike[str]
) -> list[DeferredBatch] | Coroutine[None, None, list[DeferredBatch]]:
    """How far the batches are that a deferred run has handed over, the oldest first; nothing is fetched or changed.

    The run may be under way, stopped or killed. What was fetched is forgotten: where all was, the list is empty.

    Args:
        label: of the model that was asked.
        out: the file that the run writes its results to.

    Raises:
        RequestError: no run has written there, or the model's format has no deferred batches.

    Example:
        >>> import agouti, agouti.standins, tempfile
        >>> out = f"{tempfile.mkdtemp()}/later.jsonl"
        >>> with agouti.standins.serve() as served, agouti.Client(served.config) as client:
        ...     made = agouti.batch(client, "almanac", ["Peas?", "Beans?"], out=out, max_tokens=5, deferred=True)
        ...     made.done, agouti.batch_status(client, "almanac", out)
        (2, [])
    """
    calls = calls_of(client)
    target = calls.target(label)
    batches_of(target)
    call = replace(calls.about(target.provider.label), targets=(target,))
    return run(client, _statuses(call, [Batch(*each) for each in submissions_of(Path(out))]))


def _statuses(call: Call, submitted: list[Batch]) -> Steps[list[DeferredBatch]]:
    statuses: list[DeferredBatch] = []
    for each in submitted:
        statuses += [(yield from _status(call, each))]
    return statuses


def _status(call: Call, submitted: Batch) -> Steps[DeferredBatch]:
    """How far one is; one that cannot be asked for hides no other."""
    noted = DeferredBatch(name=submitted.name, state="unknown", done=0, total=submitted.count, since=submitted.since)
    if not submitted.name:
        return replace(noted, why="its name did not come back: the same command as before looks for it")
    batches = batches_of(call.targets[0])
    try:
        status = yield from done(call, batches.look(submitted.name), batches.read)
    except AgoutiError as error:
        return replace(noted, state="gone" if error.status in MISSING_STATUSES else "unknown", why=error.message)
    return replace(noted, state=status.state, done=status.done, why=status.why)
