"""Every dialect keeps the contract; one that does not is found out. Every call works on every dialect."""

import json
from typing import Any

import pytest

import agouti
from agouti.core.canonical.chat import Message, Request
from agouti.core.canonical.events import Event, Finished
from agouti.core.messages.messages import messages_of
from agouti.dialects.chat.dialect import ChatDialect
from agouti.dialects.registry import dialect, names
from agouti.standins import Served
from agouti.testing import FakeTransport
from agouti.testing.contract import ContractBroken, check_dialect

from ..conftest import Caller
from .samples import SAMPLES

# A model of a stand-in for each dialect.
MODELS = {
    "chat": "quill-large@northbank",
    "contents": "narrow-3@canal",
    "lines": "loam-2b:latest@barn",
    "messages": "envelope-2@letterbox",
    "prompt": "vellum-base@scroll",
    "responses": "valley-4@echo",
    "predict": "grist-1@mill",
    "jobs": "potters/clinker-7b@kiln",
    "converse": "hull.deck-2:0@quay",
    "board": "cork-2@hall",
}
# Formats that give no reason for the end, have no streams, or no list of models.
NO_REASON, NO_STREAM, NO_LIST = {"predict"}, {"predict"}, {"predict", "jobs", "converse"}


@pytest.mark.parametrize("name", names())
def test_dialect_keeps_the_contract(name: str) -> None:
    check_dialect(dialect(name), SAMPLES[name], noise=1_000_000)


class Forgetful(ChatDialect):
    def stream_decoder(self) -> Any:
        inner = super().stream_decoder()

        class Decoder:
            done = property(lambda self: inner.done)
            failure = property(lambda self: inner.failure)

            def feed(self, data: bytes) -> list[Event]:
                return [event for event in inner.feed(data) if not isinstance(event, Finished)]

            def last(self) -> list[Event]:
                return []

            def end(self) -> bool:
                return True

        return Decoder()


class Strict(ChatDialect):
    def decode_chat(self, body: bytes) -> Any:
        found = json.loads(body)
        if "x_unknown" in found:
            raise KeyError("x_unknown")
        return super().decode_chat(body)


@pytest.mark.parametrize("broken", [Forgetful, Strict])
def test_dialect_that_does_not_is_found_out(broken: type[ChatDialect]) -> None:
    with pytest.raises((ContractBroken, KeyError)):
        check_dialect(broken(), SAMPLES["chat"])


@pytest.mark.parametrize("kind", ["ask", "stream"])
@pytest.mark.parametrize("name", MODELS)
def test_same_calls_on_every_dialect(served: Served, caller: Caller, name: str, kind: str) -> None:
    model = MODELS[name]
    reply = caller.call(
        kind,
        served.config,
        model,
        "When does garlic go in?",
        system="Brief.",
        examples=[("Peas?", "March.")],
        temperature=0.3,
    )
    assert reply.text.startswith("Garlic goes in")
    assert reply.finish_reason == (None if name in NO_REASON else "stop")
    assert (reply.usage.input_tokens or 0) > 5
    assert (reply.usage.output_tokens or 0) > 10
    cut = caller.call(kind, served.config, model, "When does garlic go in?", max_tokens=4)
    assert (cut.truncated, cut.usage.output_tokens) == (True, 4)
    if name == "responses":
        with pytest.raises(agouti.ParameterUnsupported):
            caller.call(kind, served.config, model, "When does garlic go in?", stop=["October"])
    else:
        stopped = caller.call(kind, served.config, model, "When does garlic go in?", stop=["October"])
        assert stopped.text == "Garlic goes in between "
    conversation = [
        Message("user", "Peas?"),
        Message("assistant", "March."),
        {"role": "user", "content": "And garlic?"},
    ]
    assert caller.call(kind, served.config, model, conversation).text.startswith("Garlic")
    with pytest.raises(agouti.ModelUnknown) as unknown:
        caller.call(kind, served.config, model.replace("@", "x@"), "Garlic?")
    assert bool(unknown.value.near) == (name not in NO_LIST)
    if kind == "stream" and name not in NO_STREAM:
        for fault, error in (("cut=6", agouti.StreamCut), ("error=3", agouti.Overloaded)):
            with pytest.raises(error) as broken:
                caller.stream(served.config, model.replace("@", f"+{fault}@"), "Garlic?")
            assert broken.value.partial is not None
            assert broken.value.partial.text


