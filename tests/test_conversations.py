"""Conversations: kept in files, forked, taken back, and fitted into the context window."""

import asyncio
import json
import os
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.core.messages.context_window import TokenRatio, fitting, turn_starts, whole_turns
from agouti.core.messages.messages import messages_of
from agouti.standins import Served
from agouti.testing import AsyncFakeTransport, FakeTransport

from .dialects.samples import data

M = agouti.Message
ENTRIES: dict[str, Any] = {
    "providers": {"shed": {"address": "http://localhost:8080/v1"}},
    "models": {
        "a": {
            "provider": "shed",
            "name": "loam-2b",
            "context": 400,
            "system": "Brief.",
            "parameters": {"max_tokens": 50},
        },
        "b": {"provider": "shed", "name": "loam-2b", "parameters": {"max_tokens": 50}},
    },
}


def answer(text: str = "In March.", tokens: int | None = None, **message: Any) -> dict[str, Any]:
    usage = {"prompt_tokens": tokens, "completion_tokens": 5} if tokens else None
    return {"choices": [{"message": {"content": text, **message}, "finish_reason": "stop"}], "usage": usage}


TOO_LONG = HttpReply(
    400, {}, b'{"error": {"code": "context_length_exceeded", "message": "maximum context length is 90"}}'
)


class Talk:
    """Turns of a conversation of either client, answered as given."""

    def __init__(self, kind: str, answers: list[Any], label: str = "a", **options: Any) -> None:
        self.fake: Any = FakeTransport(answers) if kind == "sync" else AsyncFakeTransport(answers)
        self.client: Any = (agouti.Client if kind == "sync" else agouti.AsyncClient)(ENTRIES, transport=self.fake)
        self.talk = self.client.conversation(label, **options)
        self.kind = kind

    def say(self, text: str, **options: Any) -> agouti.Reply:
        said = self.talk.say(text, **options)
        reply: agouti.Reply = said if self.kind == "sync" else asyncio.run(said)
        return reply

    def sent(self, number: int = -1) -> list[str]:
        body = json.loads(self.fake.requests[number].body)
        return [f"{each['role']}: {each['content']}"[:24] for each in body["messages"]]


kinds = pytest.mark.parametrize("kind", ["sync", "async"])


@kinds
def test_saved_and_resumed(kind: str, tmp_path: Path) -> None:
    call = {"id": "c1", "type": "function", "function": {"name": "frost", "arguments": "{}"}}
    one = Talk(kind, [answer("", tool_calls=[call]), answer()], tools=[frost], system="Kindly.", temperature=0, seed=7)
    one.say("Frost?", images=[b"\x89PNG\r\n\x1a\n" + bytes(8)])
    path = tmp_path / "talk.jsonl"
    one.talk.save(path)
    header = json.loads(path.read_text().splitlines()[0])
    settings = {"system": "Kindly.", "temperature": 0, "seed": 7}
    assert header == {"conversation": {"version": 1, "label": "a", "settings": settings}}
    two = Talk(kind, [answer()], "b", messages=path, seed=8)
    assert two.talk.messages == one.talk.messages
    two.say("And now?")
    body = json.loads(two.fake.requests[0].body)
    assert (body["temperature"], body["seed"], body["messages"][0]["content"]) == (0, 8, "Kindly.")
    two.talk.save(path)
    assert len(path.read_text().splitlines()) == 1 + 4 + 2


def test_a_file_has_nothing_secret_and_nothing_of_where_requests_go(tmp_path: Path) -> None:
    """Of the options of a conversation only what turns to come are asked with."""
    secret = {"x-user": agouti.Secret("marked-secret"), "x-app": "marked-app"}
    options: dict[str, Any] = {"headers": secret, "tags": {"user": "marked-user"}, "deadline": 77.25, "tools": [frost]}
    one = Talk("sync", [answer()], system="Kindly.", **options)
    one.say("Peas?")
    one.talk.save(tmp_path / "talk.jsonl")
    text = (tmp_path / "talk.jsonl").read_text()
    assert "Kindly." in text
    assert not [word for word in ("marked", "frost", "77.25", "headers", "tools") if word in text]


def frost() -> int:
    """Days to the last frost."""
    return 17


def test_everything_of_a_message_survives_a_file(tmp_path: Path) -> None:
    turn = agouti.ProviderTurn("d", [{"type": "thinking", "signature": "s"}])
    before = [
        M("system", "S\u2028é"),
        M("user", [{"type": "text", "text": "x\n"}, {"type": "image_url", "image_url": {"url": "data:,"}}], name="bo"),
        M("assistant", "yes", provider_turn=turn, extra={"own": {"a": None}}),
        M("tool", "no", tool_call_id="1", is_error=True),
    ]
    talk = agouti.Client(ENTRIES).conversation("a", messages=[*before[:3], *with_call(before[3])])
    talk.save(tmp_path / "t")
    assert agouti.Client(ENTRIES).conversation("a", messages=tmp_path / "t").messages == talk.messages


