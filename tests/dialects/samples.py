"""One reply in the words of each dialect, whole and streamed, and its errors."""

import json
import struct
from typing import Any

from msgspec.structs import replace

from agouti.core.canonical.chat import Choice, Citation, Completion, SafetyNote, ToolCall, ToolFunction, Usage
from agouti.core.errors import (
    ContextOverflow,
    CredentialRefused,
    ModelUnknown,
    NoAccess,
    OutOfCredit,
    Overloaded,
    RateLimited,
    RequestRefused,
)
from agouti.core.framing.binary import frame
from agouti.testing.contract import Sample

CALL = ToolCall(ToolFunction("days_to_frost", '{"place":"Marsh Lane"}'), "call_0")
CITED = Citation("https://seed-library.example/frost", "Frost dates")
VECTORS = ([1.0, 0.5], [0.0, 1.0])
ANSWER = Choice("Not yet: frost is near. \u2028", "tool_calls", "Hm, May?", None, (CALL,))


def data(*values: Any, end: str = "") -> bytes:
    """Server-sent events with these values as data."""
    return "".join(f"data: {json.dumps(value)}\n\n" for value in values).encode() + end.encode()


def named(*values: dict[str, Any]) -> bytes:
    """Server-sent events named by the type of each value."""
    return "".join(f"event: {value['type']}\ndata: {json.dumps(value)}\n\n" for value in values).encode()


def lines(*values: Any) -> bytes:
    """A JSON value to a line."""
    return "".join(json.dumps(value) + "\n" for value in values).encode()


def _chat() -> Sample:
    call = {
        "id": "call_0",
        "type": "function",
        "function": {"name": "days_to_frost", "arguments": '{"place":"Marsh Lane"}'},
    }
    usage = {
        "prompt_tokens": 9,
        "completion_tokens": 7,
        "total_tokens": 16,
        "prompt_tokens_details": {"cached_tokens": 4},
    }
    annotation = {"type": "url_citation", "url_citation": {"url": CITED.address, "title": CITED.title}}
    message = {"role": "assistant", "content": ANSWER.text, "reasoning_content": "Hm, May?", "tool_calls": [call]}
    message["annotations"] = [annotation]
    plain = {
        "id": "r1",
        "model": "m",
        "choices": [{"index": 0, "message": message, "finish_reason": "tool_calls"}],
        "usage": usage,
    }

    def chunk(delta: dict[str, Any], finish: str | None = None) -> dict[str, Any]:
        return {
            "id": "r1",
            "model": "m",
            "choices": [{"index": 0, "delta": delta, "finish_reason": finish}],
            "usage": None,
        }

    stream = data(
        chunk({"role": "assistant", "content": ""}),
        chunk({"reasoning_content": "Hm, "}),
        chunk({"reasoning_content": "May?"}),
        chunk({"content": "Not yet: "}),
        chunk({"content": "frost is near. \u2028"}),
        chunk({"annotations": [annotation]}),
        chunk({"tool_calls": [{"index": 0, "id": "call_0", "function": {"name": "days_to_frost", "arguments": ""}}]}),
        chunk({"tool_calls": [{"index": 0, "function": {"arguments": '{"place":'}}]}),
        chunk({"tool_calls": [{"index": 0, "function": {"arguments": '"Marsh Lane"}'}}]}),
        chunk({}, "tool_calls"),
        {"choices": [], "usage": usage},
        end="data: [DONE]\n\n",
    )
    return Sample(
        json.dumps(plain).encode(),
        stream,
        Completion((replace(ANSWER, citations=(CITED,)),), "m", "r1", Usage(9, 7, 16, 4)),
        vectors=(
            b'{"data": [{"index": 1, "embedding": [0, 1]}, {"index": 0, "embedding": "AACAPwAAAD8="}], "model": "m"}',
            (struct.pack("<2f", 1.0, 0.5), VECTORS[1]),
        ),
        errors=(
            (404, b'{"error": {"message": "no such model", "code": "model_not_found"}}', ModelUnknown),
            (429, b'{"error": "slow down"}', RateLimited),
            (503, b"", Overloaded),
        ),
    )


