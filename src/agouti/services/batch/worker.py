"""What a worker of a cluster does with the rows of a batch: one client for all its work, some rows side by side."""

import pickle
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from ...batches.cluster import Asked, unpacked, with_shared_limits
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


def run_rows(asked: Asked, prompts: list[Any]) -> list[Any]:
    """What came of rows: facts of their results, or errors. Runs on a worker."""
    client = _client(asked.config, asked.file)
    calls = calls_of(client).tagged({})
    calls.waits = False
    options: Any = pickle.loads(asked.options)  # noqa: S301
    none = RowPrompts(Template(None, ()))
    if asked.kind == "vectors":
        from ...batches.embedding_rows import VectorsAsked

        vectors = VectorsAsked(calls, asked.label, none, asked.dimensions, options, lists=asked.lists)
        units = [Unit(number, b"", None, prompt) for number, prompt in enumerate(prompts)]  # type: ignore[arg-type]
        together: list[Any] = client._run(vectors.together(units))
        return together
    ask: Any
    if asked.kind == "values":
        ask = Values(calls, asked.label, none, pickle.loads(asked.form), options)  # noqa: S301
    else:
        ask = (Requests(calls, asked.label, options) if asked.kind == "requests"
               else Answers(calls, asked.label, none, options))  # fmt: skip

    def all_of_them() -> Steps[list[Any]]:
        steps = [attempted(ask.asked(prompt), Exception) for prompt in prompts]
        together: list[Any] = yield Together(steps, len(steps))
        return together

    came: list[Any] = client._run(all_of_them())
    return came
