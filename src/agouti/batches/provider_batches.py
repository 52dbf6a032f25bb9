"""Deferred runs: rows are handed over as batches, and their results fetched when the provider is done.

What was handed over is noted in the index before it is, and after: a run that is stopped, or killed, is gone on with
by the next one, which asks how far the batches are instead of handing the rows over again.
"""

import json
import logging
from collections.abc import Callable, Iterator
from datetime import datetime
from decimal import Decimal
from os import urandom
from typing import Any, TypeVar

from msgspec.structs import replace

from ..core.canonical.usage import NO_USAGE
from ..core.errors import (
    AgoutiError,
    CircuitOpen,
    ConnectionFailed,
    Overloaded,
    ProviderFault,
    RateLimited,
    RequestError,
    RequestRefused,
)
from ..core.settings.retries import Retries
from ..dialects.base import DeferredBatches
from ..dialects.wire import Fault, Handed, LineResult, Outgoing, Pending
from ..engine.call import Call, request_for
from ..engine.effects import Sleep, Steps
from ..engine.hooks import AttemptDetails, AttemptResult, SeeingHook
from ..engine.operations.chat import Chat, encoded, expressible
from ..engine.operations.deferred import MISSING_STATUSES, batches_of, done, path_of
from ..forms.plain_values import plain_value
from ..replies.errors import NotFilled
from ..replies.reply import Reply
from . import take_over
from .deferred_batch import FIRST, GROWTH, LONGEST, Batch
from .prompts import RowPrompt
from .result_file import Results
from .row_requests import Answers, Requests, Values, facts_of
from .run import Work
from .types import Unit

log = logging.getLogger("agouti.hooks")
T = TypeVar("T")
# What is asked again: nothing is paid by asking.
_PASSING = (RateLimited, Overloaded, ProviderFault, ConnectionFailed, CircuitOpen)
# Statuses of what is over.
_OVER = (400, 409, 422)
# Clocks differ by so many seconds.
_SKEW = 300.0
# What an answer means does not depend on the prompt.
_ANY_PROMPT = RowPrompt('{"messages": [{"role": "user", "content": "-"}]}')
# Bytes of one batch at most.
_BYTES = 50_000_000