@pytest.mark.parametrize("name", names())
def test_what_a_dialect_lacks_is_said_or_left_out_as_the_entry_wishes(served: Served, name: str) -> None:
    takes = dialect(name).abilities.takes
    if takes is None:
        return
    lack: Any = {"logit_bias": {"5": 1}} if "logit_bias" not in takes else {"store": True}
    with agouti.Client(served.config) as client, pytest.raises(agouti.ParameterUnsupported) as lacking:
        client.ask(MODELS[name], "Garlic?", **lack)
    assert lacking.value.parameter in lack
    model, _, provider = MODELS[name].rpartition("@")
    entry = {"address": served.address(provider), "dialect": name, "unsupported": "warn"}
    given = served.config.providers[provider]
    entry |= {"key": given.key, "send_key": given.send_key, "headers": given.headers, "values": given.values}
    config = agouti.load_config({"providers": {provider: entry}}, environment=served.environment)
    with agouti.Client(config) as client, pytest.warns(agouti.AgoutiWarning, match="going on without"):
        assert client.ask(f"{model}@{provider}", "Garlic?", **lack).text


TOOLS = [{"type": "function", "function": {"name": "f", "description": "d", "parameters": {"type": "object"}}}]
IMAGE = {"type": "image_url", "image_url": {"url": "data:image/png;base64,AAAA"}}
CALLS = [{"id": "c1", "type": "function", "function": {"name": "f", "arguments": '{"a": 1}'}}]
RICH = messages_of(
    [
        {"role": "system", "content": "S"},
        {"role": "user", "content": [{"type": "text", "text": "Look"}, IMAGE]},
        {"role": "assistant", "tool_calls": CALLS},
        {"role": "tool", "tool_call_id": "c1", "content": "17"},
        {"role": "user", "content": "So?"},
    ]
)
SCHEMA = {"type": "json_schema", "json_schema": {"name": "n", "schema": {"type": "object"}}}
ENCODED: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "messages": (
        {
            "tools": TOOLS,
            "tool_choice": "required",
            "parallel_tool_calls": False,
            "response_format": SCHEMA,
            "stop": "#",
            "user": "u",
        },
        {
            "model": "m",
            "max_tokens": 4096,
            "system": "S",
            "messages": [
                {
                    "role": "user",
                    "content": [
                        {"type": "text", "text": "Look"},
                        {"type": "image", "source": {"type": "base64", "media_type": "image/png", "data": "AAAA"}},
                    ],
                },
                {"role": "assistant", "content": [{"type": "tool_use", "id": "c1", "name": "f", "input": {"a": 1}}]},
                {
                    "role": "user",
                    "content": [
                        {"type": "tool_result", "tool_use_id": "c1", "content": [{"type": "text", "text": "17"}]},
                        {"type": "text", "text": "So?"},
                    ],
                },
            ],
            "tools": [{"name": "f", "description": "d", "input_schema": {"type": "object"}}],
            "tool_choice": {"type": "any", "disable_parallel_tool_use": True},
            "stop_sequences": ["#"],
            "metadata": {"user_id": "u"},
            "output_config": {"format": {"type": "json_schema", "schema": {"type": "object"}}},
        },
    ),
    "contents": (
        {"tools": TOOLS, "tool_choice": "required", "response_format": SCHEMA, "stop": "#", "max_tokens": 5, "n": 2},
        {
            "systemInstruction": {"parts": [{"text": "S"}]},
            "contents": [
                {
                    "role": "user",
                    "parts": [{"text": "Look"}, {"inlineData": {"mimeType": "image/png", "data": "AAAA"}}],
                },
                {"role": "model", "parts": [{"functionCall": {"name": "f", "args": {"a": 1}}}]},
                {
                    "role": "user",
                    "parts": [{"functionResponse": {"name": "f", "response": {"result": "17"}}}, {"text": "So?"}],
                },
            ],
            "tools": [
                {
                    "functionDeclarations": [
                        {"name": "f", "description": "d", "parametersJsonSchema": {"type": "object"}}
                    ]
                }
            ],
            "toolConfig": {"functionCallingConfig": {"mode": "ANY"}},
            "generationConfig": {
                "maxOutputTokens": 5,
                "candidateCount": 2,
                "stopSequences": ["#"],
                "responseMimeType": "application/json",
                "responseJsonSchema": {"type": "object"},
            },
        },
    ),
    "responses": (
        {
            "tools": TOOLS,
            "tool_choice": {"type": "function", "function": {"name": "f"}},
            "response_format": SCHEMA,
            "max_tokens": 5,
        },
        {
            "model": "m",
            "instructions": "S",
            "input": [
                {
                    "type": "message",
                    "role": "user",
                    "content": [
                        {"type": "input_text", "text": "Look"},
                        {"type": "input_image", "image_url": "data:image/png;base64,AAAA"},
                    ],
                },
                {"type": "function_call", "call_id": "c1", "name": "f", "arguments": '{"a": 1}'},
                {"type": "function_call_output", "call_id": "c1", "output": "17"},
                {"type": "message", "role": "user", "content": [{"type": "input_text", "text": "So?"}]},
            ],
            "max_output_tokens": 5,
            "text": {"format": {"type": "json_schema", "name": "n", "schema": {"type": "object"}}},
            "tools": [
                {"type": "function", "strict": False, "name": "f", "description": "d", "parameters": {"type": "object"}}
            ],
            "tool_choice": {"type": "function", "name": "f"},
        },
    ),
    "converse": (
        {"tools": TOOLS, "tool_choice": {"type": "function", "function": {"name": "f"}}, "stop": "#", "max_tokens": 5},
        {
            "system": [{"text": "S"}],
            "messages": [
                {
                    "role": "user",
                    "content": [{"text": "Look"}, {"image": {"format": "png", "source": {"bytes": "AAAA"}}}],
                },
                {"role": "assistant", "content": [{"toolUse": {"toolUseId": "c1", "name": "f", "input": {"a": 1}}}]},
                {
                    "role": "user",
                    "content": [
                        {"toolResult": {"toolUseId": "c1", "content": [{"text": "17"}], "status": "success"}},
                        {"text": "So?"},
                    ],
                },
            ],
            "toolConfig": {
                "tools": [{"toolSpec": {"name": "f", "inputSchema": {"json": {"type": "object"}}, "description": "d"}}],
                "toolChoice": {"tool": {"name": "f"}},
            },
            "inferenceConfig": {"maxTokens": 5, "stopSequences": ["#"]},
        },
    ),
    "lines": (
        {"tools": TOOLS, "response_format": SCHEMA, "stop": "#", "max_tokens": 5, "seed": 7},
        {
            "model": "m",
            "stream": False,
            "messages": [
                {"role": "system", "content": "S"},
                {"role": "user", "content": "Look", "images": ["AAAA"]},
                {
                    "role": "assistant",
                    "content": "",
                    "tool_calls": [{"function": {"name": "f", "arguments": {"a": 1}}}],
                },
                {"role": "tool", "content": "17", "tool_name": "f"},
                {"role": "user", "content": "So?"},
            ],
            "tools": TOOLS,
            "format": {"type": "object"},
            "options": {"stop": ["#"], "num_predict": 5, "seed": 7},
        },
    ),
}