CALLING: dict[str, Any] = {"id": "1", "type": "function", "function": {"name": "f", "arguments": "{}"}}


def with_call(result: agouti.Message) -> list[agouti.Message]:
    asking = {"role": "assistant", "content": None, "tool_calls": [CALLING]}
    asked = messages_of([{"role": "user", "content": "f?"}, asking])
    return [*asked, result, M("assistant", "!")]


GOOD = ['{"role": "user", "content": "Peas?"}', '{"role": "assistant", "content": "In March."}']
CALL = json.dumps({"role": "assistant", "content": None, "tool_calls": [CALLING]})


@pytest.mark.parametrize(
    ("lines", "kept", "remarks"),
    [
        ([*GOOD, '{"role": "user", "con'], 2, ["line 3 of FILE is no JSON"]),
        (
            [GOOD[0], "[1]", GOOD[1], '{"role": "grower", "content": "x"}', *GOOD],
            4,
            ["line 2 of FILE is no message", "line 4"],
        ),
        (['{"conversation": {"label": "a"}}', *GOOD, GOOD[0]], 2, ["the last turn of FILE has no answer"]),
        ([*GOOD, GOOD[0], CALL, '{"role": "tool", "tool_call'], 2, ["line 5", "1 tool messages", "the last turn"]),
        ([*GOOD, GOOD[0]], 3, []),  # somebody's own file may end as it likes
        (["\ufeff" + GOOD[0], "", GOOD[1] + "\r"], 2, []),
        (['{"conversation": {"settings": {"headers": {"x": "y"}, "tools": ["m:f"], "seed": 3}}}', *GOOD], 2, []),
        ([], 0, []),
        (['{"conversation": {"settings": {"temperature": "hot"}}}', *GOOD], 2, ["the settings of FILE cannot be used"]),
    ],
)
def test_broken_files_name_the_line_and_keep_the_rest(
    tmp_path: Path, lines: list[str], kept: int, remarks: list[str], recwarn: pytest.WarningsRecorder
) -> None:
    import warnings

    path = tmp_path / "FILE"
    path.write_text("\n".join(lines))
    fake = FakeTransport([answer()])
    with warnings.catch_warnings(record=True) as caught, agouti.Client(ENTRIES, transport=fake) as client:
        warnings.simplefilter("always")
        talk = client.conversation("a", messages="FILE")
        talk.say("Beans?")
    assert len(talk.messages) == kept + 2
    assert [str(each.message) for each in caught] == list(talk.warnings)
    assert len(talk.warnings) == len(remarks)
    assert all(given in said for given, said in zip(remarks, talk.warnings, strict=True))
    assert "x" not in fake.requests[0].headers
    if any("line" in remark for remark in remarks):
        # What could not be read is not written over.
        with pytest.raises(agouti.RequestError, match="would be lost"):
            talk.save(path)
        assert path.read_text() == "\n".join(lines)


@pytest.mark.parametrize(
    ("messages", "what"),
    [("nowhere.jsonl", "cannot be read"), (".", "cannot be read"), ("other.txt", "is no conversation: line 1")],
)
def test_files_that_are_no_conversation(tmp_path: Path, messages: str, what: str) -> None:
    (tmp_path / "other.txt").write_text("Dear Bo,\n")
    with agouti.Client(ENTRIES) as client:
        with pytest.raises(agouti.RequestError, match=what):
            client.conversation("a", messages=messages)
        talk = client.conversation("a", messages=[{"role": "user", "content": "x"}])
        for path in ("nowhere/t", ".", "other.txt"):
            with pytest.raises(agouti.RequestError):
                talk.save(path)
    assert (tmp_path / "other.txt").read_text() == "Dear Bo,\n"
    assert sorted(os.listdir(tmp_path)) == ["other.txt"]


@kinds
def test_forks_and_turns_taken_back(kind: str) -> None:
    one = Talk(kind, [answer(), answer("Both."), answer("Left."), answer("Again.")])
    one.say("Peas?")
    one.say("Beans?")
    other = one.talk.fork()
    assert (other.messages, other.replies) == (one.talk.messages, [])
    assert [each.content for each in other.undo()] == ["Beans?", "Both."]
    assert len(one.talk.messages) == 4
    one.talk, kept = other, one.talk
    one.say("Kale?")
    assert one.sent() == ["system: Brief.", "user: Peas?", "assistant: In March.", "user: Kale?"]
    assert [each.content for each in kept.messages[2:]] == ["Beans?", "Both."]
    assert [len(other.undo()), len(other.undo()), other.undo(), other.messages] == [2, 2, [], []]
    assert len(other.replies) == 1


