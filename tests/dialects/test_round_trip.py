"""What a request says is what arrives: read back by readers that know the formats from their pages, not from the dialects."""

import base64
import json
from typing import Any

import pytest
from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import agouti
from agouti.core.canonical.chat import Message, Request, ToolCall, ToolFunction
from agouti.dialects.registry import dialect
from agouti.testing import FakeTransport

from ..examples import examples

Item = tuple[Any, ...]
WORDS = st.text("abc ÄÖ\n'\"{}\\/日", min_size=1, max_size=12).map(lambda text: f"x{text}x")
NAMES = st.sampled_from(["lamp", "pump", "frost_at"])
DATA = st.binary(min_size=1, max_size=9).map(lambda data: base64.b64encode(data).decode())
JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.floats(allow_nan=False, allow_infinity=False) | WORDS,
    lambda inner: st.lists(inner, max_size=2) | st.dictionaries(WORDS, inner, max_size=2),
    max_leaves=4,
)
ARGUMENTS = st.dictionaries(WORDS, JSON, max_size=2)
MARKS = st.none() | st.just({"type": "ephemeral"})


def text_part(text: str, mark: Any) -> dict[str, Any]:
    part = {"type": "text", "text": text}
    return part if mark is None else {**part, "cache_control": mark}


TEXTS = st.builds(text_part, WORDS, MARKS)
IMAGES = st.builds(lambda data: {"type": "image_url", "image_url": {"url": f"data:image/png;base64,{data}"}}, DATA)
FILES = st.builds(
    lambda data: {"type": "file", "file": {"filename": "list.pdf", "file_data": f"data:application/pdf;base64,{data}"}},
    DATA,
)
AUDIO = st.builds(lambda data: {"type": "input_audio", "input_audio": {"data": data, "format": "wav"}}, DATA)
MEDIA = {"chat": IMAGES | FILES | AUDIO, "contents": IMAGES | FILES | AUDIO, "lines": IMAGES}


@st.composite
def conversations(draw: st.DrawFn, media: Any) -> tuple[Message, ...]:
    messages = [Message("system", draw(st.lists(TEXTS, min_size=1, max_size=2)))] if draw(st.booleans()) else []
    number = 0
    for _ in range(draw(st.integers(1, 3))):
        messages.append(
            Message("user", [*draw(st.lists(media, max_size=1)), *draw(st.lists(TEXTS, min_size=1, max_size=2))])
        )
        calls = []
        for _ in range(draw(st.integers(0, 2))):
            number += 1
            arguments = json.dumps(draw(ARGUMENTS), ensure_ascii=False)
            calls.append(ToolCall(ToolFunction(draw(NAMES), arguments), f"id-{number}"))
        messages.append(
            Message("assistant", draw(WORDS) if not calls or draw(st.booleans()) else None, tool_calls=tuple(calls))
        )
        messages += [Message("tool", draw(WORDS), tool_call_id=call.id) for call in calls]
        if calls:
            messages.append(Message("assistant", draw(WORDS)))
    return (*messages, Message("user", draw(WORDS)))


def story(messages: tuple[Message, ...]) -> list[Item]:
    """What a conversation says, one thing after the other."""
    told: list[Item] = []
    names = {call.id: call.function.name for message in messages for call in message.tool_calls}
    for message in messages:
        content = (
            [{"type": "text", "text": message.content}] if isinstance(message.content, str) else message.content or []
        )
        if message.role == "tool":
            told.append(("result", message.tool_call_id, names[message.tool_call_id], message.content))
            continue
        for part in content:
            if part["type"] == "text":
                told.append((message.role, "text", part["text"], part.get("cache_control")))
            elif part["type"] == "image_url":
                told.append((message.role, "image/png", part["image_url"]["url"].partition(",")[2]))
            elif part["type"] == "file":
                told.append((message.role, "application/pdf", part["file"]["file_data"].partition(",")[2]))
            else:
                told.append((message.role, "audio/wav", part["input_audio"]["data"]))
        told += [
            ("call", call.id, call.function.name, json.loads(call.function.arguments or ""))
            for call in message.tool_calls
        ]
    return told


