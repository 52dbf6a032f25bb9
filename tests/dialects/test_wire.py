"""What goes out and what comes back, format by format: turns of the provider's own, media, marks, sources, ends."""

import asyncio
import base64
import json
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.testing import AsyncFakeTransport, FakeTransport

from .samples import data, named
from .test_sloppy import client, streamed

OPEN = {"tools": [{"type": "function", "function": {"name": "f", "parameters": {"type": "object"}}}]}
GIF = "data:image/gif;base64,R0lGODlh"
PDF = base64.b64encode(b"%PDF-1.7 peas").decode()


def sent(asked: agouti.Client, number: int = 0) -> Any:
    fake = asked._transport
    assert isinstance(fake, FakeTransport)
    return json.loads(fake.requests[number].body or b"null")


def f(**_: Any) -> int:
    return 17


FUNCTION = agouti.Tool(name="f", parameters={"type": "object"}, function=f)

# What a provider says in a turn beside text and calls, and where it stands in the next request.
MESSAGES = [
    {"type": "thinking", "thinking": "Hm", "signature": "SIG", "x": [1]},
    {"type": "redacted_thinking", "data": "ZZ"},
    {"type": "text", "text": "\n\n"},
    {"type": "server_tool_use", "id": "s1", "name": "search", "input": {"query": "frost"}},
    {"type": "search_result", "tool_use_id": "s1", "content": [{"url": "https://a.example", "encrypted": "EE"}]},
    {"type": "text", "text": "So.", "citations": [{"type": "web", "url": "https://a.example", "index": "II"}]},
    {"type": "tool_use", "id": "t1", "name": "f", "input": {}, "caller": {"type": "direct"}},
]
PARTS = [
    {"text": "Hm", "thought": True},
    {"text": "So.", "thoughtSignature": "SIG0"},
    {"executableCode": {"language": "PYTHON", "code": "1"}},
    {"functionCall": {"name": "f", "args": {}, "id": "g1"}, "thoughtSignature": "SIG1"},
]
BLOCKS = [
    {"reasoningContent": {"reasoningText": {"text": "Hm", "signature": "SIG"}}},
    {"reasoningContent": {"redactedContent": "ZZ"}},
    {"text": "So."},
    {"toolUse": {"toolUseId": "t1", "name": "f", "input": {}}},
]
ITEMS = [
    {"type": "reasoning", "id": "r1", "summary": [{"type": "summary_text", "text": "Hm"}], "encrypted_content": "EE"},
    {"type": "search_call", "id": "w1", "status": "completed", "action": {"query": "frost"}},
    {"type": "message", "id": "m1", "role": "assistant", "content": [{"type": "output_text", "text": "So."}]},
    {"type": "function_call", "id": "f1", "call_id": "t1", "name": "f", "arguments": "{}", "status": "completed"},
]
CHAT = {
    "role": "assistant",
    "content": "So.",
    "reasoning_content": "Hm",
    "reasoning_details": [{"type": "text", "text": "Hm", "signature": "SIG"}],
    "tool_calls": [
        {"id": "t1", "type": "function", "function": {"name": "f", "arguments": "{}"}, "extra_content": {"sig": "S"}}
    ],
}
TURNS: dict[str, tuple[dict[str, Any], dict[str, Any], Any]] = {
    "messages": (
        {"content": MESSAGES, "stop_reason": "tool_use"},
        {"content": [{"type": "text", "text": "17."}], "stop_reason": "end_turn"},
        lambda body: body["messages"][1]["content"],
    ),
    "contents": (
        {"candidates": [{"content": {"parts": PARTS}, "finishReason": "STOP"}]},
        {"candidates": [{"content": {"parts": [{"text": "17."}]}, "finishReason": "STOP"}]},
        lambda body: body["contents"][1]["parts"],
    ),
    "converse": (
        {"output": {"message": {"content": BLOCKS}}, "stopReason": "tool_use"},
        {"output": {"message": {"content": [{"text": "17."}]}}, "stopReason": "end_turn"},
        lambda body: body["messages"][1]["content"],
    ),
    "responses": (
        {"status": "completed", "output": ITEMS},
        {"status": "completed", "output": [{"type": "message", "content": [{"type": "output_text", "text": "17."}]}]},
        lambda body: body["input"][1:-1],
    ),
    "chat": (
        {"choices": [{"message": CHAT, "finish_reason": "tool_calls"}]},
        {"choices": [{"message": {"content": "17."}, "finish_reason": "stop"}]},
        lambda body: body["messages"][1],
    ),
}
# Empty and blank texts are refused on the way back.
EXPECTED = {
    "messages": [block for block in MESSAGES if block.get("text") != "\n\n"],
    "contents": PARTS,
    "converse": BLOCKS,
    "responses": ITEMS,
    "chat": CHAT,
}


@pytest.mark.parametrize("way", ["ask", "conversation", "exchange", "fill"])
@pytest.mark.parametrize("dialect", TURNS)
def test_turn_goes_back_word_for_word(dialect: str, way: str) -> None:
    first, second, turn = TURNS[dialect]
    with client(dialect, first, second, second) as asked:
        if way == "ask":
            assert asked.ask("m@p", "Q", tools=[FUNCTION], run_tools=True).text == "17."
        elif way == "conversation":
            assert asked.conversation("m@p", tools=[FUNCTION]).say("Q").text == "17."
        elif way == "fill":
            with pytest.raises(agouti.NotFilled):
                asked.fill("m@p", dict[str, int], "Q", output_method="tool")
        else:
            messages: list[dict[str, Any]] = [{"role": "user", "content": "Q"}]
            message = asked.exchange({"model": "m@p", "messages": messages, **OPEN})["choices"][0]["message"]
            answer = {"role": "tool", "tool_call_id": message["tool_calls"][0]["id"], "content": "17"}
            asked.exchange({"model": "m@p", "messages": [*messages, message, answer], **OPEN})
        assert turn(sent(asked, 1)) == EXPECTED[dialect]


@pytest.mark.parametrize("other", TURNS)
@pytest.mark.parametrize("dialect", TURNS)
def test_turn_is_for_its_own_dialect_and_for_messages_that_were_not_edited(dialect: str, other: str) -> None:
    with client(dialect, TURNS[dialect][0]) as asked:
        talk = asked.conversation("m@p", tools=[OPEN["tools"][0]])
        talk.say("Q")
    answer = agouti.Message("tool", "17", tool_call_id=talk.messages[1].tool_calls[0].id)
    edited = agouti.Message(
        "assistant", "Never.", tool_calls=talk.messages[1].tool_calls, provider_turn=talk.messages[1].provider_turn
    )
    for message in (talk.messages[1], edited):
        with client(other, TURNS[other][1]) as asked:
            asked.ask("m@p", [talk.messages[0], message, answer, agouti.Message("user", "And?")], tools=OPEN["tools"])
            body = json.dumps(sent(asked))
        foreign = other != dialect or (message is edited and dialect != "chat")
        assert ("SIG" in body or '"EE"' in body) != foreign
        assert ("Hm" in body) != foreign
        assert "provider_turn" not in body
        assert ("Never." if message is edited else "So.") in body