def _messages() -> Sample:
    usage = {"input_tokens": 5, "output_tokens": 7, "cache_read_input_tokens": 4}
    source = {"type": "web_search_result_location", "url": CITED.address, "title": CITED.title}
    plain = {
        "id": "r1",
        "type": "message",
        "role": "assistant",
        "model": "m",
        "content": [
            {"type": "thinking", "thinking": "Hm, May?", "signature": "s"},
            {"type": "text", "text": ANSWER.text, "citations": [source]},
            {"type": "tool_use", "id": "call_0", "name": "days_to_frost", "input": {"place": "Marsh Lane"}},
        ],
        "stop_reason": "tool_use",
        "usage": usage,
    }
    start = {
        "id": "r1",
        "model": "m",
        "content": [],
        "usage": {"input_tokens": 5, "cache_read_input_tokens": 4, "output_tokens": 1},
    }

    def delta(index: int, kind: str, **fields: Any) -> dict[str, Any]:
        return {"type": "content_block_delta", "index": index, "delta": {"type": kind, **fields}}

    stream = named(
        {"type": "message_start", "message": start},
        {"type": "content_block_start", "index": 0, "content_block": {"type": "thinking", "thinking": ""}},
        delta(0, "thinking_delta", thinking="Hm, May?"),
        delta(0, "signature_delta", signature="s"),
        {"type": "content_block_stop", "index": 0},
        {"type": "ping"},
        {"type": "content_block_start", "index": 1, "content_block": {"type": "text", "text": ""}},
        delta(1, "text_delta", text="Not yet: "),
        delta(1, "text_delta", text="frost is near. \u2028"),
        delta(1, "citations_delta", citation=source),
        {"type": "content_block_start", "index": 2, "content_block": {"type": "tool_use", "id": "call_0", "name": "days_to_frost", "input": {}}},
        delta(2, "input_json_delta", partial_json='{"place":'),
        delta(2, "input_json_delta", partial_json='"Marsh Lane"}'),
        {"type": "message_delta", "delta": {"stop_reason": "tool_use"}, "usage": {"output_tokens": 7}},
        {"type": "message_stop"},
    )  # fmt: skip
    return Sample(
        json.dumps(plain).encode(),
        stream,
        Completion((replace(ANSWER, citations=(CITED,)),), "m", "r1", Usage(9, 7, 16, 4)),
        errors=(
            (401, b'{"type": "error", "error": {"type": "authentication_error", "message": "no"}}', CredentialRefused),
            (403, b'{"type": "error", "error": {"type": "permission_error", "message": "no"}}', NoAccess),
            (529, b'{"type": "error", "error": {"type": "overloaded_error", "message": "later"}}', Overloaded),
            (400, b'{"type": "error", "error": {"type": "invalid_request_error", "message": "prompt is too long: 9 tokens"}}', ContextOverflow),
        ),
    )  # fmt: skip


def _lines() -> Sample:
    call = {"function": {"name": "days_to_frost", "arguments": {"place": "Marsh Lane"}}}
    counts = {"done": True, "done_reason": "stop", "prompt_eval_count": 9, "eval_count": 7}
    message = {"role": "assistant", "content": ANSWER.text, "thinking": "Hm, May?", "tool_calls": [call]}
    stream = lines(
        {"model": "m", "message": {"role": "assistant", "content": "", "thinking": "Hm, May?"}, "done": False},
        {"model": "m", "message": {"role": "assistant", "content": "Not yet: "}, "done": False},
        {"model": "m", "message": {"role": "assistant", "content": "frost is near. \u2028"}, "done": False},
        {"model": "m", "message": {"role": "assistant", "content": "", "tool_calls": [call]}, "done": False},
        {"model": "m", "message": {"role": "assistant", "content": ""}, **counts},
    )
    return Sample(
        json.dumps({"model": "m", "message": message, **counts}).encode(),
        stream,
        Completion((ANSWER,), "m", None, Usage(9, 7, 16)),
        vectors=(b'{"model": "m", "embeddings": [[1, 0.5], [0, 1]], "prompt_eval_count": 3}', VECTORS),
        errors=(
            (404, b'{"error": "model \'m\' not found"}', ModelUnknown),
            (400, b'{"error": "unknown field \'a\'"}', RequestRefused),
        ),
    )


def _contents() -> Sample:
    call = {"functionCall": {"name": "days_to_frost", "args": {"place": "Marsh Lane"}}}
    usage = {
        "promptTokenCount": 9,
        "candidatesTokenCount": 5,
        "thoughtsTokenCount": 2,
        "cachedContentTokenCount": 4,
        "totalTokenCount": 16,
    }
    end = {"usageMetadata": usage, "modelVersion": "m", "responseId": "r1"}

    def said(*parts: dict[str, Any], **more: Any) -> dict[str, Any]:
        return {"candidates": [{"content": {"role": "model", "parts": list(parts)}, "index": 0, **more}], **end}

    thought = {"text": "Hm, May?", "thought": True}
    notes = {
        "safetyRatings": [{"category": "WEATHER", "probability": "LOW"}],
        "citationMetadata": {"citationSources": [{"uri": CITED.address, "title": CITED.title}]},
    }
    choice = replace(ANSWER, citations=(CITED,), safety=(SafetyNote("WEATHER", "LOW"),))
    plain = said(thought, {"text": ANSWER.text}, call, finishReason="STOP", **notes)
    stream = data(
        said(thought),
        said({"text": "Not yet: "}),
        said({"text": "frost is near. \u2028"}),
        said(call),
        said({"text": ""}, finishReason="STOP", **notes),
    )
    return Sample(
        json.dumps(plain).encode(),
        stream,
        Completion((choice,), "m", "r1", Usage(9, 7, 16, 4, 2)),
        vectors=(b'{"embeddings": [{"values": [1, 0.5]}, {"values": [0, 1]}]}', VECTORS),
        errors=(
            (
                400,
                b'{"error": {"code": 400, "message": "API key not valid", "status": "INVALID_ARGUMENT"}}',
                CredentialRefused,
            ),
            (403, b'[{"error": {"code": 403, "message": "no", "status": "PERMISSION_DENIED"}}]', NoAccess),
            (
                429,
                b'{"error": {"code": 429, "message": "slow", "status": "RESOURCE_EXHAUSTED", "details": [{"retryDelay": "3s"}]}}',
                RateLimited,
            ),
            (404, b'{"error": {"code": 404, "message": "models/m is not found", "status": "NOT_FOUND"}}', ModelUnknown),
        ),
    )


