"""Break promises of the documentation on purpose, one at a time, and see whether a test notices.

python tests/broken_promises.py [WORD ...]     all of them, or those whose promise has one of these words

Each row is a change of one place in the source and the promise that it breaks. The tests are run against a copy of the
sources, so that nothing is left behind. A row that no test notices is printed, and ends the command with 1.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
PROMISES = "tests/test_promises.py"
ENGINE = "tests/engine"
SLOPPY = "tests/dialects/test_sloppy.py"
WIRE = "tests/dialects/test_wire.py"
HOSTILE = "tests/hostile"
TURNS = "tests/dialects/test_turns.py"


class Row(NamedTuple):
    """A change, the promise that it breaks, and the tests that have to notice."""

    promise: str
    file: str
    before: str
    after: str
    tests: str = PROMISES


ROWS = [
    Row("a deadline shortens the limits of a request", "engine/limits.py", "    left = max(left, 0.001)\n", "    return timeouts\n"),
    Row("a deadline is looked at before an attempt", "engine/call.py", "self.until is not None and self.clocks.clock() >= self.until", "False", "tests/test_question.py"),
    Row("a kept connection is tried again once", "engine/exchange.py", 'self.kept_connection = self.kept_connection or decision.why == "kept connection"', "pass"),
    Row("a token endpoint out of reach may pass", "engine/credentials.py", "retryable=True", "retryable=False"),
    Row("lost connections open the circuit", "core/policy.py", "e.ConnectionLost:       Policy(_UNANSWERED, True,       True, ", "e.ConnectionLost:       Policy(_UNANSWERED, True,       False, "),
    Row("names are listed where none is near", "engine/operations/listing.py", "alike or sorted(names)[:5]", "alike"),
    Row("the next model takes over a stream cut before anything came", "core/policy.py", "e.StreamCut:            Policy(_UNANSWERED, True, ", "e.StreamCut:            Policy(_UNANSWERED, False, "),
    Row("the next model takes over at a rate limit", "core/policy.py", "e.RateLimited:          Policy(_ALWAYS,     True, ", "e.RateLimited:          Policy(_ALWAYS,     False, "),
    Row("a long stream loses no text", "core/text_pieces.py", 'self._joined.append("".join(self.pieces))', "pass"),
    Row("the first token is counted from the call", "engine/accumulate.py", "self.first_token = clock() - self._started", "self.first_token = clock()"),
    Row("a 429 while polling does not cost the job", "engine/polling.py", "reply.status in (408, 429) or reply.status >= 500", "reply.status >= 500", ENGINE),
    Row("x-request-id is reported", "reply.py", '("x-request-id", "request-id"', '("request-id"'),
    Row("an error has the request id", "engine/errors_from.py", "request_id=request_id_in(headers)", "request_id=None"),
    Row("a left stream is closed, sync", "engine/drive.py", "            opened.abort()", "            opened.finish()"),
    Row("a left stream is closed, async", "engine/drive_async.py", "            opened.abort()", "            await opened.finish()"),
    Row("a wrong call may be corrected again", "engine/operations/tool_loop.py", "self._corrected = bool(wrong)", "self._corrected = self._corrected or bool(wrong)"),
    Row("an AgoutiError of a function is raised", "engine/operations/tool_loop.py", 'self._failures == "raise" or isinstance(result, AgoutiError)', 'self._failures == "raise"'),
    Row("functions are not run where that is forbidden", "engine/operations/tool_loop.py", "return self._runs and not custom", "return not custom"),
    Row("what is abandoned is told to the hooks", "engine/watch.py", "        yield self._undo\n        for hook", "        for hook", ENGINE),
    Row("a hook that breaks fails no call", "engine/watch.py", "            except Exception:\n", "            except KeyError:\n", ENGINE),
    Row("what is left open is undone at the end", "engine/drive.py", "for request in self._undo.undo():", "for request in ():", ENGINE),
    Row("the first error of steps side by side stops the others", "engine/threads.py", "return None if self.error is not None else next(self._work, None)", "return next(self._work, None)", "tests/test_embeddings.py tests/test_concurrency.py tests/engine"),
    Row("a provider's wait is kept", "engine/decide.py", "return error.wait + chance * min(error.wait / 10, 1.0) if error.wait <= retries.max_wait else None", "return 0.0", ENGINE),
    Row("work under way is not begun again", "engine/decide.py", "outcome.final or not outcome.sent", "not outcome.sent", ENGINE),
    Row("NAME.local is another machine", "core/address.py", 'host.endswith(".localhost")', 'host.endswith(".local")'),
    Row("key= in an address is a key", "core/address.py", 'frozenset({"key", ', "frozenset({"),
    Row("token= in an address is a key", "core/address.py", '"token", ', ""),
    Row("access_token= in an address is a key", "core/address.py", '"access_token", ', ""),
    Row("top_p ends at 1", "core/parameters.py", '"a number from 0 to 1", 0.5, 0, 1)', '"a number from 0 to 1", 0.5, 0, 2)'),
    Row("presence_penalty begins at -2", "core/parameters.py", 'Parameter("presence_penalty", _NUMBER, "a number from -2 to 2", 0.5, -2, 2, neutral=0)', 'Parameter("presence_penalty", _NUMBER, "a number from -2 to 2", 0.5, 0, 2, neutral=0)'),
    Row("n may be 1", "core/parameters.py", '"a whole number from 1", 2, 1, neutral=1)', '"a whole number from 1", 2, 2, neutral=1)'),
    Row("True is no temperature", "core/parameters.py", " or (isinstance(value, bool) and bool not in self.kinds)", ""),
    Row("two caps are one", "core/parameters.py", 'if kept.get("max_tokens") is not None and kept.get("max_completion_tokens") is not None:', "if False:", "tests/test_question.py"),
    Row("truncated means the cap", "reply.py", 'self.finish_reason == "length"', 'self.finish_reason in ("length", "content_filter")'),
    Row("a recorded failure is repeated", "core/har.py", 'failure = response.get("_failure")', "failure = None"),
    Row("an archive tells no encoding that is gone", "core/har.py", 'if each["name"].lower() != "content-encoding"', "if True"),
    Row("a token that worked is renewed again", "credentials/rotation.py", "self._renewed -= {key for key, held in self._held.items() if held is credential}", "pass"),
    Row("a relative key file stands beside the file", "credentials/sources.py", "str(own if own.is_absolute() else folder / own)", "path"),
    Row("an expiry as a date is read", "credentials/command.py", "return datetime.fromisoformat(value).timestamp()", "return None"),
    Row("expires_in is kept", "credentials/oauth.py", "None if lifetime is None else now + lifetime", "None"),
    Row("the scope is sent", "credentials/oauth.py", "scope=key.scope or None)", "scope=None)"),
    Row("client_auth = body is kept", "credentials/oauth.py", 'if key.client_auth == "basic"', "if True"),
    Row("the environment wins over .env", "config/load.py", "return Environment(variables, values, shown_path(path), remark)", "return Environment({**variables, **values}, {}, shown_path(path), remark)"),
    Row("AGOUTI_CONFIG is read", "config/find.py", "return [*paths_found, Path(named).expanduser()], \"\"", "return paths_found, \"\""),
    Row("no file is read twice", "config/find.py", "if nearest is not None and nearest != own:", "if nearest is not None:"),
    Row(".env beside a named file is read", "config/load.py", "        beside = Path(config).absolute().parent\n", ""),
    Row("paths name operations", "config/checks.py", "if operation not in PATHS:", "if False:"),
    Row("a redirect is not followed, async", "transport/aio.py", "allow_redirects=False", "allow_redirects=True"),
    Row("cookies are not kept", "transport/aio.py", "            cookie_jar=aiohttp.DummyCookieJar(),\n", ""),
    Row("connections= is kept, async", "transport/aio.py", "limit_per_host=self._connections, ", ""),
    Row("connections= is kept, sync", "transport/sync.py", ', "block": True}', "}"),
    Row("first_byte is a limit of its own, sync", "transport/sync.py", "read=timeouts.first_byte)", "read=timeouts.connect)"),
    Row("a client certificate is loaded", "transport/tls.py", '(("ca", tls.ca), ("certificate", tls.certificate))', '(("ca", tls.ca),)'),
    Row("a stranger's address reaches no private network", "transport/public.py", "not address.is_global or", "False or"),
    Row("a token request is not recorded", "credentials/oauth.py", ", confidential=True", ""),
    Row("--set takes a plain text", "cli/text.py", "            chosen[name] = value", "            chosen[name] = None", "tests/cli/test_ask.py"),
    Row("a warning points at the caller", "core/warn.py", "level, frame = level + 1, frame.f_back", "break"),
    Row("what one model refuses is sent to others", "engine/provider.py", "self.state = provider.model(model.name)", 'self.state = provider.model("")'),
    Row("an unknown effort is named", "dialects/messages.py", "    if budget is None:\n", "    if False:\n"),
    Row("a call id that comes twice is renamed", "engine/call.py", "        unique_calls(messages),", "        messages,", SLOPPY),
    Row("a result has the name of the nearest call", "core/call_pairs.py", "message = replace(message, name=names", "message = replace(message, name={}", SLOPPY),
    Row("a last event counts without its line end", "dialects/streams.py", "self.feed(self.terminator) if self.terminator else []", "[]", SLOPPY),
    Row("blocks of a provider's own tools are no calls", "dialects/messages_stream.py", 'if fields.type == "tool_use":', 'if "tool_use" in (fields.type or ""):', SLOPPY),
    Row("values that ask for nothing are left out", "engine/operations/chat.py", "return is_neutral(name, value) or (name not in takes", "return (name not in takes", SLOPPY),
    Row("a list goes on to its last page", "engine/operations/listing.py", "value.more) is not None and", "value.more) is None and", SLOPPY),
    Row("a new identifier is a new call", "dialects/call_numbers.py", "begins = name is not None and bool(identifier)", "begins = False", SLOPPY),
    Row("a turn is only for its own dialect", "core/messages.py", "if turn is None or turn.dialect != dialect:", "if turn is None:", WIRE),
    Row("a message that was edited counts", "core/messages.py", "if not text.startswith(told) or len(", "if len(", WIRE),
    Row("identifiers that came twice are new in the turn, too", "core/messages.py", "_renamed(turn.blocks, renamed) if renamed else turn.blocks", "turn.blocks", TURNS),
    Row("signatures of a stream are kept", "dialects/messages_stream.py", "block.signature += delta.signature", "pass", WIRE),
    Row("a turn of several blocks is kept whole in a stream", "dialects/contents_stream.py", "self.parts.append(raw)", "pass", WIRE),
    Row("thinking that is kept nowhere is not sent without its contents", "dialects/responses.py", "if store is not False or _is_whole(item)", "", WIRE),
    Row("an unfinished turn goes on", "engine/operations/chat.py", "return bool(choices) and choices[0].finish_reason", "return False and choices[0].finish_reason", WIRE),
    Row("every reply of a turn is paid for", "core/turns.py", "if before.usage is not None:", "if False:", WIRE),
    Row("writing into the cache has a price", "core/usage.py", "(written, self.cache_write)", "(written, None)", WIRE + " tests/test_prices.py"),
    Row("a cap goes by its other name", "engine/operations/chat.py", "if name in CAPS and (other :=", "if False and (other :=", WIRE),
    Row("thinking takes no temperature", "dialects/messages.py", '        _without_thinking("temperature", parameters)', "        pass", WIRE),
    Row("the cap of the caller stays", "dialects/messages.py", "    if cap is None:\n        body", "    if True:\n        body", WIRE),
    Row("counts come only where they are wanted", "core/canonical.py", "if self._usage is not None and self._wants_usage and", "if self._usage is not None and", WIRE),
    Row("a call without arguments has an object", "core/canonical.py", "self._without_arguments[place] = None", "pass", WIRE),
    Row("foreign identifiers are mapped", "core/call_pairs.py", "if _ALLOWED.fullmatch(text):", "if text:", WIRE),
    Row("a tool that failed is told as failed", "engine/operations/tool_loop.py", "is_error=failed", "is_error=False", WIRE),
    Row("a source is told once", "dialects/contents_stream.py", "if citation not in turn.cited:", "if True:", WIRE),
    Row("blank texts are not sent", "dialects/messages.py", "not (isinstance(part, TextPart) and not part.text.strip())", "True", WIRE),
    Row("what a format adds by itself is taken back", "engine/operations/chat.py", "if refused in abilities.adds and", "if False and", WIRE),
    Row("thinking between tags is taken out in pieces", "core/tagged_reasoning.py", "keep = _beginning(thought, self._close)", "keep = 0", WIRE),
    Row("bounds that a format lacks are words", "core/schema.py", 'return (_bare(closed) if style == "bare" else closed), True', "return closed, True", "tests/core/test_schema.py tests/fill"),
    Row("a form that is refused does not stand for the next", "engine/provider.py", "return form in refused or len(refused) > 1", "return bool(refused)", "tests/fill"),
    Row("a forked process has connections of its own", "transport/sync.py", "self._pools, self._under_way, self._latest = {}, {}, {}", "self._under_way, self._latest = {}, {}", HOSTILE),
    Row("interim replies are read over", "transport/connections.py", "if not 101 < status < 200:", "if True:", HOSTILE),
    Row("a session belongs to its loop", "transport/aio.py", "if latest is not None and latest[0] is loop", "if latest is not None", HOSTILE),
    Row("a loop that is left closes its stream", "streams.py", "            except GeneratorExit:  # the loop around it was left\n                self._driver.close()\n                raise", "            except GeneratorExit:\n                raise", HOSTILE),
    Row("a request that went out is not sent again unasked", "engine/decide.py", "(after_sending or not sent)", "True", HOSTILE),
    Row("a deadline holds while a head trickles", "transport/sync.py", "number = PATROLS.watch(timeouts.total, watched.end)", "number = PATROLS.watch(1e9, watched.end)", HOSTILE),
    Row("what a provider repeats of a key is masked", "engine/attempt.py", "target.provider.masker(credential).mask_error(outcome.error)", "pass", HOSTILE),
    Row("a key that cannot be sent is told before", "credentials/credential.py", 'check_key(value, credential.found, ascii_only=way in ("bearer", "header"))', "pass", HOSTILE),
    Row("a whole reply has a cap", "engine/receive.py", "if whole and size >= limit:", "if False:", HOSTILE),
    Row("text behind a command is its data", "adopt/curl.py", 'text == "@-" or _is_cat(text)', "_is_cat(text)", "tests/adopt"),
    Row("a failed batch of texts costs only itself", "engine/operations/vectors.py", "            except AgoutiError as error:\n                self._failed(part, error)\n", "", "tests/test_embeddings.py"),
    Row("the limit of a batch is remembered", "engine/operations/vectors.py", "self._target.state.most_texts or self._most", "self._most", "tests/test_embeddings.py"),
    Row("texts that are equally near keep their order", "embeddings.py", 'numpy.argsort(-scores, kind="stable")', "numpy.argsort(scores)[::-1]", "tests/test_embeddings.py"),
    Row("vectors of two models do not compare", "embeddings.py", "other.model != self.model", "False", "tests/test_embeddings.py"),
    Row("halves of letters are refused", "form.py", "            _check_letters(value)\n", "", "tests/fill"),
    Row("numbers keep all their digits", "core/json_extract.py", "parse_float=number, ", "", "tests/fill"),
    Row("a second turn beside one is refused", "conversation.py", "if not self._lock.acquire(blocking=False):", "if not self._lock.acquire(blocking=False) and False:", "tests/test_tools.py"),
    Row("a client knows its options", "arguments.py", "if name not in OF_CALL_SET:", "if False:", "tests/test_client.py"),
    Row("a filled blank is not looked at again", "core/blanks.py", "return _pattern(tuple(values)).sub(value, text)", "return _pattern(tuple(values)).sub(value, _pattern(tuple(values)).sub(value, text))", "tests/test_personas.py"),
    Row("a blank that is missing is told before anything is sent", "calls.py", "            check_blanks(question, targets)", "            pass", "tests/test_personas.py"),
    Row("examples stand behind a leading system text", "core/prompt.py", "        before += prompt[:leads]", "        leads = 0", "tests/test_personas.py"),
    Row("a file that is torn is not written over", "conversation_files.py", 'if any(remark.startswith("line") for remark in kept.remarks):', "if False:", "tests/test_conversations.py"),
    Row("whole turns are left out", "core/window.py", "if number in starts or number == leading:", "if True:", "tests/test_conversations.py"),
    Row("a full window stays as it is for a while", "conversation_window.py", "        self._now(kept, history)", "        pass", "tests/test_conversations.py"),
    Row("a turn is on the disk before the next prompt", "cli/talking.py", "                append_turn(self._file, self._talk.messages[self._on_disk :])", "                pass", "tests/cli/test_terminal.py"),
    Row("a provider that fails hides nothing", "calls.py", "attempted(one(label), AgoutiError)", "one(label)", "tests/test_models.py"),
    Row("what the entry says of a model counts first", "model_list.py", "listed.input_price if price is None else price.input", "listed.input_price", "tests/test_models.py"),
    Row("a refused key ends a model's part", "services/compare.py", "                self._ended.add(cell.label)", "                pass", "tests/test_compare.py"),
    Row("kept answers are not asked for again", "services/compare.py", "        if kept is None:", "        if True:", "tests/test_compare.py"),
    Row("no other model takes over in a comparison", "services/compare.py", "replace(model, fallback=())", "model", "tests/test_compare.py"),
    Row("windows are sliding", "limits/schedule.py", "at = max(at, entry.counted + self.seconds)", "at = max(at, now)", "tests/limits"),
    Row("an abandoned call gives its place back", "limits/schedule.py", "                self._row.remove(ticket)", "                pass", "tests/limits"),
    Row("a request counts from the moment it goes out", "engine/watch.py", "            if sending is None:", "            if True:", "tests/limits"),
    Row("a request without a key gives its place back", "limits/hook.py", "                schedule.leave(ticket)\n\n\ndef _tokens", "                schedule.sent(ticket)\n\n\ndef _tokens", "tests/limits"),
    Row("what a request really took counts", "limits/schedule.py", "                    window.weigh(entry, tokens)", "                    pass", "tests/limits"),
    Row("sums and rows are kept together", "ledger/store.py", "            self._execute_many(_ADD, [(*key, *sums[key]) for key in sorted(sums)])", "            pass", "tests/ledger"),
    Row("a budget is reserved before anything is sent", "ledger/budgets.py", "            if cost > left:", "            if False:", "tests/ledger"),
    Row("budgets of programs are one", "ledger/store.py", "                if already + amount > int(budget.exact * PICO):", "                if already > int(budget.exact * PICO):", "tests/ledger"),
    Row("what a failed request has put aside comes back", "ledger/budgets.py", '            cost = Decimal(0) if result.outcome == "failed" else most', "            cost = most", "tests/ledger"),
    Row("whoever settles waits for whoever reserves", "ledger/postgres.py", "                    if alone:", "                    if False:", "tests/ledger/test_postgres.py"),
    Row("a password in a store is not shown", "config/singles.py", "    return f\"{scheme}://{rest.partition('?')[0].rpartition('@')[2]}\"", "    return store.reveal()", "tests/ledger/test_postgres.py"),
    Row("a ledger's connection is made anew", "ledger/postgres.py", "(database.closed and not self._within)", "False", "tests/ledger/test_postgres.py"),
    Row("programs share windows", "limits/redis_script.py", "      while list.used + weight > most[at] and list[list.first] do", "      while false do", "tests/limits/test_shared.py"),
    Row("permits of the killed come back", "limits/redis_script.py", "      if not alive(each) then redis.call('ZREM', run, each) end", "", "tests/limits/test_shared.py"),
    Row("a place that is given up is free for others", "limits/shared.py", '        self._later("leave", ticket, ticket.day)\n\n    def ended', "        pass\n\n    def ended", "tests/limits/test_shared.py"),
    Row("a shared request counts when it goes out", "limits/shared.py", "if ticket.at - ticket.counts_from > _SOON:", "if False:", "tests/limits/test_shared.py"),
    Row("a lost store is told of once", "limits/hook.py", "        if first:", "        if True:", "tests/limits/test_shared.py"),
    Row("prompts stand in no span", "telemetry.py", "    if content and isinstance", "    if isinstance", "tests/test_telemetry.py"),
    Row("the span of a call ends", "telemetry.py", "        traced.span.end()", "        pass", "tests/test_telemetry.py"),
    Row("tags of a client are in every call", "calls.py", "        if self._tags:", "        if False:", "tests/ledger/test_ledger.py"),
    Row('no row of a batch is asked twice', 'batches/work.py', 'if not whatever and (state == "done"', 'if not whatever and (state == "never"', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a batch asked otherwise is not mixed in', 'batches/results.py', 'if before is not None and before != asks and not keep:', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a changed row is asked again', 'batches/index.py', 'if before is not None and before != content:', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('two rows of one key are an error before anything is sent', 'batches/sources.py', '                _check_alone(seen, row, key)', '                pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a torn result is cut off', 'batches/results.py', '        if end < size and not self._trial:', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('the index is made anew of the results', 'batches/results.py', 'if size < end or not index.fact("whole", True) or not self._fits(index, end):', 'if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('what cannot be written is told', 'batches/results.py', '                raised.lines = (line,)', '                pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('what holds for all rows ends a batch', 'batches/work.py', '        if isinstance(came, HOLDS_FOR_ALL):', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('failures alone end a batch', 'batches/streak.py', '        return count if earliest >= self._first else 0', '        return 0', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('an outage marks no rows', 'batches/work.py', '        if idle + wait > self._settings.patience:', '        if False:', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a refusal slows a batch down', 'batches/pace.py', 'self.limit = max(int(self.limit * _STEP_BACK), 1)', 'pass', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a pace that gets no more done is not kept', 'batches/pace.py', '            self.limit = self._kept\n            self._growing', '            self._growing', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a plan changes nothing', 'batches/index.py', '"ROLLBACK" if self._trial else "COMMIT"', '"COMMIT"', 'tests/batches/test_batch.py tests/batches/test_odd_rows.py'),
    Row('a batch handed over is not handed over again', 'batches/deferred.py', '            if self._results.is_handed(unit.digest):', '            if False:', 'tests/batches/test_deferred.py'),
    Row('a batch whose name was lost is found', 'batches/deferred.py', '                self._note(replace(batch, name=found[0].name))', '                self._forget(batch)', 'tests/batches/test_deferred.py'),
    Row('other questions have other keys', 'cache/hook.py', '        same = replace(request, stream=False, parameters=parameters)', '        same = replace(request, stream=False, parameters={})', 'tests/test_cache.py'),
    Row('an answer of another place is another one', 'cache/hook.py', 'blake2b(self._place(attempt.provider) + asked', 'blake2b(asked', 'tests/test_cache.py'),
    Row('a cut answer is not kept', 'cache/hook.py', 'choice.finish_reason in _WHOLE and not choice.refusal', 'not choice.refusal', 'tests/test_cache.py'),
    Row('many who ask the same ask once', 'cache/hook.py', '                other = self._under_way.get(key)', '                other = None', 'tests/test_cache.py'),
    Row('old answers are asked again', 'cache/store.py', 'time.time() - found[0] > self._age', 'False', 'tests/test_cache.py'),
    Row('what is cached has a row', 'ledger/hook.py', '        self._writing().queue.put((row_of(result, time.time(), prompts=self._settings.prompts), []))', '        pass', 'tests/test_cache.py'),
    Row('nothing goes out of a script', 'testing/script.py', '        guarded = Guarded(network, _nothing_goes_out)', '        guarded = Guarded(network, lambda _: None)', 'tests/test_testing.py'),
    Row('an error that was caught fails the test', 'testing/network.py', '    if guard.tried:', '    if False:', 'tests/test_testing.py'),
    Row('replay asks nothing new', 'testing/network.py', '        if network is None and archive is not None:', '        if False:', 'tests/test_testing.py'),
    Row('a fork waits for SQLite', 'forking.py', '        self.condition.wait_for(lambda: self.count == 0, _PATIENCE)', '        pass', 'tests/engine/test_hooks.py'),
    Row('an archive is whole after a kill between two writes', 'transport/recorder.py', 'self._write(exchange + TAIL[:-1], size)', 'self._write(exchange + TAIL, size)', 'tests/hostile/test_archives.py'),
]  # fmt: skip


def survives(row: Row, copy: Path) -> bool:
    """Whether no test notices."""
    path = copy / "agouti" / row.file
    text = path.read_text()
    if row.before not in text:
        raise SystemExit(f"{row.file} has changed: {row.before!r} is not in it any more ({row.promise})")
    path.write_text(text.replace(row.before, row.after))
    environment = {**os.environ, "PYTHONPATH": str(copy), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", *row.tests.split()]
    try:
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, timeout=300, check=False)
    except subprocess.TimeoutExpired:
        return False  # it hangs: somebody notices
    finally:
        path.write_text(text)
    return done.returncode == 0


def main(words: list[str]) -> int:
    rows = [row for row in ROWS if not words or any(word in row.promise for word in words)]
    survivors = []
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        shutil.copytree(ROOT / "src" / "agouti", copy / "agouti", ignore=shutil.ignore_patterns("__pycache__"))
        for row in rows:
            noticed = not survives(row, copy)
            print(f"{'noticed ' if noticed else 'SURVIVES'}  {row.promise}", flush=True)
            survivors += [] if noticed else [row]
    print(f"{len(rows) - len(survivors)} of {len(rows)} noticed")
    return 1 if survivors else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