def read_chat(body: Any) -> list[Item]:
    told: list[Item] = []
    names: dict[str, str] = {}
    for message in body["messages"]:
        if message["role"] == "tool":
            told.append(("result", message["tool_call_id"], names[message["tool_call_id"]], message["content"]))
            continue
        content = message["content"]
        for part in [{"type": "text", "text": content}] if isinstance(content, str) else content or ():
            role = message["role"]
            if part["type"] == "text":
                told.append((role, "text", part["text"], part.get("cache_control")))
            else:
                url = part.get("image_url", {}).get("url") or part.get("file", {}).get("file_data")
                audio = part.get("input_audio")
                told.append(
                    (role, "audio/wav", audio["data"])
                    if audio
                    else (role, url[5:].partition(";")[0], url.partition(",")[2])
                )
        for call in message.get("tool_calls", ()):
            assert call["type"] == "function"
            names[call["id"]] = call["function"]["name"]
            told.append(("call", call["id"], call["function"]["name"], json.loads(call["function"]["arguments"])))
    return told


def read_messages(body: Any) -> list[Item]:
    told: list[Item] = []
    names: dict[str, str] = {}
    system = body.get("system", [])
    blocks = [{"type": "text", "text": system}] if isinstance(system, str) else system
    told += [("system", "text", block["text"], block.get("cache_control")) for block in blocks]
    for before, turn in zip([None, *body["messages"]], body["messages"], strict=False):
        assert before is None or before["role"] != turn["role"]
        for block in turn["content"]:
            match block["type"]:
                case "text":
                    told.append((turn["role"], "text", block["text"], block.get("cache_control")))
                case "image" | "document":
                    told.append((turn["role"], block["source"]["media_type"], block["source"]["data"]))
                case "tool_use":
                    names[block["id"]] = block["name"]
                    told.append(("call", block["id"], block["name"], block["input"]))
                case "tool_result":
                    identifier = block["tool_use_id"]
                    told.append(
                        ("result", identifier, names[identifier], "".join(each["text"] for each in block["content"]))
                    )
    return told


def read_contents(body: Any) -> list[Item]:
    told: list[Item] = [
        ("system", "text", part["text"], None) for part in body.get("systemInstruction", {}).get("parts", ())
    ]
    for turn in body["contents"]:
        role = {"model": "assistant"}.get(turn["role"], turn["role"])
        for part in turn["parts"]:
            (kind,) = part
            value = part[kind]
            if kind == "text":
                told.append((role, "text", value, None))
            elif kind == "inlineData":
                told.append((role, value["mimeType"], value["data"]))
            elif kind == "functionCall":
                told.append(("call", None, value["name"], value["args"]))
            else:
                told.append(("result", None, value["name"], value["response"]["result"]))
    return told


def read_converse(body: Any) -> list[Item]:
    told: list[Item] = []
    names: dict[str, str] = {}
    for role, blocks in [
        ("system", body.get("system", [])),
        *[(turn["role"], turn["content"]) for turn in body["messages"]],
    ]:
        for block in blocks:
            (kind,) = block
            value = block[kind]
            if kind == "text":
                told.append((role, "text", value, None))
            elif kind == "cachePoint":
                told[-1] = (*told[-1][:3], {"type": "ephemeral"})
            elif kind in ("image", "document"):
                media = {"png": "image/png", "pdf": "application/pdf"}[value["format"]]
                told.append((role, media, value["source"]["bytes"]))
            elif kind == "toolUse":
                names[value["toolUseId"]] = value["name"]
                told.append(("call", value["toolUseId"], value["name"], value["input"]))
            else:
                told.append(("result", value["toolUseId"], names[value["toolUseId"]], value["content"][0]["text"]))
    return told


def read_responses(body: Any) -> list[Item]:
    told: list[Item] = [("system", "text", body["instructions"], None)] if "instructions" in body else []
    names: dict[str, str] = {}
    for item in body["input"]:
        if item["type"] == "function_call":
            names[item["call_id"]] = item["name"]
            told.append(("call", item["call_id"], item["name"], json.loads(item["arguments"])))
        elif item["type"] == "function_call_output":
            told.append(("result", item["call_id"], names[item["call_id"]], item["output"]))
        else:
            for part in item["content"]:
                if part["type"] in ("input_text", "output_text"):
                    told.append((item["role"], "text", part["text"], None))
                else:
                    url = part.get("image_url") or part["file_data"]
                    told.append((item["role"], url[5:].partition(";")[0], url.partition(",")[2]))
    return told