@pytest.mark.parametrize("name", ENCODED)
def test_conversation_with_images_and_tools_is_translated_whole(name: str) -> None:
    parameters, expected = ENCODED[name]
    assert dialect(name).encode_chat(Request("m", messages_of(RICH), parameters)).body == expected


def test_markers_stand_around_the_texts_and_bring_their_stop_strings() -> None:
    entry = {
        "providers": {"scroll": {"address": "localhost:1/v1", "dialect": "prompt"}},
        "models": {
            "clerk": {
                "provider": "scroll",
                "name": "vellum",
                "system": "Brief.",
                "markers": {"system": "[S]", "user": "[U]", "assistant": "[A]", "end": "[/]", "stop": ["[U]"]},
            }
        },
    }
    fake = FakeTransport([{"choices": [{"text": " In March."}]}])
    with agouti.Client(entry, transport=fake) as client:
        client.ask("clerk", "Peas?", examples=[("Beans?", "May.")], stop="#")
    body = json.loads(fake.requests[0].body or b"")
    assert body == {
        "model": "vellum",
        "prompt": "[S]Brief.[/][U]Beans?[/][A] May.[/][U]Peas?[/][A]",
        "stop": ["#", "[U]"],
    }


@pytest.mark.parametrize(
    ("name", "messages", "parameters"),
    [
        ("messages", [{"role": "user", "content": "x"}], {"temperature": 1.5}),
        ("messages", [{"role": "user", "content": "x"}], {"response_format": {"type": "json_object"}}),
        ("messages", [{"role": "user", "content": [{"type": "input_audio"}]}], {}),
        ("messages", [{"role": "assistant", "tool_calls": [{"function": {"name": "f", "arguments": "["}}]}], {}),
        ("lines", [{"role": "user", "content": [{"type": "image_url", "image_url": "https://x.example/a.png"}]}], {}),
        ("lines", [{"role": "user", "content": 7}], {}),
        ("predict", [{"role": "user", "content": [IMAGE]}], {}),
        ("jobs", [{"role": "user", "content": [IMAGE, IMAGE]}], {}),
        (
            "converse",
            [{"role": "user", "content": [{"type": "image_url", "image_url": "https://x.example/a.png"}]}],
            {},
        ),
        (
            "converse",
            [{"role": "user", "content": [{"type": "image_url", "image_url": {"url": "data:image/tiff;base64,AA"}}]}],
            {},
        ),
        ("converse", [{"role": "assistant", "tool_calls": CALLS}], {"tools": TOOLS, "tool_choice": "none"}),
    ],
)
def test_what_cannot_be_expressed_is_refused_before_sending(name: str, messages: Any, parameters: Any) -> None:
    with pytest.raises(agouti.RequestError) as refused:
        dialect(name).encode_chat(Request("m", messages_of(messages), parameters))
    assert refused.value.message