STREAMED = [
    ("messages", named(
        {"type": "message_start", "message": {"model": "m"}},
        *[event for index, block in enumerate(MESSAGES) for event in (
            {"type": "content_block_start", "index": index, "content_block": {**block, **{
                name: "" for name in ("thinking", "signature", "text") if name in block}, **({"input": {}} if "input" in block else {}), **({"citations": []} if "citations" in block else {})}},
            *([{"type": "content_block_delta", "index": index, "delta": {"type": "thinking_delta", "thinking": "H"}},
               {"type": "content_block_delta", "index": index, "delta": {"type": "thinking_delta", "thinking": "m"}},
               {"type": "content_block_delta", "index": index, "delta": {"type": "signature_delta", "signature": "SIG"}}] if "thinking" in block else []),
            *([{"type": "content_block_delta", "index": index, "delta": {"type": "input_json_delta", "partial_json": piece}} for piece in ('{"query"', ': "frost"}')] if block.get("input") else []),
            *([{"type": "content_block_delta", "index": index, "delta": {"type": "text_delta", "text": block["text"]}}] if "text" in block else []),
            *([{"type": "content_block_delta", "index": index, "delta": {"type": "citations_delta", "citation": block["citations"][0]}}] if "citations" in block else []),
            {"type": "content_block_stop", "index": index})],
        {"type": "message_delta", "delta": {"stop_reason": "tool_use"}}, {"type": "message_stop"}), MESSAGES),
    ("contents", data(*[{"candidates": [{"content": {"parts": [part]}}]} for part in PARTS], {"candidates": [{"finishReason": "STOP"}]}), PARTS),
    ("responses", named({"type": "response.created", "response": {"model": "m"}},
        *[{"type": "response.output_item.done", "output_index": index, "item": item} for index, item in enumerate(ITEMS)],
        {"type": "response.completed", "response": {"status": "completed", "output": []}}), ITEMS),
    ("chat", data({"choices": [{"delta": {"reasoning_content": "H", "reasoning_details": [{"type": "text", "text": "H", "index": 0}]}}]},
        {"choices": [{"delta": {"reasoning_content": "m", "reasoning_details": [{"type": "text", "text": "m", "index": 0}]}}]},
        {"choices": [{"delta": {"reasoning_details": [{"type": "text", "signature": "SIG", "index": 0}], "content": "So."}}]},
        {"choices": [{"delta": {}, "finish_reason": "stop"}]}),
     [{"reasoning_content": "Hm", "reasoning_details": [{"type": "text", "text": "Hm", "index": 0, "signature": "SIG"}]}]),
    ("lines", b'{"message":{"thinking":"H"}}\n{"message":{"thinking":"m"}}\n{"message":{"content":"So."},"done":true}\n', [{"thinking": "Hm"}]),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "body", "blocks"), STREAMED, ids=[row[0] for row in STREAMED])
def test_turn_of_a_stream_is_that_of_a_whole_reply(dialect: str, body: bytes, blocks: Any) -> None:
    reply = streamed(dialect, body)
    turn = reply.first.provider_turn
    assert turn is not None
    assert (turn.dialect, turn.blocks) == (dialect, blocks)
    assert reply.reasoning == "Hm"
    assert [call.name for call in reply.calls] == (["f"] if dialect in ("messages", "contents", "responses") else [])
    with client(dialect, [body]) as asked:
        chunks = list(asked.exchange_stream({"model": "m@p", "messages": [{"role": "user", "content": "Q"}]}))
    turns = [delta["provider_turn"] for chunk in chunks if "provider_turn" in (delta := chunk["choices"][0]["delta"])]
    # The canonical form has its own fields for it.
    assert turns == ([] if dialect == "chat" else [{"dialect": dialect, "blocks": blocks}])


def test_broken_turn_is_said() -> None:
    wrong = {"role": "assistant", "content": "x", "provider_turn": {"dialect": "messages"}}
    with client("messages") as asked, pytest.raises(agouti.RequestError, match="provider_turn"):
        asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}, wrong]})


PAUSED = {
    "content": [*MESSAGES[3:5], {"type": "text", "text": "It is "}],
    "stop_reason": "pause_turn",
    "usage": {"input_tokens": 5, "output_tokens": 2},
}
ENDED = {
    "content": [{"type": "text", "text": "May."}],
    "stop_reason": "end_turn",
    "usage": {"input_tokens": 9, "output_tokens": 3},
}
PAUSED_STREAM = named(
    {"type": "message_start", "message": {"model": "m", "usage": {"input_tokens": 5}}},
    *[event for index, block in enumerate(PAUSED["content"]) for event in (
        {"type": "content_block_start", "index": index, "content_block": block}, {"type": "content_block_stop", "index": index})],
    {"type": "message_delta", "delta": {"stop_reason": "pause_turn"}, "usage": {"output_tokens": 2}}, {"type": "message_stop"})  # fmt: skip
ENDED_STREAM = named(
    {"type": "message_start", "message": {"model": "m", "usage": {"input_tokens": 9}}},
    {"type": "content_block_start", "index": 0, "content_block": ENDED["content"][0]},
    {"type": "message_delta", "delta": {"stop_reason": "end_turn"}, "usage": {"output_tokens": 3}}, {"type": "message_stop"})  # fmt: skip
SEARCH = {"type": "search_1", "name": "search", "max_uses": 3}


def test_tools_in_two_places_are_said() -> None:
    with client("messages") as asked, pytest.raises(agouti.RequestError, match="both in tools and in extra"):
        asked.ask("m@p", "Q", tools=[FUNCTION], extra={"tools": [SEARCH]})


def test_unfinished_turn_is_sent_on_as_it_stands() -> None:
    with client("messages", PAUSED, ENDED) as asked:
        reply = asked.ask("m@p", "Q", tools=[SEARCH, FUNCTION], run_tools=True)
        assert (reply.text, reply.finish_reason) == ("It is May.", "stop")
        assert (reply.usage.input_tokens, reply.usage.output_tokens, len(reply.attempts)) == (14, 5, 2)
        assert sent(asked, 1)["messages"][1:] == [{"role": "assistant", "content": PAUSED["content"]}]
        assert sent(asked, 1)["tools"][0] == SEARCH
    with client("messages", [PAUSED_STREAM], [ENDED_STREAM]) as asked, asked.stream("m@p", "Q") as stream:
        assert "".join(stream) == stream.reply.text == "It is May."
        assert stream.reply.usage.total_tokens == 19
    with client("messages", [PAUSED_STREAM], [ENDED_STREAM]) as asked:
        chunks = list(asked.exchange_stream({"model": "m@p", "messages": [{"role": "user", "content": "Q"}]}))
        assert [each for chunk in chunks if (each := chunk["choices"][0]["finish_reason"])] == ["stop"]
    # What both replies said goes back as one turn.
    with client("messages", PAUSED, ENDED, ENDED) as asked:
        talk = asked.conversation("m@p", tools=[SEARCH])
        talk.say("Q")
        talk.say("And?")
        blocks = sent(asked, 2)["messages"][1]["content"]
        assert blocks[:3] == PAUSED["content"]
        assert blocks[3:] == ENDED["content"]


