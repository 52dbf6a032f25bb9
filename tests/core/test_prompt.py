"""From what a caller passes to messages, and messages taken apart for formats that are not the canonical one."""

from typing import Any

import msgspec
import pytest

from agouti.core.canonical.chat import Choice, Markers, Message, ToolCall, ToolFunction
from agouti.core.errors import RequestError
from agouti.core.messages.messages import (
    arguments_of,
    by_role,
    media_in,
    message_json,
    messages_of,
    reply_message,
    sendable,
    system_and_rest,
    with_addresses,
    with_parts,
)
from agouti.core.messages.parts import ImagePart, TextPart, image_of, parts_of, text_of
from agouti.core.messages.prompt import assembled, prompt_messages
from agouti.dialects.prompt.dialect import prompt_of, rendered
from agouti.media import Image

GIF = Image(b"GIF89a......")
ADDRESS = "https://seed-library.example/a.png"
ENTRY = "Of the entry."


@pytest.mark.parametrize(
    ("prompt", "options", "expected"),
    [
        ("Peas?", {}, ["user"]),
        ("Peas?", {"entry_system": ENTRY}, ["system", "user"]),
        ("Peas?", {"entry_system": ENTRY, "system": "Mine."}, ["system", "user"]),
        ("Peas?", {"entry_system": ENTRY, "system": "Mine.", "examples": [("a", "b")]}, ["system", "user", "assistant", "user"]),
        ([Message("system", "Theirs."), Message("user", "x")], {"entry_system": ENTRY}, ["system", "user"]),
        ([{"role": "developer", "content": "Theirs."}, {"role": "user", "content": "x"}], {"entry_system": ENTRY}, ["developer", "user"]),
        ([{"role": "user", "content": "x"}, {"role": "assistant", "content": "y"}], {"entry_system": ENTRY}, ["system", "user", "assistant"]),
        (["Which?", GIF], {}, ["user"]),
        ([GIF], {"entry_system": ENTRY}, ["system", "user"]),
    ],
)  # fmt: skip
def test_every_form_of_a_prompt_becomes_messages(prompt: Any, options: Any, expected: list[str]) -> None:
    messages = assembled(prompt_messages(prompt), **options)
    assert [message.role for message in messages] == expected
    if "system" in options:
        assert messages[0].content == "Mine."
    without = assembled(prompt_messages(prompt), **{**options, "system": ""})
    assert ENTRY not in [message.content for message in without]


@pytest.mark.parametrize(
    "prompt",
    [
        "",
        "  \n",
        [],
        3,
        None,
        b"bytes",
        [3],
        [{"role": "grower", "content": "x"}],
        [{"content": "x"}],
        [Message("robot", "x")],
    ],
)
def test_what_is_no_prompt_is_said_with_what_one_looks_like(prompt: Any) -> None:
    with pytest.raises(RequestError) as wrong:
        prompt_messages(prompt)
    assert wrong.value.hint


@pytest.mark.parametrize(
    "asked",
    [
        "Which?",
        [Message("user", "Before."), Message("assistant", "Yes."), Message("user", "Which?")],
        [{"role": "user", "content": [{"type": "text", "text": "Which?"}]}],
        [{"role": "user", "content": "Which?"}, {"role": "assistant", "content": "This"}],
    ],
)
def test_images_go_with_the_users_last_words_and_the_callers_list_is_not_touched(asked: Any) -> None:
    before = list(asked) if isinstance(asked, list) else asked
    found = with_parts(prompt_messages(asked), [GIF.part])
    last = next(message for message in reversed(found) if message.role == "user")
    assert [type(part) for part in parts_of(last)] == [ImagePart, TextPart]
    assert text_of(last) == "Which?"
    assert before == asked


def test_images_without_a_message_of_the_user_have_no_place() -> None:
    with pytest.raises(RequestError, match="no message of the user"):
        with_parts(prompt_messages([Message("assistant", "x")]), [GIF.part])


def test_addresses_are_found_and_replaced_where_they_stand() -> None:
    url = {"url": ADDRESS, "detail": "low"}
    given = (
        Message("user", [{"type": "image_url", "image_url": url}, {"type": "text", "text": "a"}]),
        Message("user", [{"type": "image_url", "image_url": ADDRESS}, GIF.part]),
        Message("assistant", "b"),
    )
    assert [address for _, address in media_in(given)] == [ADDRESS, ADDRESS, GIF.address]
    changed = with_addresses(given, {ADDRESS: "data:image/png;base64,AA=="})
    assert [address for _, address in media_in(changed)] == ["data:image/png;base64,AA=="] * 2 + [GIF.address]
    assert changed[0].content[0]["image_url"]["detail"] == "low"  # type: ignore[index]
    assert [address for _, address in media_in(given)] == [ADDRESS, ADDRESS, GIF.address]
    assert changed[2] is given[2]