@kinds
def test_full_windows_drop_whole_turns_and_stay_as_they_are_for_a_while(kind: str) -> None:
    words = "Sow the beans in rows, two inches deep. " * 2
    talk = Talk(kind, [answer(words, 40 + 22 * n) for n in range(12)], on_overflow="drop_oldest")
    first: list[str] = []
    for number in range(12):
        talk.say(f"{number} {words}")
        first.append(talk.sent()[1])
        assert talk.sent()[0] == "system: Brief."
        assert talk.sent()[1].startswith("user")
    assert len(talk.talk.messages) == 24
    assert 0 < len(set(first)) - 1 < 6  # it does not move with every turn
    assert talk.talk.dropped == talk.talk.messages[: len(talk.talk.dropped)] != []


@kinds
def test_a_window_that_only_the_provider_knows(kind: str) -> None:
    history = [M(role, "word " * 30) for role in ("user", "assistant") * 4]
    talk = Talk(kind, [TOO_LONG, TOO_LONG, answer(), answer()], "b", messages=history, on_overflow="drop_oldest")
    talk.say("Peas?")
    lengths = [len(talk.sent(number)) for number in range(3)]
    assert lengths[0] == 9 > lengths[1] > lengths[2]
    talk.say("Beans?")
    assert len(talk.sent()) <= lengths[2] + 2
    assert len(talk.talk.messages) == 12
    alone = Talk(kind, [TOO_LONG], "b", on_overflow="drop_oldest")
    with pytest.raises(agouti.ContextOverflow):
        alone.say("Peas?")


@kinds
@pytest.mark.parametrize("fit", ["error", "drop_oldest"])
def test_what_cannot_fit_is_not_sent(kind: str, fit: Any) -> None:
    history = [M(role, "word " * 200) for role in ("user", "assistant")]
    talk = Talk(kind, [answer()], messages=history, on_overflow=fit)
    with pytest.raises(agouti.ContextOverflow, match="the context window has 400"):
        talk.say("Peas?" if fit == "error" else "word " * 600)
    assert (talk.fake.requests, len(talk.talk.messages)) == ([], 2)
    with pytest.raises(agouti.RequestError, match="on_overflow = 'shrink'"):
        Talk(kind, [], on_overflow="shrink")


@kinds
def test_a_function_makes_room(kind: str) -> None:
    rooms: list[int] = []

    def shorter(messages: list[agouti.Message], room: int) -> list[Any]:
        rooms.append(room)
        return [{"role": "user", "content": f"{len(messages)} messages"}, M("assistant", "Yes.")]

    async def awaited(messages: list[agouti.Message], room: int) -> list[Any]:
        return shorter(messages, room)

    history = [M(role, "word " * 100) for role in ("user", "assistant") * 2]
    talk = Talk(kind, [answer(), answer()], messages=history, on_overflow=shorter if kind == "sync" else awaited)
    for _ in range(2):
        talk.say("Peas?")
    assert talk.sent()[1:] == [
        "user: 4 messages",
        "assistant: Yes.",
        "user: Peas?",
        "assistant: In March.",
        "user: Peas?",
    ]
    assert len(rooms) == 1
    assert 0 < rooms[0] < 350
    assert talk.talk.dropped == history


@kinds
@pytest.mark.parametrize("given", [None, "shorter", {"role": "user"}, [3]])
def test_a_function_that_gives_no_messages(kind: str, given: Any) -> None:
    history = [M(role, "word " * 100) for role in ("user", "assistant") * 2]
    talk = Talk(kind, [answer()], messages=history, on_overflow=lambda messages, room: given)
    with pytest.raises(agouti.RequestError):
        talk.say("Peas?")
    assert (talk.talk.messages, talk.fake.requests) == (history, [])


@kinds
def test_a_stream_that_is_too_long_is_asked_again_only_before_its_first_piece(kind: str) -> None:
    history = [M(role, "word " * 30) for role in ("user", "assistant") * 2]
    piece = data({"choices": [{"delta": {"content": "In "}}]})
    late = [piece, data({"error": {"code": "context_length_exceeded", "message": "too long"}})]
    talk = Talk(kind, [TOO_LONG, late], "b", messages=history, on_overflow="drop_oldest")

    def run() -> None:
        with talk.talk.stream("Peas?") as stream:
            list(stream)

    async def run_async() -> None:
        async with talk.talk.stream("Peas?") as stream:
            [_ async for _ in stream]

    with pytest.raises(agouti.AgoutiError) as caught:
        run() if kind == "sync" else asyncio.run(run_async())
    assert (len(talk.fake.requests), caught.value.partial.text) == (2, "In ")
    assert talk.talk.keep_partial().text == "In "