@pytest.mark.parametrize("dialect", ["chat", "responses", "messages", "contents", "converse"])
def test_files_go_where_the_format_has_them(dialect: str) -> None:
    files = [agouti.File(b"%PDF-1.7 peas", name="list.pdf"), agouti.File(b"Peas.", name="notes.txt")]
    with client(dialect, TURNS[dialect][1]) as asked:
        asked.ask("m@p", "What is in it?", files=files)
        body = json.dumps(sent(asked))
    assert PDF in body
    assert "Peas." in body or base64.b64encode(b"Peas.").decode() in body
    where = {
        "chat": '{"type": "file", "file": {"filename": "list.pdf", "file_data": "data:application/pdf;base64,',
        "responses": '{"type": "input_file", "filename": "list.pdf", "file_data": "data:application/pdf;base64,',
        "messages": '{"type": "document", "source": {"type": "base64", "media_type": "application/pdf", "data": "',
        "contents": '{"inlineData": {"mimeType": "application/pdf", "data": "',
        "converse": '{"document": {"format": "pdf", "name": "list", "source": {"bytes": "',
    }
    assert where[dialect] in body


def test_files_that_a_format_lacks_are_words_or_an_error() -> None:
    line = {"message": {"content": "x"}, "done": True}
    with client("lines", line, line) as asked:
        asked.ask("m@p", "Q", files=agouti.File(b"Peas.", name="notes.txt"))
        assert "notes.txt:\nPeas." in sent(asked)["messages"][0]["content"]
        for wrong in (agouti.File(b"%PDF-1.7"), agouti.Audio(b"RIFF....WAVE")):
            with pytest.raises(agouti.RequestError, match="takes no"):
                asked.ask("m@p", "Q", files=[wrong])
        with pytest.raises(agouti.RequestError, match="by their address"):
            asked.ask("m@p", "Q", files="https://a.example/list.pdf")


def test_audio_goes_in_and_comes_out(tmp_path: Any) -> None:
    sound = base64.b64encode(b"RIFF....WAVE").decode()
    with client("contents", TURNS["contents"][1]) as asked:
        asked.ask("m@p", ["What do you hear?", agouti.Audio(b"RIFF....WAVE")])
        assert sent(asked)["contents"][0]["parts"][1] == {"inlineData": {"mimeType": "audio/wav", "data": sound}}
    path = tmp_path / "song.wav"
    path.write_bytes(b"RIFF....WAVE")
    spoken = {
        "choices": [
            {
                "message": {"content": None, "audio": {"id": "au1", "data": sound, "transcript": "Peas."}},
                "finish_reason": "stop",
            }
        ]
    }
    with client("chat", spoken, spoken) as asked:
        talk = asked.conversation("m@p", modalities=["text", "audio"], audio={"voice": "wren", "format": "wav"})
        reply = talk.say("Say it.", files=path)
        assert sent(asked)["messages"][0]["content"][0] == {
            "type": "input_audio",
            "input_audio": {"data": sound, "format": "wav"},
        }
        assert reply.text == "Peas."
        (file,) = reply.files
        saved = [file.save(tmp_path), file.save(tmp_path)]
        assert [each.name for each in saved] == ["answer-1.wav", "answer-1-2.wav"]
        assert saved[0].read_bytes() == b"RIFF....WAVE"
        talk.say("Again.")
        assert sent(asked, 1)["messages"][1] == {"role": "assistant", "content": "Peas.", "audio": {"id": "au1"}}


PICTURES: list[tuple[str, dict[str, Any]]] = [
    ("chat", {"choices": [{"message": {"content": "x", "images": [{"type": "image_url", "image_url": {"url": GIF}}]}}]}),
    ("contents", {"candidates": [{"content": {"parts": [{"text": "x"}, {"inlineData": {"mimeType": "image/gif", "data": "R0lGODlh"}}]}}]}),
    ("responses", {"status": "completed", "output": [{"type": "image_generation_call", "result": "R0lGODlh", "output_format": "gif"}]}),
    ("converse", {"output": {"message": {"content": [{"image": {"format": "gif", "source": {"bytes": "R0lGODlh"}}}]}}}),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "answer"), PICTURES, ids=[row[0] for row in PICTURES])
def test_pictures_of_a_reply_are_its_files(dialect: str, answer: Any) -> None:
    with client(dialect, answer, answer) as asked:
        (file,) = asked.ask("m@p", "Draw.").files
        assert (file.media_type, file.data) == ("image/gif", b"GIF89a"[:0] + base64.b64decode("R0lGODlh"))
        message = asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Draw."}]})["choices"][0][
            "message"
        ]
        assert message["images"][0]["image_url"]["url"] == GIF


MARKED = [{"type": "text", "text": "Long.", "cache_control": {"type": "ephemeral"}}]


def test_prompt_cache_marks_go_where_the_format_has_them() -> None:
    tool = {**OPEN["tools"][0], "cache_control": {"type": "ephemeral"}}
    prompt = [
        {"role": "system", "content": MARKED},
        {"role": "user", "content": [*MARKED, {"type": "text", "text": "Q"}]},
    ]
    with client("messages", TURNS["messages"][1], TURNS["messages"][1]) as asked:
        asked.ask("m@p", prompt, tools=[tool], run_tools=True)
        body = sent(asked)
        assert body["system"] == body["messages"][0]["content"][:1] == MARKED
        assert body["tools"][0]["cache_control"] == {"type": "ephemeral"}
    with client("converse", TURNS["converse"][1]) as asked:
        asked.ask("m@p", prompt, tools=[tool])
        body, point = sent(asked), {"cachePoint": {"type": "default"}}
        assert body["system"] == [{"text": "Long."}, point]
        assert body["messages"][0]["content"] == [{"text": "Long."}, point, {"text": "Q"}]
        assert body["toolConfig"]["tools"][1] == point
    with client("contents", TURNS["contents"][1]) as asked:
        asked.ask("m@p", prompt, tools=[tool])
        assert "cache" not in json.dumps(sent(asked))


def test_cache_writes_have_a_count_and_a_price() -> None:
    price = {"input": 1.0, "output": 0.0, "cached_input": 0.1, "cache_write": 1.25, "currency": "USD"}
    entry = {
        "providers": {"p": {"address": "https://p.example/v1", "dialect": "messages"}},
        "models": {"m": {"provider": "p", "name": "m", "price": price}},
    }
    usage = {
        "input_tokens": 100,
        "output_tokens": 1,
        "cache_read_input_tokens": 1000,
        "cache_creation_input_tokens": 2000,
    }
    with agouti.Client(entry, transport=FakeTransport([{**ENDED, "usage": usage}])) as asked:
        reply = asked.ask("m", "Q")
    assert (reply.usage.input_tokens, reply.usage.cached_tokens, reply.usage.cache_write_tokens) == (3100, 1000, 2000)
    assert reply.cost == pytest.approx((100 + 1000 * 0.1 + 2000 * 1.25) / 1e6)


