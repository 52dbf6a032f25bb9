"""The options of a batch."""

import os
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from ...batches.types import Progress
from ...calls.options import Options

if TYPE_CHECKING:
    from datetime import datetime

    from ...core.canonical.structured import Means


class BatchOptions(Options, total=False):
    """What `batch` takes besides the options of every call.

    Attributes:
        prompt: what each row is asked, its columns in braces: ``"Sort this note: {note}"``. Other braces stay as they
            are. Without it a row's text, or all of its columns.
        column: ask this column alone, as it is, instead of a prompt.
        form: a type of your own, or a JSON Schema, that is filled from each row: see `Client.fill`.
        output_method, max_repairs: as for `Client.fill`.
        accept: a function of what came, a text or a value, that gives True, False or the reason why not; or a regular
            expression that is found in it. An answer that is not accepted is the row's error ``NotAccepted``.
        embed: ask for a vector of each row.
        dimensions: how long the vectors are to be.
        image_columns, file_columns: columns that name an image or a file each, by path or address.
        out: a file for the results: .jsonl, .csv, .parquet; for vectors .npz or .npy. In memory without it.
        id_column: the column that tells rows apart, so that rows may come and go between two runs; without it their
            number does.
        preserve_order: put the results of .jsonl into the order of the rows at the end; other files always are.
        quote_formulas: cells of .csv that a spreadsheet would take for formulas get a ' in front.
        concurrency: so many requests at a time; without it the pace is found: see the guide.
        limit: ask only the first so many rows.
        sample: ask only so many rows, taken by chance, the same ones each time.
        retry_failed: ask those again that have an error, or those alone whose error is of a kind: ``"RateLimited"``.
        retry_cut: ask those again whose answer ends at its cap; it stays until there is another one. A cap that is
            higher now goes with ``ignore_changes``.
        restart: start over, and delete existing results.
        ignore_changes: go on with results that were asked otherwise (another prompt, model, ...).
        budget: the most that the run may cost, in the currency of the model's price.
        budget_in_all: the most that all runs which write into ``out`` may cost together, in the same currency. What an
            earlier run has paid and could not note, such as what was under way at a kill, is not in it.
        cluster: address of a Dask scheduler, whose workers ask the rows; the results come here.
        deferred: hand the rows over as batches of the provider, which answers them later, at its lower price; the same
            call fetches them, also after a stop.
        take_over: with ``deferred``: names of batches at the provider whose journal is lost. What they have answered is
            taken for these rows, by their keys; where the provider gives back what was asked, by that too.
        cancel_deferred: cancel what was handed over.
        max_same_failures: stop after so many identical failures in a row without any success (25); 0 never stops.
        stop_at_share: more than this share of failures ends the run, from a hundred rows on: 0.05.
        until: no row is begun after this time, ``"07:00"`` (the next one), an ISO date or a `datetime.datetime`; the
            same call goes on later.
        give_up_after: seconds without a success that end it, while errors may pass (300).
        delimiter, encoding: of a text file; found out otherwise.
        report: a file that says what became of the run, however it ends: .json, or .html, a page with a figure.
        progress: True: how far it is, in a line of the notebook, of the terminal, or every half minute of the log; or a
            function that is told after each row.
        on_row: called for each row in input order, as soon as all earlier rows are finished; without ``out``, rows are
            then not held in memory.
    """

    prompt: str | None
    column: str | None
    form: Any
    output_method: "Means | None"
    max_repairs: int
    accept: "Callable[[Any], Any] | str | None"
    embed: bool
    dimensions: int | None
    image_columns: Sequence[str]
    file_columns: Sequence[str]
    out: str | os.PathLike[str] | None
    id_column: str | None
    preserve_order: bool
    quote_formulas: bool
    concurrency: int | None
    limit: int | None
    sample: int | None
    retry_failed: bool | str | Sequence[str]
    retry_cut: bool
    restart: bool
    ignore_changes: bool
    budget: float | None
    budget_in_all: float | None
    cluster: str | None
    deferred: bool
    take_over: str | Sequence[str]
    cancel_deferred: bool
    max_same_failures: int
    stop_at_share: float
    until: "str | datetime"
    give_up_after: float
    delimiter: str | None
    encoding: str
    report: str | os.PathLike[str] | None
    progress: Callable[[Progress], None] | bool | None
    on_row: Callable[[dict[str, Any]], None] | None


BATCH_OPTIONS = tuple(sorted(BatchOptions.__annotations__.keys() - Options.__annotations__.keys()))