def _responses() -> Sample:
    usage = {"input_tokens": 9, "output_tokens": 7, "total_tokens": 16, "input_tokens_details": {"cached_tokens": 4}}
    annotation = {"type": "url_citation", "url": CITED.address, "title": CITED.title}
    call = {
        "type": "function_call",
        "id": "i3",
        "call_id": "call_0",
        "name": "days_to_frost",
        "arguments": '{"place":"Marsh Lane"}',
    }
    output = [
        {"type": "reasoning", "id": "i1", "summary": [{"type": "summary_text", "text": "Hm, May?"}]},
        {
            "type": "message",
            "id": "i2",
            "role": "assistant",
            "content": [{"type": "output_text", "text": ANSWER.text, "annotations": [annotation]}],
        },
        call,
    ]
    plain = {
        "id": "r1",
        "object": "response",
        "model": "m",
        "status": "completed",
        "error": None,
        "output": output,
        "usage": usage,
    }

    def delta(kind: str, index: int, text: str) -> dict[str, Any]:
        return {"type": f"response.{kind}.delta", "output_index": index, "delta": text}

    stream = named(
        {"type": "response.created", "response": {"id": "r1", "model": "m", "status": "in_progress"}},
        {
            "type": "response.output_item.added",
            "output_index": 0,
            "item": {"type": "reasoning", "id": "i1", "summary": []},
        },
        delta("reasoning_summary_text", 0, "Hm, May?"),
        delta("output_text", 1, "Not yet: "),
        delta("output_text", 1, "frost is near. \u2028"),
        {"type": "response.output_text.annotation.added", "output_index": 1, "annotation": annotation},
        {"type": "response.output_text.done", "output_index": 1, "text": ANSWER.text},
        {"type": "response.output_item.added", "output_index": 2, "item": {**call, "arguments": ""}},
        delta("function_call_arguments", 2, '{"place":'),
        delta("function_call_arguments", 2, '"Marsh Lane"}'),
        {"type": "response.function_call_arguments.done", "output_index": 2, "arguments": call["arguments"]},
        {"type": "response.completed", "response": plain},
    )
    return Sample(
        json.dumps(plain).encode(),
        stream,
        Completion((replace(ANSWER, citations=(CITED,)),), "m", "r1", Usage(9, 7, 16, 4)),
        errors=(
            (401, b'{"error": {"message": "no", "code": "invalid_api_key"}}', CredentialRefused),
            (429, b'{"error": {"message": "slow", "code": "rate_limit_exceeded"}}', RateLimited),
        ),
    )


def _prompt() -> Sample:
    usage = {"prompt_tokens": 9, "completion_tokens": 7, "total_tokens": 16}

    def chunk(text: str, finish: str | None = None) -> dict[str, Any]:
        return {"id": "r1", "model": "m", "choices": [{"index": 0, "text": text, "finish_reason": finish}]}

    stream = data(
        chunk("Not yet: "),
        chunk("frost is near."),
        chunk("", "stop"),
        {"choices": [], "usage": usage},
        end="data: [DONE]\n\n",
    )
    return Sample(
        json.dumps({**chunk("Not yet: frost is near.", "stop"), "usage": usage}).encode(),
        stream,
        Completion((Choice("Not yet: frost is near.", "stop"),), "m", "r1", Usage(9, 7, 16)),
        errors=((429, b'{"object": "error", "message": "slow down", "code": 429}', RateLimited),),
    )