@pytest.mark.parametrize(
    ("dialect", "usage", "counts"),
    [
        # What the cache has given and taken, beside the prompt and within it.
        ("chat", {"prompt_tokens": 100, "completion_tokens": 100, "total_tokens": 1200, "cache_read_input_tokens": 400, "cache_creation_input_tokens": 600},
         {"input_tokens": 1100, "cached_tokens": 400, "cache_write_tokens": 600}),
        ("chat", {"prompt_tokens": 1100, "completion_tokens": 100, "total_tokens": 1200, "cache_read_input_tokens": 400},
         {"input_tokens": 1100, "cached_tokens": 400}),
        # What is nothing is left out.
        ("chat", {"prompt_tokens": 10, "completion_tokens": None, "total_tokens": 10}, {"output_tokens": 0}),
        ("contents", {"promptTokenCount": 1000, "totalTokenCount": 1000}, {"output_tokens": 0}),
        ("chat", {"prompt_tokens": 10, "completion_tokens": 5, "cost": 0.25}, {"cost": 0.25}),
        ("chat", {"prompt_tokens": 10, "completion_tokens": 5, "prompt_tokens_details": {"audio_tokens": 7}, "completion_tokens_details": {"audio_tokens": 2}},
         {"audio_input_tokens": 7, "audio_output_tokens": 2}),
        ("messages", {"input_tokens": 1, "output_tokens": 1, "cache_creation_input_tokens": 9, "cache_creation": {"ephemeral_1h_input_tokens": 4}},
         {"cache_write_tokens": 9, "long_cache_write_tokens": 4}),
    ],
)  # fmt: skip
def test_odd_counts_are_read(dialect: str, usage: dict[str, Any], counts: dict[str, Any]) -> None:
    answers: dict[str, Any] = {
        "chat": {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "usage": usage},
        "contents": {"candidates": [{"content": {"parts": [{"text": "x"}]}, "finishReason": "STOP"}], "usageMetadata": usage},
        "messages": {**ENDED, "usage": usage},
    }  # fmt: skip
    with client(dialect, answers[dialect]) as asked:
        reply = asked.ask("m@p", "Q")
    assert {name: getattr(reply.usage, name) for name in counts} == counts


def test_marks_of_tools_parts_and_results_survive() -> None:
    strict = {"type": "function", "function": {"name": "f", "parameters": {"type": "object"}, "strict": True}}
    for dialect, at in (
        ("chat", lambda body: body["tools"][0]["function"]),
        ("messages", lambda body: body["tools"][0]),
    ):
        with client(dialect, TURNS[dialect][1]) as asked:
            asked.conversation("m@p", tools=[strict]).say("Q")
            assert at(sent(asked))["strict"] is True
    with client("responses", TURNS["responses"][1]) as asked:
        asked.ask("m@p", ["Q", agouti.Image(GIF, detail="high")], tools=OPEN["tools"])
        assert sent(asked)["input"][0]["content"][1] == {"type": "input_image", "image_url": GIF, "detail": "high"}
        assert sent(asked)["tools"][0]["strict"] is False

    def broken() -> None:
        raise ValueError("no such garden")

    for dialect, failed in (
        ("messages", '"is_error": true'),
        ("converse", '"status": "error"'),
        ("contents", '"error": "Error: ValueError'),
    ):
        first, second, _ = TURNS[dialect]
        with client(dialect, first, second) as asked:
            asked.ask("m@p", "Q", tools=[agouti.Tool(name="f", function=broken)], run_tools=True)
            assert failed in json.dumps(sent(asked, 1))


LOGPROBS: list[tuple[str, Any, bytes]] = [
    ("chat", {"choices": [{"message": {"content": "Hi"}, "logprobs": {"content": [{"token": "Hi", "logprob": -0.5, "top_logprobs": [{"token": "Ho", "logprob": -1.5}]}]}}]},
     data({"choices": [{"delta": {"content": "Hi"}, "logprobs": {"content": [{"token": "Hi", "logprob": -0.5, "top_logprobs": [{"token": "Ho", "logprob": -1.5}]}]}}]}, {"choices": [{"delta": {}, "finish_reason": "stop"}]})),
    ("responses", {"status": "completed", "output": [{"type": "message", "content": [{"type": "output_text", "text": "Hi", "logprobs": [{"token": "Hi", "logprob": -0.5, "top_logprobs": [{"token": "Ho", "logprob": -1.5}]}]}]}]},
     named({"type": "response.output_text.delta", "delta": "Hi", "logprobs": [{"token": "Hi", "logprob": -0.5, "top_logprobs": [{"token": "Ho", "logprob": -1.5}]}]}, {"type": "response.completed", "response": {"status": "completed"}})),
    ("contents", {"candidates": [{"content": {"parts": [{"text": "Hi"}]}, "logprobsResult": {"chosenCandidates": [{"token": "Hi", "logProbability": -0.5}], "topCandidates": [{"candidates": [{"token": "Ho", "logProbability": -1.5}]}]}}]},
     data({"candidates": [{"content": {"parts": [{"text": "Hi"}]}, "finishReason": "STOP", "logprobsResult": {"chosenCandidates": [{"token": "Hi", "logProbability": -0.5}], "topCandidates": [{"candidates": [{"token": "Ho", "logProbability": -1.5}]}]}}]})),
    ("prompt", {"choices": [{"text": "Hi", "logprobs": {"tokens": ["Hi"], "token_logprobs": [-0.5], "top_logprobs": [{"Ho": -1.5}]}}]},
     data({"choices": [{"text": "Hi", "finish_reason": "stop", "logprobs": {"tokens": ["Hi"], "token_logprobs": [-0.5], "top_logprobs": [{"Ho": -1.5}]}}]})),
    ("lines", {"message": {"content": "Hi"}, "done": True, "logprobs": [{"token": "Hi", "logprob": -0.5, "top_logprobs": [{"token": "Ho", "logprob": -1.5}]}]},
     b'{"message":{"content":"Hi"},"done":true,"logprobs":[{"token":"Hi","logprob":-0.5,"top_logprobs":[{"token":"Ho","logprob":-1.5}]}]}\n'),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "plain", "stream"), LOGPROBS, ids=[row[0] for row in LOGPROBS])
def test_log_probabilities_are_told(dialect: str, plain: Any, stream: bytes) -> None:
    expected = (agouti.TokenLogprob("Hi", -0.5, (agouti.TokenLogprob("Ho", -1.5),)),)
    with client(dialect, plain) as asked:
        assert asked.ask("m@p", "Q", top_logprobs=2).logprobs == expected
    assert streamed(dialect, stream).logprobs == expected


def test_what_is_kept_where() -> None:
    done = TURNS["responses"][1]
    with client("responses", {**done, "id": "resp_7"}, done, done) as asked:
        assert asked.ask("m@p", "Q", logprobs=True).id == "resp_7"
        assert sent(asked)["include"] == ["message.output_text.logprobs"]
        kept = {
            "previous_response_id": "resp_7",
            "metadata": {"a": "b"},
            "service_tier": "flex",
            "prompt_cache_key": "k",
            "verbosity": "low",
        }
        asked.ask("m@p", "And?", store=False, **kept)
        body = sent(asked, 1)
        assert (body["store"], body["include"], body["text"]) == (
            False,
            ["reasoning.encrypted_content"],
            {"verbosity": "low"},
        )
        assert {name: body[name] for name in kept if name != "verbosity"} == {
            name: value for name, value in kept.items() if name != "verbosity"
        }
        # Thinking that came without its contents cannot be found again where nothing is kept.
        thought = agouti.ProviderTurn("responses", [{"type": "reasoning", "id": "r1", "summary": []}, ITEMS[2]])
        asked.ask(
            "m@p",
            [
                agouti.Message("user", "Q"),
                agouti.Message("assistant", "So.", provider_turn=thought),
                agouti.Message("user", "And?"),
            ],
            store=False,
        )
        assert [item["type"] for item in sent(asked, 2)["input"]] == ["message", "message", "message"]