@pytest.mark.parametrize("address", ["data:image/png,AA", "data:image/png;base64,", "data:;hex,00"])
def test_image_in_an_address_has_to_be_base64(address: str) -> None:
    with pytest.raises(RequestError, match="base64"):
        image_of(address)


def test_turns_of_one_role_are_merged_and_empty_ones_left_out() -> None:
    given = [
        Message("user", "a"),
        Message("tool", "b"),
        Message("assistant", ""),
        Message("assistant", "c"),
        Message("user", "d"),
    ]
    turns = by_role(given, lambda message: [{"text": message.content}] if message.content else [], assistant="model")
    assert turns == [("user", [{"text": "a"}, {"text": "b"}]), ("model", [{"text": "c"}]), ("user", [{"text": "d"}])]
    assert system_and_rest([Message("system", "a"), Message("user", "b"), Message("developer", "c")]) == (
        "a\n\nc",
        [Message("user", "b")],
    )


@pytest.mark.parametrize(
    ("text", "arguments"), [(None, {}), ("", {}), ('{"a": 1}', {"a": 1}), ("[1]", None), ("{", None)]
)
def test_arguments_of_a_call_are_an_object_or_refused(text: str | None, arguments: Any) -> None:
    call = ToolCall(ToolFunction("f", text), "c")
    if arguments is not None:
        assert arguments_of(call) == arguments
        return
    with pytest.raises(RequestError, match="not a JSON object"):
        arguments_of(call)


WHOLE = {
    "role": "assistant",
    "content": None,
    "tool_calls": [{"id": "c1", "type": "function", "function": {"name": "f", "arguments": "{}"}}],
}


@pytest.mark.parametrize(
    "given",
    [
        {"role": "user", "content": "x", "weight": 1, "name": None},
        {"role": "tool", "content": "3", "tool_call_id": "c1", "name": "f"},
        {**WHOLE, "reasoning_content": "hm", "audio": {"id": "a"}},
        {**WHOLE, "tool_calls": [{**WHOLE["tool_calls"][0], "extra_content": {"sign": "x"}, "index": 0}]},  # type: ignore[index]
        {**WHOLE, "tool_calls": [{"id": "c", "type": "custom", "custom": {"input": "x"}, "function": {"name": "f", "arguments": "", "z": 1}}]},
        {"role": "user", "content": [{"type": "input_audio", "input_audio": {"data": "AA"}, "more": [1]}]},
    ],
)  # fmt: skip
def test_message_that_came_as_json_goes_out_as_it_came(given: dict[str, Any]) -> None:
    before = msgspec.json.encode(given)
    assert message_json(messages_of([given])[0]) == given
    assert msgspec.json.encode(given) == before


@pytest.mark.parametrize(
    "wrong",
    [
        {"role": "user", "content": 3},
        {"role": "user", "content": ["x"]},
        {"role": "user", "content": "x", "name": 3},
        {"role": "assistant", "tool_calls": "x"},
        {"role": "assistant", "tool_calls": [{"id": 3, "function": {}}]},
        {"role": "tool", "tool_call_id": 3},
        "x",
    ],
)
def test_message_that_is_none_is_named_by_its_number(wrong: Any) -> None:
    with pytest.raises(RequestError, match="message 1"):
        messages_of([{"role": "user", "content": "x"}, wrong])


def test_call_that_a_model_has_spoilt_can_go_back() -> None:
    spoilt = [ToolCall(ToolFunction("f", "about ten")), ToolCall(ToolFunction("g", None), "c")]
    calls = reply_message(Choice("", tool_calls=spoilt)).tool_calls
    assert [(call.id, call.function.arguments) for call in calls] == [("call_0", '{"text":"about ten"}'), ("c", "{}")]
    assert calls == tuple(sendable(number, call) for number, call in enumerate(calls))


@pytest.mark.parametrize(
    ("given", "text"),
    [
        ([Message("user", "a")], "a"),
        ([Message("system", "s"), Message("user", "a")], "s\n\na"),
        (
            [Message("user", "a"), Message("assistant", "b"), Message("user", "c")],
            "User: a\nAssistant: b\nUser: c\nAssistant:",
        ),
    ],
)
def test_question_alone_needs_no_markers(given: list[Message], text: str) -> None:
    assert prompt_of(given, Markers()) == text
    assert prompt_of(given, Markers(user="[U]")) == rendered(given, Markers(user="[U]"))


@pytest.mark.parametrize(
    "wrong",
    [
        {"role": "user", "content": [{"type": "video", "video": "x"}]},
        {"role": "user", "content": [{"type": "input_audio", "input_audio": {}}]},
    ],
)
def test_part_that_only_the_canonical_form_carries_is_named(wrong: Any) -> None:
    with pytest.raises(RequestError, match=wrong["content"][0]["type"]):
        list(parts_of(messages_of([wrong])[0]))


def test_message_of_another_shape_is_named_by_its_place() -> None:
    with pytest.raises(RequestError, match="message 1"):
        messages_of([Message("user", "a"), {"role": 3, "content": "x"}])