def read_lines(body: Any) -> list[Item]:
    told: list[Item] = []
    for message in body["messages"]:
        if message["role"] == "tool":
            told.append(("result", None, message["tool_name"], message["content"]))
            continue
        told += [(message["role"], "image/png", data) for data in message.get("images", ())]
        if message["content"]:
            told.append((message["role"], "text", message["content"], None))
        told += [
            ("call", None, call["function"]["name"], call["function"]["arguments"])
            for call in message.get("tool_calls", ())
        ]
    return told


READERS = {
    "chat": read_chat,
    "messages": read_messages,
    "contents": read_contents,
    "converse": read_converse,
    "responses": read_responses,
    "lines": read_lines,
}
WITHOUT_MARKS = ("contents", "responses", "lines")
WITHOUT_IDS = ("contents", "lines")
# One text for each message, and one for all of the system's.
JOINED = ("lines",)


def as_the_format_can(told: list[Item], name: str) -> list[Item]:
    """What of a story a format has: the rest is left out, and texts without marks between them are one."""
    kept: list[Item] = []
    for item in told:
        if item[1] == "text":
            mark = None if name in WITHOUT_MARKS else item[3]
            item = (*item[:3], mark)
            joins = item[0] == "system" if name != "chat" else False
            if kept and kept[-1][:2] == item[:2] and kept[-1][3] is None and (joins or name in JOINED):
                kept[-1] = (*item[:2], kept[-1][2] + item[2], mark)
                continue
        elif item[0] in ("call", "result") and name in WITHOUT_IDS:
            item = (item[0], None, *item[2:])
        kept.append(item)
    return kept


@pytest.mark.parametrize("name", READERS)
def test_request_says_what_was_said(name: str) -> None:
    @examples(60, suppress_health_check=list(HealthCheck))
    @given(conversations(MEDIA.get(name, IMAGES | FILES)))
    def holds(messages: tuple[Message, ...]) -> None:
        body = json.loads(json.dumps(dialect(name).encode_chat(Request("m", messages)).body))
        assert READERS[name](body) == as_the_format_can(story(messages), name)

    holds()


KEYS = st.sampled_from(["weather", "mood", "x_soil", "cache_control", "refusal", "annotations", "name_2"])
EXTRAS = st.dictionaries(KEYS, JSON, max_size=2)


@st.composite
def bodies(draw: st.DrawFn) -> dict[str, Any]:
    messages: list[dict[str, Any]] = []
    for number in range(draw(st.integers(1, 3))):
        part = {"type": draw(st.sampled_from(["text", "video"])), "text": draw(WORDS), **draw(EXTRAS)}
        messages.append({**draw(EXTRAS), "role": "user", "content": draw(WORDS | st.just([part]))})
        call = {
            **draw(EXTRAS),
            "id": f"c{number}",
            "type": "function",
            "function": {"name": draw(NAMES), "arguments": "{}", **draw(EXTRAS)},
        }
        messages.append({**draw(EXTRAS), "role": "assistant", "content": draw(st.none() | WORDS), "tool_calls": [call]})
        messages.append({**draw(EXTRAS), "role": "tool", "tool_call_id": f"c{number}", "content": draw(WORDS)})
    more = draw(
        st.fixed_dictionaries({}, optional={"temperature": st.just(0.5), "stop": st.just(["#"]), "user": WORDS})
    )
    return {**draw(EXTRAS), **more, "model": "m", "messages": messages}


@examples(60)
@given(bodies(), EXTRAS)
def test_exchange_in_is_exchange_out(body: dict[str, Any], more: dict[str, Any]) -> None:
    reply = {"choices": [{"index": 0, "message": {"content": "x", **more}, "finish_reason": "stop", **more}], **more}
    fake = FakeTransport([reply])
    with agouti.Client.at("https://p.example/v1", transport=fake) as client:
        assert client.exchange(body) == reply
    assert json.loads(fake.requests[0].body or b"") == body