THOUGHTS: list[tuple[str, dict[str, Any], Any]] = [
    ("messages", {"reasoning_effort": "low"}, {"max_tokens": 5120, "thinking": {"type": "enabled", "budget_tokens": 1024}}),
    ("messages", {"reasoning_effort": "high", "max_tokens": 3000}, {"max_tokens": 3000, "thinking": {"type": "enabled", "budget_tokens": 2250}}),
    ("messages", {"reasoning_budget": 2000, "max_tokens": 3000}, {"max_tokens": 3000, "thinking": {"type": "enabled", "budget_tokens": 2000}}),
    ("messages", {"reasoning_effort": "max"}, {"max_tokens": 4096, "thinking": {"type": "adaptive"}, "output_config": {"effort": "max"}}),
    ("messages", {"reasoning_effort": "none", "max_tokens": 9}, {"max_tokens": 9}),
    ("contents", {"reasoning_budget": 77}, {"generationConfig": {"thinkingConfig": {"thinkingBudget": 77, "includeThoughts": True}}}),
    ("contents", {"reasoning_effort": "adaptive"}, {"generationConfig": {"thinkingConfig": {"thinkingBudget": -1, "includeThoughts": True}}}),
    ("lines", {"reasoning_effort": "high"}, {"think": "high", "stream": False}),
    ("responses", {"reasoning_effort": "xhigh"}, {"reasoning": {"effort": "xhigh", "summary": "auto"}}),
    ("chat", {"reasoning_effort": "xhigh"}, {"reasoning_effort": "xhigh"}),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "given", "expected"), THOUGHTS)
def test_efforts_and_budgets(dialect: str, given: dict[str, Any], expected: Any) -> None:
    answer = TURNS[dialect][1] if dialect != "lines" else {"message": {"content": "x"}, "done": True}
    with client(dialect, answer) as asked:
        asked.ask("m@p", "Q", **given)
        body = sent(asked)
    assert {
        name: value for name, value in body.items() if name not in ("model", "messages", "contents", "input")
    } == expected


@pytest.mark.parametrize(
    ("given", "named"),
    [
        ({"max_tokens": 100}, "max_tokens"),
        ({"temperature": 0.2}, "temperature"),
        ({"top_p": 0.5}, "top_p"),
        ({"tools": OPEN["tools"], "tool_choice": "required"}, "tool_choice"),
    ],
)
def test_what_never_goes_together_with_thinking_is_said_before(given: dict[str, Any], named: str) -> None:
    with client("messages") as asked, pytest.raises(agouti.ParameterUnsupported) as refused:
        asked.ask("m@p", "Q", reasoning_effort="low", **given)
    assert refused.value.parameter == named
    entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": "messages", "unsupported": "warn"}}}
    with (
        agouti.Client(entry, transport=FakeTransport([ENDED])) as asked,
        pytest.warns(agouti.AgoutiWarning, match=named),
    ):
        assert asked.ask("m@p", "Q", reasoning_effort="low", **given).text == "May."


REFUSED: list[tuple[str, dict[str, Any], Any, Any, str]] = [
    ("chat", {"seed": 7}, {"detail": [{"type": "extra_forbidden", "loc": ["body", "seed"], "msg": "Extra inputs are not permitted"}]}, "seed", "seed"),
    ("chat", {"seed": 7}, {"error": {"message": "Unrecognized request argument supplied: seed"}}, "seed", "seed"),
    ("messages", {"stop": "#"}, {"error": {"message": "stop_sequences: Extra inputs are not permitted"}}, "stop_sequences", "stop"),
    ("contents", {"seed": 7}, {"error": {"message": 'Invalid JSON payload received. Unknown name "seed" at generation_config: Cannot find field.'}}, "generationConfig", "seed"),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "given", "error", "field", "name"), REFUSED)
def test_refusals_name_a_parameter_in_many_words(dialect: str, given: Any, error: Any, field: str, name: str) -> None:
    entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": dialect, "unsupported": "warn"}}}
    refusal = HttpReply(422 if "detail" in error else 400, {}, json.dumps(error).encode())
    transport = FakeTransport([refusal, TURNS[dialect][1], TURNS[dialect][1]])
    with agouti.Client(entry, transport=transport) as asked:
        with pytest.warns(agouti.AgoutiWarning, match=name):
            assert asked.ask("m@p", "Q", **given).text
        assert field in sent(asked, 0)
        assert field not in sent(asked, 1)


def test_what_a_dialect_adds_by_itself_is_taken_back() -> None:
    done = data({"choices": [{"delta": {"content": "x"}, "finish_reason": "stop"}]})
    refusal = HttpReply(
        400, {}, b'{"error": {"message": "Unknown parameter: stream_options", "param": "stream_options"}}'
    )
    with client("chat", refusal, [done], [done]) as asked:
        for _ in range(2):
            with asked.stream("m@p", "Q") as stream:
                assert "".join(stream) == "x"
        assert ["stream_options" in sent(asked, number) for number in range(3)] == [True, False, False]
    refusal = HttpReply(
        400, {}, b'{"error": {"message": "Your organization must be verified", "param": "reasoning.summary"}}'
    )
    with client("responses", refusal, TURNS["responses"][1]) as asked:
        asked.ask("m@p", "Q", reasoning_effort="low")
        assert sent(asked, 1)["reasoning"] == {"effort": "low"}


def test_cap_goes_by_the_name_that_the_model_takes() -> None:
    refusal = HttpReply(
        400,
        {},
        b"""{"error": {"message": "Unsupported parameter: 'max_tokens' is not supported with this model. Use 'max_completion_tokens' instead.", "param": "max_tokens"}}""",
    )
    answer = TURNS["chat"][1]
    with client("chat", refusal, answer, answer, answer) as asked:
        for model in ("m@p", "m@p", "other@p"):
            asked.ask(model, "Q", max_tokens=50)
        names = [sorted(name for name in sent(asked, number) if name.startswith("max")) for number in range(4)]
    assert names == [["max_tokens"], ["max_completion_tokens"], ["max_completion_tokens"], ["max_tokens"]]


def test_thinking_between_tags_is_taken_out_where_the_entry_says_so() -> None:
    entry = {
        "providers": {"p": {"address": "https://p.example/v1"}},
        "models": {"m": {"provider": "p", "name": "m", "reasoning_tag": "think"}},
    }
    whole = {
        "choices": [{"message": {"content": "<think>Hm</think>\n\nMay, or <think> of it."}, "finish_reason": "stop"}]
    }
    half = {"choices": [{"message": {"content": "Hm</think>May."}, "finish_reason": "stop"}]}
    text = whole["choices"][0]["message"]["content"]  # type: ignore[index]
    pieces = data(
        *[{"choices": [{"delta": {"content": letter}}]} for letter in text],
        {"choices": [{"delta": {}, "finish_reason": "stop"}]},
    )
    with agouti.Client(entry, transport=FakeTransport([whole, half, [pieces], whole, [pieces]])) as asked:
        reply = asked.ask("m", "Q")
        assert (reply.reasoning, reply.text) == ("Hm", "May, or <think> of it.")
        assert asked.ask("m", "Q").text == "May."
        with asked.stream("m", "Q") as stream:
            assert "".join(stream) == reply.text
        assert stream.reply.reasoning == "Hm"
        body = {"model": "m", "messages": [{"role": "user", "content": "Q"}]}
        assert asked.exchange(body)["choices"][0]["message"]["reasoning_content"] == "Hm"
        deltas = [chunk["choices"][0]["delta"] for chunk in asked.exchange_stream(body)]
        assert "".join(delta.get("content", "") for delta in deltas) == reply.text
        assert "".join(delta.get("reasoning_content", "") for delta in deltas) == "Hm"