_MESSAGES = st.lists(
    st.sampled_from(
        [
            M("user", "word " * 9),
            M("assistant", "word " * 30),
            *with_call(M("tool", "17", tool_call_id="1"))[1:3],
            M("system", "s"),
        ]
    ),
    max_size=12,
)


@given(_MESSAGES, st.integers(-50, 400))
def test_what_fits_is_whole_turns_from_the_end(messages: list[agouti.Message], room: int) -> None:
    messages = whole_turns(messages)[0]
    assert whole_turns(messages) == (messages, 0)
    kept = fitting(messages, TokenRatio(), room)
    leading = next((n for n, each in enumerate(messages) if each.role != "system"), len(messages))
    assert kept[:leading] == messages[:leading]
    rest = kept[leading:]
    assert rest == messages[len(messages) - len(rest) :]
    assert not rest or len(messages) - len(rest) in (*turn_starts(messages), leading)
    assert whole_turns(kept) == (kept, 0)


def test_counts_are_learned_from_what_the_provider_reports(served: Served) -> None:
    with agouti.Client(served.config) as client:
        before = client.count("almanac-local", "Peas? " * 50).tokens
        talk = client.conversation("almanac-local", on_overflow="drop_oldest")
        for _ in range(3):
            told = talk.say("Peas? " * 50).usage.input_tokens
        assert told
        assert before != client.count("almanac-local", "Peas? " * 50).tokens


@kinds
@pytest.mark.parametrize("how", ["edited", "undone", "replaced"])
def test_what_is_sent_is_made_of_the_messages_as_they_are_now(kind: str, how: str) -> None:
    """Also where a window was full before, and the list is the application's own to change."""
    talk = Talk(kind, [answer() for _ in range(20)], on_overflow="drop_oldest")
    for number in range(10):
        talk.say(f"hunter{number} " + "word " * 40)
    assert talk.talk.dropped
    if how == "edited":
        talk.talk.messages[:] = [
            M(each.role, str(each.content).replace("hunter", "XXX")) for each in talk.talk.messages
        ]
    elif how == "undone":
        for _ in range(3):
            talk.talk.undo()
        talk.talk.messages += [M("user", "XXX imported"), M("assistant", "Yes.")]
    else:
        talk.talk.messages[:] = [M("user", "XXX new"), M("assistant", "Yes.")]
    talk.say("And now?")
    sent = talk.sent()
    assert not any("hunter9" in each or "hunter8" in each for each in sent)
    assert any("XXX" in each for each in sent)
    assert how == "undone" or not any("hunter" in each for each in sent)
    here = [id(each) for each in talk.talk.messages]
    assert all(id(each) in here for each in talk.talk.dropped)


@kinds
def test_a_fork_has_a_window_of_its_own(kind: str) -> None:
    one = Talk(kind, [answer() for _ in range(30)], on_overflow="drop_oldest")
    one.say("Peas?")
    kept, other = one.talk, one.talk.fork()
    one.talk = other
    for number in range(10):
        one.say(f"{number} " + "word " * 40)
    assert other.dropped
    assert kept.dropped == []
    one.talk = kept
    one.say("Beans?")
    assert one.sent()[1:] == ["user: Peas?", "assistant: In March.", "user: Beans?"]


def test_calls_without_all_of_their_results_are_left_out_of_a_file(tmp_path: Path) -> None:
    calls = [
        {"id": name, "type": "function", "function": {"name": "frost", "arguments": "{}"}} for name in ("c1", "c2")
    ]
    lines = [
        {"role": "user", "content": "Frost?"},
        {"role": "assistant", "content": None, "tool_calls": calls},
        {"role": "tool", "tool_call_id": "c1", "content": "no"},
        {"role": "assistant", "content": "No."},
    ]
    (tmp_path / "talk.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))
    with pytest.warns(agouti.AgoutiWarning, match="lost their other half"):
        talk = Talk("sync", [answer()], messages=tmp_path / "talk.jsonl")
    talk.say("And peas?")
    assert [each["role"] for each in json.loads(talk.fake.requests[0].body)["messages"]] == [
        "system", "user", "assistant", "user"
    ]  # fmt: skip


def test_a_turn_is_on_the_disk_itself_or_not_in_the_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from agouti.conversations.files import append_turn, header_line

    path = tmp_path / "talk.jsonl"
    path.write_bytes(header_line("a", {}))
    synced: list[int] = []
    monkeypatch.setattr(os, "fsync", synced.append)
    append_turn(path, [M("user", "Peas?"), M("assistant", "In March.")])
    assert len(synced) == 1
    before = path.read_bytes()

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(agouti.RequestError, match="No space left"):
        append_turn(path, [M("user", "Beans?"), M("assistant", "In May.")])
    assert path.read_bytes() == before
