"""From what a caller passes to messages, and messages taken apart for formats that are not the canonical one."""

from typing import Any

import pytest

from agouti.core.chat import Markers, Message, ToolCall, ToolFunction
from agouti.core.errors import RequestError
from agouti.core.parts import (
    ImagePart,
    TextPart,
    arguments_of,
    by_role,
    image_of,
    messages_of,
    parts_of,
    pictures_in,
    system_and_rest,
    text_of,
    with_pictures,
)
from agouti.core.prompt import messages
from agouti.dialects.prompt import prompt_of, rendered
from agouti.images import Image

GIF = Image(b"GIF89a......")
ADDRESS = "https://seed-library.example/a.png"
ENTRY = [Message("system", "Of the entry.")]


def roles(found: list[Any]) -> list[str]:
    return [message.role if isinstance(message, Message) else message["role"] for message in found]


@pytest.mark.parametrize(
    ("prompt", "options", "expected"),
    [
        ("Peas?", {}, ["user"]),
        ("Peas?", {"before": ENTRY}, ["system", "user"]),
        ("Peas?", {"before": ENTRY, "system": "Mine."}, ["system", "user"]),
        ("Peas?", {"before": ENTRY, "system": "Mine.", "examples": [("a", "b")]}, ["system", "user", "assistant", "user"]),
        ([Message("system", "Theirs."), Message("user", "x")], {"before": ENTRY}, ["system", "user"]),
        ([{"role": "developer", "content": "Theirs."}, {"role": "user", "content": "x"}], {"before": ENTRY}, ["developer", "user"]),
        ([{"role": "user", "content": "x"}, {"role": "assistant", "content": "y"}], {"before": ENTRY}, ["system", "user", "assistant"]),
        (["Which?", GIF], {}, ["user"]),
        ([GIF], {"before": ENTRY}, ["system", "user"]),
    ],
)  # fmt: skip
def test_every_form_of_a_prompt_becomes_messages(prompt: Any, options: Any, expected: list[str]) -> None:
    found = messages(prompt, **options)
    assert roles(found) == expected
    if "system" in options:
        assert isinstance(found[0], Message)
        assert found[0].content == "Mine."


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
        messages(prompt)
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
def test_pictures_go_with_the_users_last_words_and_the_callers_list_is_not_touched(asked: Any) -> None:
    before = list(asked) if isinstance(asked, list) else asked
    found = messages_of(messages(asked, shown=[GIF]))
    last = next(message for message in reversed(found) if message.role == "user")
    assert [type(part) for part in parts_of(last)] == [ImagePart, TextPart]
    assert text_of(last) == "Which?"
    assert before == asked


def test_pictures_without_a_message_of_the_user_have_no_place() -> None:
    with pytest.raises(RequestError, match="no message of the user"):
        messages([Message("assistant", "x")], shown=[GIF])


def test_addresses_are_found_and_replaced_where_they_stand() -> None:
    url = {"url": ADDRESS, "detail": "low"}
    given: list[Any] = [
        {"role": "user", "content": [{"type": "image_url", "image_url": url}, {"type": "text", "text": "a"}]},
        Message("user", [{"type": "image_url", "image_url": ADDRESS}, GIF.part]),
        Message("assistant", "b"),
    ]
    assert list(pictures_in(given)) == [ADDRESS, ADDRESS, GIF.address]
    changed = with_pictures(given, {ADDRESS: "data:image/png;base64,AA=="})
    assert list(pictures_in(changed)) == ["data:image/png;base64,AA=="] * 2 + [GIF.address]
    assert changed[0]["content"][0]["image_url"]["detail"] == "low"  # type: ignore[index]
    assert list(pictures_in(given)) == [ADDRESS, ADDRESS, GIF.address]
    assert changed[2] is given[2]


@pytest.mark.parametrize("address", ["data:image/png,AA", "data:image/png;base64,", "data:;hex,00"])
def test_picture_in_an_address_has_to_be_base64(address: str) -> None:
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