def entry_of(served: Served, label: str, **changes: Any) -> agouti.Config:
    """The ready-made entry of a stand-in, changed."""
    import tomllib

    given = tomllib.loads(served.entry(label))["providers"][label]
    return agouti.load_config({"providers": {label: {**given, **changes}}}, environment=served.environment)


@pytest.mark.parametrize("kind", ["ask", "stream"])
def test_other_forms_of_a_dialect_that_an_entry_can_name(served: Served, caller: Caller, kind: str) -> None:
    forms = [
        (entry_of(served, "barn", address=served.address("barn") + "/api/generate"), "loam-2b:latest@barn"),
        (entry_of(served, "canal", paths={"stream": "/models/{model}:streamGenerateContent"}), "narrow-3@canal"),
        (entry_of(served, "quay", key={"env": "QUAY_KEY"}), "hull.deck-2:0@quay"),
    ]
    for config, model in forms:
        reply = caller.call(kind, config, model, "When does garlic go in?", system="Brief.", max_tokens=4)
        assert (reply.text, reply.truncated, reply.usage.output_tokens) == ("Garlic goes in betwee", True, 4)


def test_wrong_signature_and_changed_frame_are_told(served: Served) -> None:
    key = {"signature": "v4", "region": "north", "service": "models", "access_key": {"env": "QUAY_ACCESS_KEY"}}
    config = entry_of(served, "quay", key={**key, "secret_key": {"env": "QUAY_KEY"}})
    with agouti.Client(config) as client, pytest.raises(agouti.CredentialRefused, match="signature"):
        client.ask(MODELS["converse"], "Garlic?")
    stream = bytearray(SAMPLES["converse"].stream)
    stream[-30] ^= 1
    fake = FakeTransport([[bytes(stream[:900]), bytes(stream[900:])]])
    entry = {"providers": {"p": {"address": "https://p.example", "dialect": "converse"}}}
    with agouti.Client(entry, transport=fake) as client, pytest.raises(agouti.FramingError) as broken:
        "".join(client.stream("m@p", "Garlic?"))
    assert broken.value.partial is not None
    assert broken.value.partial.text.startswith("Not yet")


@pytest.mark.parametrize(
    ("instance", "sent", "prediction", "text"),
    [
        (None, {"prompt": "Peas?"}, "In March.", "In March."),
        (None, {"prompt": "Peas?"}, {"candidates": [{"content": "In March."}]}, "In March."),
        ({"prompt": "/prefix", "text": "/out/0"}, {"prefix": "Peas?"}, {"out": ["In March."]}, "In March."),
        ({"messages": "/messages"}, {"messages": [{"role": "user", "content": "Peas?"}]}, {"text": "In March."}, "In March."),
        (None, {"prompt": "Peas?"}, {"safetyAttributes": {"blocked": True}}, ""),
    ],
)  # fmt: skip
def test_instances_have_the_shape_that_the_entry_says(instance: Any, sent: Any, prediction: Any, text: str) -> None:
    provider: dict[str, Any] = {"address": "https://p.example/v1/models", "dialect": "predict"}
    fake = FakeTransport([{"predictions": [prediction]}])
    with agouti.Client(
        {"providers": {"p": {**provider, **({"instance": instance} if instance else {})}}}, transport=fake
    ) as client:
        reply = client.ask("m@p", "Peas?")
    assert fake.requests[0].url == "https://p.example/v1/models/m:predict"
    assert json.loads(fake.requests[0].body or b"") == {"instances": [sent]}
    assert reply.text == text
    assert reply.finish_reason == (None if text else "content_filter")


def test_prediction_without_text_says_where_was_looked() -> None:
    fake = FakeTransport([{"predictions": [{"x": 1}]}])
    entry = {"providers": {"p": {"address": "https://p.example/v1/models", "dialect": "predict"}}}
    with (
        agouti.Client(entry, transport=fake) as client,
        pytest.raises(agouti.ReplyUnreadable, match="/content") as wrong,
    ):
        client.ask("m@p", "Peas?")
    assert "instance" in wrong.value.hint