CITED: list[tuple[str, Any, bytes]] = [
    ("contents", {"candidates": [{"content": {"parts": [{"text": "x"}]}, "groundingMetadata": {"groundingChunks": [{"web": {"uri": "https://a.example", "title": "A"}}], "groundingSupports": [{"segment": {"startIndex": 0, "endIndex": 1}, "groundingChunkIndices": [0]}]}}]},
     data(*[{"candidates": [{"content": {"parts": [{"text": "x"}]}, "finishReason": "STOP", "groundingMetadata": {"groundingChunks": [{"web": {"uri": "https://a.example", "title": "A"}}], "groundingSupports": [{"segment": {"startIndex": 0, "endIndex": 1}, "groundingChunkIndices": [0]}]}}]}] * 2)),
    ("converse", {"output": {"message": {"content": [{"citationsContent": {"content": [{"text": "x"}], "citations": [{"title": "A", "location": {"web": {"url": "https://a.example"}}}]}}]}}}, b""),
    ("chat", {"choices": [{"message": {"content": "x"}}], "citations": ["https://a.example"]},
     data(*[{"choices": [{"delta": {"content": "x"}}], "citations": ["https://a.example"]}] * 2, {"choices": [{"delta": {}, "finish_reason": "stop"}]})),
    ("predict", {"predictions": [{"content": "x", "citationMetadata": [{"citations": [{"url": "https://a.example"}]}]}]}, b""),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "plain", "stream"), CITED, ids=[row[0] for row in CITED])
def test_sources_are_told_once(dialect: str, plain: Any, stream: bytes) -> None:
    with client(dialect, plain, plain) as asked:
        assert [cited.address for cited in asked.ask("m@p", "Q").citations] == ["https://a.example"]
        if dialect != "chat":
            message = asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}]})["choices"][0][
                "message"
            ]
            assert message["annotations"][0]["url_citation"]["url"] == "https://a.example"
    if stream:
        assert [cited.address for cited in streamed(dialect, stream).citations] == ["https://a.example"]


def test_several_predictions_are_several_answers() -> None:
    notes = [{"categories": ["Weather"], "scores": [number / 10]} for number in range(2)]
    answer = {"predictions": [{"candidates": [{"content": "a"}, {"content": "b"}], "safetyAttributes": notes}]}
    with client("predict", answer, {"predictions": {"choices": [{"message": {"content": "c"}}]}}) as asked:
        reply = asked.ask("m@p", "Q", n=2)
        assert reply.texts == ("a", "b")
        assert [choice.safety[0].level for choice in reply.completion.choices] == ["0.0", "0.1"]
        assert asked.ask("m@p", "Q").text == "c"


CUSTOM = {"id": "c1", "type": "custom", "custom": {"name": "shell", "input": "ls"}}


def test_calls_of_other_kinds_are_calls() -> None:
    old = {
        "choices": [
            {
                "message": {"content": None, "function_call": {"name": "f", "arguments": "{}"}},
                "finish_reason": "function_call",
            }
        ]
    }
    custom = {"choices": [{"message": {"content": None, "tool_calls": [CUSTOM]}, "finish_reason": "tool_calls"}]}
    answer = TURNS["chat"][1]
    with client("chat", old, answer, custom, answer) as asked:
        assert asked.ask("m@p", "Q", tools=[FUNCTION], run_tools=True).text == "17."
        assert sent(asked, 1)["messages"][1]["tool_calls"] == [
            {"id": "call_0", "type": "function", "function": {"name": "f", "arguments": "{}"}}
        ]
        talk = asked.conversation("m@p", tools=[{"type": "custom", "custom": {"name": "shell"}}])
        reply = talk.say("Q")
        assert [(call.name, call.arguments, call.problem) for call in reply.calls] == [("shell", "ls", "")]
        talk.say([agouti.Message("tool", "a.txt", tool_call_id="c1")])
        assert sent(asked, 3)["messages"][1]["tool_calls"] == [CUSTOM]
    item = {"type": "custom_tool_call", "id": "i1", "call_id": "c1", "name": "shell", "input": "ls"}
    first, second = {"status": "completed", "output": [item]}, TURNS["responses"][1]
    with client("responses", first, second) as asked:
        talk = asked.conversation("m@p", tools=[{"type": "custom", "custom": {"name": "shell"}}])
        assert talk.say("Q").calls[0].arguments == "ls"
        assert sent(asked)["tools"] == [{"type": "custom", "name": "shell"}]
        talk.say([agouti.Message("tool", "a.txt", tool_call_id="c1")])
        assert sent(asked, 1)["input"][1:] == [
            item,
            {"type": "custom_tool_call_output", "call_id": "c1", "output": "a.txt"},
        ]
    stream = data(
        {"choices": [{"delta": {"function_call": {"name": "f", "arguments": '{"x"'}}}]},
        {"choices": [{"delta": {"function_call": {"arguments": ":1}"}}, "finish_reason": "function_call"}]},
    )
    assert [(call.name, call.arguments) for call in streamed("chat", stream).calls] == [("f", {"x": 1})]
    # A history of the older form is one of calls and results everywhere else.
    history = [
        {"role": "user", "content": "Q"},
        {"role": "assistant", "content": None, "function_call": {"name": "f", "arguments": "{}"}},
        {"role": "function", "name": "f", "content": "17"},
    ]
    with client("messages", TURNS["messages"][1]) as asked:
        asked.exchange({"model": "m@p", "messages": history, "functions": [{"name": "f"}], "function_call": "auto"})
        assert [block["type"] for turn in sent(asked)["messages"][1:] for block in turn["content"]] == [
            "tool_use",
            "tool_result",
        ]
        assert sent(asked)["tools"][0]["name"] == "f"


ENDS: list[tuple[str, Any, str | None]] = [
    ("lines", {"message": {"content": "", "tool_calls": [{"function": {"name": "f", "arguments": {}}}]}, "done": True, "done_reason": "length"}, "length"),
    ("converse", {"output": {"message": {"content": [{"text": "x"}]}}, "stopReason": "model_context_window_exceeded"}, "length"),
    ("responses", {"status": "queued", "output": []}, "queued"),
    ("responses", {"status": "completed", "output": [{"type": "mcp_approval_request", "id": "a1"}]}, "mcp_approval_request"),
    ("chat", {"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "error": ""}, "stop"),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "answer", "reason"), ENDS)
def test_ends_are_told_as_they_are(dialect: str, answer: Any, reason: str) -> None:
    with client(dialect, answer, answer) as asked:
        assert asked.ask("m@p", "Q").finish_reason == reason
        choice = asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}]})["choices"][0]
        assert choice["finish_reason"] == reason  # what nobody knows is never told as a good end


