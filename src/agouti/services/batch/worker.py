"""What a worker of a cluster does with the rows of a batch: one client for all its work, some rows side by side."""

import pickle
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from ...batches.cluster import BatchRequest, unpacked, with_shared_limits
from ...batches.prompts import RowPrompts, Template
from ...batches.row_requests import Answers, Requests, Values
from ...batches.types import Unit
from ...calls.calls import calls_of
from ...engine.effects import Steps, Together, attempted

if TYPE_CHECKING:
    from ...client.client import Client


@lru_cache(maxsize=4)
def _client(config: bytes, file: str) -> "Client":
    """The client of a worker: one for all its work."""
    from ...client.client import Client

    return Client(with_shared_limits(unpacked(config, file)))


def run_rows(request: BatchRequest, prompts: list[Any]) -> list[Any]:
    """What came of rows: facts of their results, or errors. Runs on a worker."""
    client = _client(request.config, request.file)
    calls = calls_of(client).tagged({})
    calls.waits = False
    options: Any = pickle.loads(request.options)  # noqa: S301
    none = RowPrompts(Template(None, ()))
    if request.kind == "vectors":
        from ...batches.embedding_rows import VectorsAsked

        vectors = VectorsAsked(calls, request.label, none, request.dimensions, options, lists=request.lists)
        units = [Unit(number, b"", None, prompt) for number, prompt in enumerate(prompts)]  # type: ignore[arg-type]
        together: list[Any] = client._run(vectors.together(units))
        return together
    ask: Any
    if request.kind == "values":
        ask = Values(calls, request.label, none, pickle.loads(request.form), options)  # noqa: S301
    else:
        ask = (Requests(calls, request.label, options) if request.kind == "requests"
               else Answers(calls, request.label, none, options))  # fmt: skip

    def all_of_them() -> Steps[list[Any]]:
        steps = [attempted(ask.answer_of(prompt), Exception) for prompt in prompts]
        together: list[Any] = yield Together(steps, len(steps))
        return together

    outcomes: list[Any] = client._run(all_of_them())
    return outcomes