class DeferredRun:
    """A run whose rows are answered later.

    Args:
        adopted_names: names of batches at the provider whose journal is lost: what they have answered is these rows'.

    Raises:
        RequestError: the format has no deferred batches, or the run asks what they cannot do.
    """

    def __init__(
        self,
        call: Call,
        ask: Any,
        work: Work,
        results: Results,
        now: Callable[[], float],
        patience: float = 300.0,
        adopted_names: tuple[str, ...] = (),
    ) -> None:
        if not isinstance(ask, (Answers, Values, Requests)):
            raise RequestError("vectors are not deferred", hint="Leave --deferred (deferred=True) out.")
        self._target = call.targets[0]
        self._batches: DeferredBatches = batches_of(self._target)
        self._call = call
        self._ask = ask
        self._work = work
        self._results = results
        self._now = now
        self._clock = call.clocks.clock
        self._patience = patience
        self._reached = self._clock()
        self._tidies = True
        self._adopted = adopted_names
        self._found = take_over.Found()
        self.submitted: list[Batch] = []
        self.remarks: tuple[str, ...] = ()

    def steps(self, *, cancel: bool = False) -> Steps[None]:
        """Hand over what is not yet, and fetch what is done, until all is there.

        Args:
            cancel: instead, cancel what was handed over.

        Raises:
            AgoutiError: the provider refuses it; what was handed over stays noted.
        """
        self.submitted = [Batch(*each) for each in self._results.submissions()]
        yield from self._find_lost(wait=not cancel)
        if cancel:
            yield from self._cancel()
            return
        yield from self._find_named()
        portions = self._portions()
        portion = next(portions, None)
        wait = FIRST
        while portion is not None or self.submitted:
            while portion is not None and (yield from self._submit(*portion)):
                portion = next(portions, None)
            reached = 0
            for batch in list(self.submitted):
                reached += yield from self._check_status(batch)
            if self.submitted or portion is not None:
                self._work.report_progress(reached if len(self.submitted) == 1 else 0)
                yield Sleep(wait)
                wait = min(wait * GROWTH, LONGEST)
        if self._work.stop is not None:
            raise self._work.stop

    def _check_status(self, batch: Batch) -> Steps[int]:
        """See how far a batch is, and fetch what came of it; how many requests of it are done."""
        try:
            submitted = yield from self._patiently(self._batches.look(batch.name), self._batches.read)
            if submitted.state == "ended":
                yield from self._fetch(batch, submitted)
        except AgoutiError as error:
            if error.status not in MISSING_STATUSES:
                raise
            self._forget(batch)
            raise RequestError(
                f"{self._target.provider.label} knows nothing of the batch {batch.name} any more (HTTP {error.status})",
                hint="What it had answered is kept; the same command hands the rest of its rows over again.",
            ) from None
        if submitted.state == "failed":
            self._forget(batch)
            raise RequestError(
                f"{self._target.provider.label} could not work on the batch {batch.name}: {submitted.why}",
                hint="Mend it; the same command hands its rows over again.",
            )
        return submitted.done

    def _cancel(self) -> Steps[None]:
        """Cancel all that was handed over, whatever becomes of one of them.

        Raises:
            AgoutiError: one could not be cancelled; the others were.
        """
        failure: AgoutiError | None = None
        for batch in self.submitted:
            if not batch.name:
                continue
            try:
                yield from done(self._call, self._batches.cancel(batch.name), self._batches.read)
            except AgoutiError as error:
                if error.status not in (*MISSING_STATUSES, *_OVER):  # there is nothing to cancel any more
                    failure = failure or error
        if failure is not None:
            raise failure

    def _patiently(self, outgoing: Outgoing, read: Callable[[bytes], T]) -> Steps[T]:
        """What a request about batches gets; an overloaded or failing provider is waited for."""
        tries = 0
        while True:
            try:
                result: T = yield from done(self._call, outgoing, read)
            except _PASSING as error:
                wait = min(2.0**tries if error.wait is None else max(error.wait, 1.0), LONGEST)
                if error.status in MISSING_STATUSES or self._clock() - self._reached + wait > self._patience:
                    raise
                tries += 1
                yield Sleep(wait)
                continue
            self._reached = self._clock()
            return result

    def _find_lost(self, *, wait: bool) -> Steps[None]:
        """Batches whose name did not come back before a kill: the provider's list knows whether they were begun.

        One is taken for ours only with proof: our mark, the file that we handed over, or our identifiers in its
        results. What could be ours and cannot be told yet is waited for: handing its rows over again would pay twice.
        """
        pause = FIRST
        while lost := [batch for batch in self.submitted if not batch.name]:
            listed = yield from self._patiently(self._batches.listed(), self._batches.read_list)
            unclear = False
            for batch in lost:
                found, maybe = yield from self._find_own(batch, listed)
                if found:
                    self._note(replace(batch, name=found))
                elif maybe:
                    unclear = True
                else:
                    self._forget(batch)  # it never came there
            if not unclear:
                return
            if not wait:
                raise RequestError(
                    "it is not known yet whether a batch that was begun is the one of this run",
                    hint="Cancel it at the provider, or run the command again once it has ended.",
                )
            yield Sleep(pause)
            pause = min(pause * GROWTH, LONGEST)

    def _find_named(self) -> Steps[None]:
        """Batches that are to be taken over: their rows are not handed over again.

        Raises:
            RequestError: one cannot be, or has no answer to a row of this run.
        """
        names = tuple(each for each in self._adopted if each not in [batch.name for batch in self.submitted])
        provider = self._target.provider.label
        found = yield from take_over.found(names, self._batches, self._patiently, provider, self._now())
        rows = {found.rows[digest].mark for digest in self._work.digests() if digest in found.rows} if names else ()
        for mark, batch in found.batches.items():
            if mark not in rows:
                raise RequestError(
                    f"the batch {batch.name} has answers to other rows",
                    hint="Pass the rows that were handed over, with the same --id-column (key=...).",
                )
        self._found = found
        self.remarks = tuple(
            [
                f"{name} does not say what was asked: its answers are taken by the keys of the rows"
                for name in found.unasked
            ]
        )

    def _adopt(self, rows_by_batch: dict[str, list[Unit]]) -> None:
        """Rows that a batch has answered which is taken over: it is noted as if it had just been handed over."""
        for mark, units in rows_by_batch.items():
            batch = replace(self._found.batches[mark], count=len(units))
            self._hand_noted(batch, units)
            self._note(batch)

    def _find_own(self, batch: Batch, listed: list[Handed]) -> Steps[tuple[str, bool]]:
        """The name of the batch that is proved to be ours, and whether one may be that has not ended yet."""
        known = {each.name for each in self.submitted}
        for each in listed:
            if each.mark == batch.mark or (batch.file and each.file == batch.file):
                return each.name, False
        maybe = False
        for each in listed:
            foreign = each.mark or (each.file and batch.file)
            if foreign or each.name in known or each.total != batch.count or not _is_since(each, batch):
                continue
            if each.state == "waiting":
                maybe = True
                continue
            status = yield from done(self._call, self._batches.look(each.name), self._batches.read)
            for address in status.results[:1]:
                body = yield from done(self._call, path_of(address), bytes)
                line = next(iter(self._batches.read_results(body)), None)
                if line is not None and batch.digest_in(line.name) is not None and "-" in line.name:
                    return each.name, False
        return "", maybe

    def _portions(self) -> Iterator[tuple[list[Unit], list[dict[str, Any]]]]:
        """The rows that are not handed over yet, as many together as go into one batch."""
        units: list[Unit] = []
        bodies: list[dict[str, Any]] = []
        size = 0
        rows_by_batch: dict[str, list[Unit]] = {}
        for unit in self._work.units():
            if self._results.is_submitted(unit.digest, unit.prompt.digest):
                continue
            try:
                body = self._body(unit)
            except AgoutiError as error:
                self._work.keep(unit, {"error": f"{type(error).__name__}: {error.message}"})
                continue
            if (mark := self._found.has(unit.digest, body)) is not None:
                rows_by_batch.setdefault(mark, []).append(unit)
                continue
            units.append(unit)
            bodies.append(body)
            size += len(str(body))
            if len(units) >= self._batches.most or size > _BYTES:
                yield units, bodies
                units, bodies, size = [], [], 0
        self._adopt(rows_by_batch)
        if units:
            yield units, bodies

    def _body(self, unit: Unit) -> dict[str, Any]:
        """The request of a row, as its line of a batch has it."""
        call = self._ask.call(unit.prompt)
        target = self._target
        if isinstance(self._ask, Values):
            request = self._ask.form_call(unit.prompt).request(target)
        else:
            request = request_for(call.question, target)
        outgoing = encoded(expressible(request, target), target, target.provider.dialect.encode_chat)
        return target.provider.body_of(outgoing)

    def _submit(self, units: list[Unit], bodies: list[dict[str, Any]]) -> Steps[bool]:
        """Hand rows over; whether the provider has taken them. Where its queue is full it has not, for now."""
        batch = Batch(urandom(8).hex(), "", len(units), self._now())
        requests = [(batch.id_of(unit.digest), body) for unit, body in zip(units, bodies, strict=True)]
        file = ""
        upload = self._batches.upload(requests)
        if upload is not None:
            file = yield from self._patiently(upload, self._batches.read_file)
        batch = replace(batch, file=file)
        self._hand_noted(batch, units)
        try:
            # Sent once: what is not known to have been begun is looked up by the next run.
            once = replace(self._call, retries=Retries(max=0))
            submitted = yield from done(once, self._batches.begin(requests, file, batch.mark), self._batches.read)
        except RequestRefused:
            self._forget(batch)  # it was not begun
            raise
        except RateLimited:
            self._forget(batch)  # it was not begun: there is no room before others have ended
            if not self.submitted and self._clock() - self._reached > self._patience:
                raise
            return False
        self._note(replace(batch, name=submitted.name))
        self._reached = self._clock()
        return True

    def _hand_noted(self, batch: Batch, units: list[Unit]) -> None:
        rows = [(unit.digest, unit.prompt.digest, json.dumps(self._work.head(unit), default=str)) for unit in units]
        self._results.record_submission(batch.mark, rows, batch.count, batch.since, batch.file)

    def _note(self, batch: Batch) -> None:
        self._results.name_submission(batch.mark, batch.name)
        self.submitted = [each for each in self.submitted if each.mark != batch.mark] + [batch]

    def _forget(self, batch: Batch) -> None:
        self._results.forget_submission(batch.mark)
        self.submitted = [each for each in self.submitted if each.mark != batch.mark]

    def _fetch(self, batch: Batch, submitted: Handed) -> Steps[None]:
        """Keep what came of a batch, by its rows, whichever this run looks at; others are asked by the next one."""
        torn, listed = 0, set()
        for address in submitted.results:
            body = yield from self._patiently(path_of(address), bytes)
            for line in self._batches.read_results(body):
                torn += not line.name
                digest = batch.digest_in(line.name)
                row = None if digest is None else self._results.submitted_row(digest, batch.mark)
                if digest is None or row is None or not line.status:
                    continue
                content, head = row
                listed.add(digest)
                answer = self._answer(line)
                facts = answer if isinstance(answer, dict) else self._facts(answer)
                self._work.store_submitted(json.loads(head), digest, content, facts)
                if not isinstance(answer, dict) and self._results.count_submission(digest, batch.mark):
                    self._account(answer)
        for digest in self._results.submitted_keys(batch.mark) if torn else ():
            row = self._results.submitted_row(digest, batch.mark)
            if digest not in listed and row is not None:
                reason = {"error": f"ReplyUnreadable: {torn} lines of the results of {batch.name} cannot be read"}
                self._work.store_submitted(json.loads(row[1]), digest, row[0], reason)
        self._forget(batch)
        for outgoing in self._batches.leftovers(submitted) if self._tidies else ():
            try:  # what was said in the rows need not stay there; that it does loses nothing
                yield from done(self._call, outgoing, bytes)
            except AgoutiError as error:
                self._tidies = False
                log.info("files of batches stay at the provider: %s", error.message)
                break

    def _answer(self, line: LineResult) -> Reply | dict[str, Any]:
        """The answer in a line; or the error there is instead, as facts of a result."""
        target = self._target
        dialect = target.provider.dialect
        try:
            if line.status >= 300:
                fault = dialect.classify(line.status, {}, line.body)
                return {"error": f"{fault.kind.__name__}: {fault.message}"}
            call = self._ask.call(_ANY_PROMPT)
            value = Chat(call.question).decode(line.body, request_for(call.question, target), target)
            if isinstance(value, Fault):
                return {"error": f"{value.kind.__name__}: {value.message}"}
            if isinstance(value, Pending):
                return {"error": "the provider has no answer yet"}
            return Reply.of(
                value,
                label=target.model.label,
                provider=target.provider.label,
                price=target.price,
                elapsed=0.0,
                attempts=(),
                body=line.body,
            )
        except AgoutiError as error:
            return {"error": f"{type(error).__name__}: {error.message}"}

    def _cost(self, reply: Reply) -> Decimal | None:
        """What it cost, by the price for deferred requests."""
        price = reply.price
        images = reply.images if price is not None and price.image else 0
        return None if price is None else price.exact(reply.usage or NO_USAGE, images=images, deferred=True)

    def _account(self, reply: Reply) -> None:
        """Tell the books of it."""
        target, cost = self._target, self._cost(reply)
        call = self._ask.call(_ANY_PROMPT)
        attempt = AttemptDetails(
            operation="batch",
            label=target.model.label,
            model=target.model.label,
            name=target.model.name,
            provider=target.provider.label,
            number=1,
            tags=call.question.tags,
        )
        result = AttemptResult(
            attempt=attempt,
            outcome="answered",
            status=200,
            usage=reply.usage,
            cost=None if cost is None else float(cost),
            exact_cost=cost,
            currency="" if reply.price is None else reply.price.currency,
            estimated=reply.price is not None and reply.price.batch is None,
        )
        for hook in call.hooks:
            if isinstance(hook, SeeingHook):
                try:
                    hook.deferred(result)
                except Exception:
                    log.exception("a hook failed")

    def _facts(self, reply: Reply) -> dict[str, Any]:
        cost = self._cost(reply)
        if cost is None or reply.price is None or reply.price.batch is None:
            reply, cost = replace(reply, price=None), None  # what it costs nobody has said
        facts = facts_of(reply, reply.usage or NO_USAGE, None if cost is None else float(cost))
        facts.pop("seconds", None)
        if isinstance(self._ask, Values):
            form_call = self._ask.form_call(_ANY_PROMPT)
            form_call.request(self._target)
            try:
                return {"value": plain_value(form_call.filled(reply).value), **facts}
            except NotFilled as error:
                return {"error": f"NotFilled: {error.message}", "answer": reply.text, **facts}
        if isinstance(self._ask, Requests):
            return {"answer": reply.text, "response": {"status_code": 200, "body": self._ask.exchanged(reply)}, **facts}
        return {"answer": reply.text, **facts}


def _is_since(submitted: Handed, batch: Batch) -> bool:
    """Whether a batch of the provider's list can be the one that was handed over then."""
    try:
        started_at = float(submitted.begun)
    except ValueError:
        try:
            started_at = datetime.fromisoformat(submitted.begun.replace("Z", "+00:00")).timestamp()
        except ValueError:
            return True  # it does not say
    return started_at >= batch.since - _SKEW