FAULTS: list[tuple[str, Any, type[agouti.AgoutiError], str]] = [
    ("chat", {"choices": [{"message": {"content": ""}, "finish_reason": "error", "error": {"message": "Out of peas", "code": 502}}]}, agouti.ProviderFault, "Out of peas"),
    ("chat", {"choices": [], "error": {"message": "Slow down", "code": 429}}, agouti.RateLimited, "Slow down"),
    ("responses", {"status": "failed", "error": None, "output": []}, agouti.ProviderFault, "does not say why"),
    ("converse", HttpReply(403, {"x-amzn-errortype": "AccessDeniedException"}, b'{"Message": "Bearer token has expired"}'), agouti.CredentialRefused, "expired"),
    ("contents", HttpReply(400, {}, b'{"error": {"message": "User location is not supported for the API use.", "status": "FAILED_PRECONDITION"}}'), agouti.NoAccess, "location"),
    ("contents", HttpReply(400, {}, b'{"error": {"message": "The input token count (9) exceeds the maximum number of tokens allowed (5).", "status": "INVALID_ARGUMENT"}}'), agouti.ContextOverflow, "9"),
    ("messages", HttpReply(400, {}, b'{"error": {"type": "invalid_request_error", "message": "input length and `max_tokens` exceed context limit: 9 + 4 > 5"}}'), agouti.ContextOverflow, "limit"),
    ("chat", HttpReply(500, {}, b'{"error": {"message": "input (2048 tokens) is too large to process"}}'), agouti.ContextOverflow, "2048"),
    ("jobs", HttpReply(409, {}, b'{"detail": "Already running a prediction"}'), agouti.Overloaded, "running"),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "answer", "kind", "words"), FAULTS)
def test_errors_are_what_they_mean(dialect: str, answer: Any, kind: type[agouti.AgoutiError], words: str) -> None:
    with client(dialect, answer) as asked, pytest.raises(kind, match=words) as raised:
        asked.ask("m@p", "Q")
    assert type(raised.value) is kind


def test_falsy_errors_are_none() -> None:
    for nothing in ('""', "{}", "false", "null"):
        body = b'data: {"choices":[{"delta":{"content":"x"},"finish_reason":"stop"}],"error":%s}\n\n' % nothing.encode()
        assert streamed("chat", body).text == "x"
    declared = {"path": "/say", "prompt": "/q", "text": "/a", "error": "/error", "label": "say"}
    entry = {
        "providers": {"p": {"address": "https://p.example", "dialect": "say"}},
        "dialects": {"say": {key: value for key, value in declared.items() if key != "label"}},
    }
    for nothing_said in (False, 0, {}, [], "", None):
        with agouti.Client(entry, transport=FakeTransport([{"a": "x", "error": nothing_said}])) as asked:
            assert asked.ask("m@p", "Q").text == "x"


def test_requests_that_strict_servers_refuse_are_not_made() -> None:
    blank = [
        {"role": "user", "content": [{"type": "text", "text": "\n"}, {"type": "text", "text": "Q"}]},
        {"role": "assistant", "content": ""},
        {"role": "user", "content": "And?"},
    ]
    for dialect, at in (("messages", "messages"), ("converse", "messages")):
        with client(dialect, TURNS[dialect][1], TURNS[dialect][1]) as asked:
            asked.ask("m@p", blank)
            assert [block["text"] for turn in sent(asked)[at] for block in turn["content"]] == ["Q", "And?"]
            foreign = [
                *blank[:1],
                {
                    "role": "assistant",
                    "content": None,
                    "tool_calls": [
                        {"id": "functions.f:0", "type": "function", "function": {"name": "f", "arguments": "{}"}}
                    ],
                },
                {"role": "tool", "tool_call_id": "functions.f:0", "content": ""},
            ]
            asked.ask("m@p", foreign)
            body = json.dumps(sent(asked, 1))
            assert "functions.f:0" not in body
            assert body.count("functions_f_0_") == 2
            assert '"text": ""' not in body
    for dialect in ("messages", "contents", "responses", "converse"):
        with client(dialect, TURNS[dialect][1]) as asked:
            asked.ask("m@p", [{"role": "system", "content": "Say hello."}])
            body = sent(asked)
            turns = body.get("messages") or body.get("contents") or body.get("input")
            assert "Say hello." in json.dumps(turns)
    with client("chat", TURNS["chat"][1]) as asked:
        asked.ask("m@p", "Q", tools=[])
        assert "tools" not in sent(asked)
    jpeg = {"type": "image_url", "image_url": {"url": "DATA:image/jpg;charset=x;base64,/9j/"}}
    for dialect, found in (("messages", '"media_type": "image/jpeg"'), ("converse", '"format": "jpeg"')):
        with client(dialect, TURNS[dialect][1]) as asked:
            asked.ask("m@p", [{"role": "user", "content": [jpeg]}])
            assert found in json.dumps(sent(asked))


def test_chunks_have_the_form_that_they_claim() -> None:
    call = named(
        {"type": "message_start", "message": {"model": "m", "id": "i", "usage": {"input_tokens": 5, "output_tokens": 1}}},
        {"type": "content_block_start", "index": 0, "content_block": {"type": "tool_use", "id": "t1", "name": "f", "input": {}}},
        {"type": "content_block_stop", "index": 0},
        {"type": "message_delta", "delta": {"stop_reason": "tool_use"}, "usage": {"output_tokens": 7}}, {"type": "message_stop"})  # fmt: skip
    body: dict[str, Any] = {"model": "m@p", "messages": [{"role": "user", "content": "Q"}], **OPEN}
    with client("messages", [call], [call]) as asked:
        chunks = list(asked.exchange_stream(body))
        assert all(len(chunk["choices"]) == 1 for chunk in chunks)
        pieces = [piece for chunk in chunks for piece in chunk["choices"][0]["delta"].get("tool_calls", ())]
        assert "".join(piece["function"]["arguments"] for piece in pieces) == "{}"
        wanted = list(asked.exchange_stream({**body, "stream_options": {"include_usage": True}}))
        assert [chunk["usage"]["total_tokens"] for chunk in wanted if not chunk["choices"]] == [12]
        assert not wanted[-1]["choices"]
    ping = b'event: ping\ndata: {"type":"ping"}\n\n' + data(
        {"choices": [{"delta": {"content": "x"}, "finish_reason": "stop"}]},
        {"choices": [], "usage": {"prompt_tokens": 1, "completion_tokens": 1}},
    )
    with client("chat", [ping], [ping]) as asked:
        assert len(list(asked.exchange_stream(body))) == 1
        list(asked.exchange_stream({**body, "stream_options": {"include_usage": False, "more": 1}}))
        assert sent(asked, 1)["stream_options"] == {"include_usage": True, "more": 1}  # for our own books
    # A server that answers a stream with plain JSON loses nothing of it.
    plain = {
        "id": "a",
        "service_tier": "x",
        "choices": [
            {
                "index": 0,
                "message": {"content": "x", "annotations": [{"type": "url_citation"}]},
                "finish_reason": "stop",
            }
        ],
    }
    with client("chat", HttpReply(200, {"content-type": "application/json"}, json.dumps(plain).encode())) as asked:
        (chunk,) = asked.exchange_stream(body)
        assert chunk["service_tier"] == "x"
        assert chunk["choices"][0]["delta"]["annotations"] == [{"type": "url_citation"}]