def _predict() -> Sample:
    prediction = {
        "content": "Not yet: frost is near.",
        "safetyAttributes": {"categories": ["Weather"], "scores": [0.25], "blocked": False},
        "citationMetadata": {"citations": [{"uri": CITED.address, "title": CITED.title}]},
    }
    counts = {"inputTokenCount": {"totalTokens": 9}, "outputTokenCount": {"totalTokens": 7}}
    plain = {"predictions": [prediction], "deployedModelId": "1", "model": "m", "metadata": {"tokenMetadata": counts}}
    choice = Choice(prediction["content"], citations=(CITED,), safety=(SafetyNote("Weather", "0.25"),))
    return Sample(
        json.dumps(plain).encode(),
        b"",
        Completion((choice,), "m", None, Usage(9, 7, 16)),
        errors=((404, b'{"error": {"code": 404, "message": "m is not found", "status": "NOT_FOUND"}}', ModelUnknown),),
        vectors=(
            b'{"predictions": [{"embeddings": {"values": [1, 0.5]}}, {"embeddings": {"values": [0, 1]}}]}',
            VECTORS,
        ),
    )


def _jobs() -> Sample:
    urls = {"get": "https://p.example/1", "cancel": "https://p.example/1/cancel"}
    job = {
        "id": "r1",
        "model": "m",
        "status": "succeeded",
        "input": {"prompt": "x", "max_tokens": 7},
        "output": ["Not yet: ", "frost", " is\nnear.", " "],
        "error": None,
        "metrics": {"predict_time": 0.5, "input_token_count": 9, "output_token_count": 7},
        "urls": urls,
    }
    stream = (
        b": hello\n\nevent: output\nid: 1\ndata: Not yet: \n\nevent: output\ndata: frost\n\nevent: tick\ndata: x\n\n"
        b"event: output\ndata:  is\ndata: near.\n\nevent: output\ndata:  \n\nevent: done\ndata: {}\n\n"
    )
    text = "Not yet: frost is\nnear. "
    return Sample(
        json.dumps(job).encode(),
        stream,
        Completion((Choice(text, "length"),), "m", "r1", Usage(9, 7, 16)),
        streamed=Completion((Choice(text, "stop"),)),
        errors=(
            (422, b'{"detail": "- input: Additional property x is not allowed"}', RequestRefused),
            (402, b'{"title": "Insufficient credit", "detail": "no credit"}', OutOfCredit),
        ),
    )


def _converse() -> Sample:
    usage = {"inputTokens": 5, "outputTokens": 7, "totalTokens": 16, "cacheReadInputTokens": 4}
    source = {"title": CITED.title, "source": CITED.address, "sourceContent": [{"text": CITED.quote}]}
    content = [
        {"reasoningContent": {"reasoningText": {"text": "Hm, May?", "signature": "s"}}},
        {"citationsContent": {"content": [{"text": "Not yet: "}], "citations": [source]}},
        {"text": "frost is near. \u2028"},
        {"toolUse": {"toolUseId": "call_0", "name": "days_to_frost", "input": {"place": "Marsh Lane"}}},
    ]
    plain = {"output": {"message": {"role": "assistant", "content": content}}, "stopReason": "tool_use", "usage": usage}

    def event(kind: str, **value: Any) -> bytes:
        return frame({":event-type": kind, ":message-type": "event"}, json.dumps(value).encode())

    def delta(index: int, **value: Any) -> bytes:
        return event("contentBlockDelta", contentBlockIndex=index, delta=value)

    stream = b"".join(
        [
            event("messageStart", role="assistant"),
            delta(0, reasoningContent={"text": "Hm, May?"}),
            delta(0, reasoningContent={"signature": "s"}),
            delta(1, text="Not yet: "),
            delta(1, citation=source),
            delta(1, text="frost is near. \u2028"),
            event("contentBlockStart", contentBlockIndex=2, start={"toolUse": {"toolUseId": "call_0", "name": "days_to_frost"}}),
            delta(2, toolUse={"input": '{"place":'}),
            delta(2, toolUse={"input": '"Marsh Lane"}'}),
            event("contentBlockStop", contentBlockIndex=2),
            event("messageStop", stopReason="tool_use"),
            event("metadata", usage=usage, metrics={"latencyMs": 9}),
        ]
    )  # fmt: skip
    return Sample(
        json.dumps(plain).encode(),
        stream,
        Completion((replace(ANSWER, citations=(CITED,)),), None, None, Usage(9, 7, 16, 4)),
        errors=((400, b'{"message": "The model m is not found"}', ModelUnknown),),
        vectors=(b'{"embedding": [1, 0.5], "inputTextTokenCount": 3}', VECTORS[:1]),
    )


SAMPLES = {
    "predict": _predict(),
    "jobs": _jobs(),
    "converse": _converse(),
    "prompt": _prompt(),
    "responses": _responses(),
    "contents": _contents(),
    "chat": _chat(),
    "messages": _messages(),
    "lines": _lines(),
}