def test_fields_of_the_canonical_form_have_a_meaning_or_are_refused() -> None:
    for name, value in {
        "store": True,
        "modalities": ["audio"],
        "verbosity": "low",
        "previous_response_id": "r",
        "web_search_options": {"a": 1},
    }.items():
        for dialect in ("messages", "contents", "converse", "lines"):
            if (dialect, name) == ("contents", "modalities"):
                continue
            with client(dialect) as asked, pytest.raises(agouti.ParameterUnsupported, match=name):
                asked.exchange({"model": "m@p", "messages": [{"role": "user", "content": "Q"}], name: value})
    with client("messages", ENDED) as asked:
        asked.exchange(
            {
                "model": "m@p",
                "messages": [{"role": "user", "content": "Q"}],
                "store": False,
                "verbosity": "medium",
                "service_tier": "auto",
                "modalities": ["text"],
                "metadata": {},
                "stream_options": None,
            }
        )
        assert sent(asked).keys() == {"model", "messages", "max_tokens"}


def test_async_turns_go_on_too() -> None:
    async def run() -> str:
        entry = {"providers": {"p": {"address": "https://p.example/v1", "dialect": "messages"}}}
        async with agouti.AsyncClient(entry, transport=AsyncFakeTransport([PAUSED, ENDED])) as asked:
            return (await asked.ask("m@p", "Q")).text

    assert asyncio.run(run()) == "It is May."


SAME: list[tuple[str, Any, bytes, Any]] = [
    ("chat", {"choices": [{"message": {"content": "x"}, "content_filter_results": {"hate": {"filtered": False, "severity": "low"}}}]},
     data({"id": "", "model": "", "choices": [], "prompt_filter_results": []}, {"id": "a", "model": "m", "choices": [{"delta": {"content": "x"}, "content_filter_results": {"hate": {"filtered": False, "severity": "low"}}, "finish_reason": "stop"}]}),
     lambda reply: (reply.text, [(note.category, note.level) for note in reply.safety])),
    ("chat", {"choices": [{"index": 1, "message": {"content": "b"}}, {"index": 0, "message": {"content": "a"}}]},
     data({"choices": [{"index": 1, "delta": {"content": "b"}, "finish_reason": "stop"}]}, {"choices": [{"index": 0, "delta": {"content": "a"}, "finish_reason": "stop"}]}),
     lambda reply: reply.texts),
    ("chat", {"choices": [{"message": {"content": [{"type": "thinking", "thinking": [{"type": "text", "text": "Hm"}]}, {"type": "text", "text": "x"}]}}]},
     data({"choices": [{"delta": {"content": [{"type": "thinking", "thinking": [{"type": "text", "text": "Hm"}]}]}}]}, {"choices": [{"delta": {"content": "x"}, "finish_reason": "stop"}]}),
     lambda reply: (reply.text, reply.reasoning)),
    ("chat", {"choices": [{"message": {"content": "x"}}], "x_host": {"usage": {"prompt_tokens": 3, "completion_tokens": 4}}},
     data({"choices": [{"message": {"content": "x"}, "finish_reason": "stop"}], "x_host": {"usage": {"prompt_tokens": 3, "completion_tokens": 4}}}),
     lambda reply: (reply.text, reply.usage.total_tokens)),
    ("responses", {"status": "completed", "output": [{"type": "reasoning", "summary": [{"text": "One"}, {"text": "Two"}]}, {"type": "message", "content": [{"type": "output_text", "text": "x"}]}]},
     named(*[{"type": "response.reasoning_summary_text.delta", "item_id": "r", "summary_index": index, "delta": text} for index, text in enumerate(("One", "Two"))],
           {"type": "response.output_text.done", "item_id": "m", "text": "x"}, DONE := {"type": "response.completed", "response": {"status": "completed"}}),
     lambda reply: (reply.text, reply.reasoning)),
    ("responses", {"status": "completed", "output": [{"type": "message", "content": [{"type": "output_text", "text": "a"}, {"type": "output_text", "text": "b"}]}]},
     named({"type": "response.output_text.delta", "item_id": "m", "delta": "a"}, {**DONE, "response": {"status": "completed", "output": [{"type": "message", "content": [{"type": "output_text", "text": "a"}, {"type": "output_text", "text": "b"}]}]}}),
     lambda reply: reply.text),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "plain", "stream", "fact"), SAME)
def test_streamed_and_plain_say_the_same(dialect: str, plain: Any, stream: bytes, fact: Any) -> None:
    with client(dialect, plain) as asked:
        reply = asked.ask("m@p", "Q")
    again = streamed(dialect, stream)
    assert fact(reply) == fact(again)
    assert all(fact(reply))
    assert (again.model, again.id) == (("m", "a") if b'"id":"a"' in stream.replace(b" ", b"") else (None, None))


def test_histories_with_parts_of_replies_are_taken() -> None:
    history = [
        {"role": "user", "content": [{"type": "input_image", "image_url": GIF}, {"type": "input_text", "text": "Q"}]},
        {
            "role": "assistant",
            "content": [{"type": "thinking", "thinking": "Hm"}, {"type": "refusal", "refusal": "No."}],
        },
        {"role": "user", "content": "Why?"},
    ]
    for dialect in ("messages", "contents", "responses", "converse"):
        with client(dialect, TURNS[dialect][1]) as asked:
            asked.ask("m@p", history)
            body = json.dumps(sent(asked))
        assert "R0lGODlh" in body
        assert "No." in body
        assert "Hm" not in body


def test_events_without_text_are_no_first_token() -> None:
    for dialect, body in (
        (
            "chat",
            data(
                {"choices": [{"delta": {"content": [{"type": "image"}]}}]},
                {"choices": [{"delta": {}, "finish_reason": "stop"}]},
            ),
        ),
        ("responses", named({"type": "response.output_text.delta", "delta": None}, DONE)),
    ):
        assert streamed(dialect, body).first_token is None


TEXTS = ["a", "b", '"', "\\", '","x":"', "é\u2028", "", '"}}],"usage":{"prompt_tokens":1}}', "c"]
BETWEEN = [
    {"content": "d", "tool_calls": [{"id": "t", "function": {"name": "f", "arguments": "{}"}}]},
    {"content": "e", "reasoning_content": "hm"},
    {"content": None},
    {"content": "f"},
]


def test_payloads_alike_are_read_without_decoding_them_and_say_the_same() -> None:
    deltas = [{"content": text} for text in TEXTS] + BETWEEN + [{"content": text} for text in TEXTS]
    chunks = [
        {"id": "i", "model": "m", "choices": [{"index": 0, "delta": delta, "finish_reason": None}]} for delta in deltas
    ]
    reply = streamed("chat", data(*chunks, {"choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]}))
    assert reply.text == "".join(TEXTS) + "def" + "".join(TEXTS)
    assert (reply.reasoning, len(reply.calls), reply.usage.input_tokens) == ("hm", 1, None)
    pieces = [
        {"type": "content_block_delta", "index": 0, "delta": {"type": "text_delta", "text": text}} for text in TEXTS
    ]
    other = {"type": "content_block_delta", "index": 1, "delta": {"type": "text_delta", "text": "B"}}
    begin = {"type": "message_start", "message": {"model": "m"}}
    stop = [{"type": "message_delta", "delta": {"stop_reason": "end_turn"}}, {"type": "message_stop"}]
    assert streamed("messages", named(begin, *pieces, other, *pieces, *stop)).text == "".join(TEXTS) + "B" + "".join(
        TEXTS
    )
