"""What becomes of each field of a served format where the model is asked in another one; writes the table of the guide.

python docs/translation.py

The table is measured, not written down: each field is put into a request for a model of each wire format, and what would
go out is compared with the same request without it.
"""

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import agouti
from agouti.calls.calls import calls_of
from agouti.config.tables import RelaySettings
from agouti.core.errors import AgoutiError
from agouti.dialects.registry import _BUILT_IN
from agouti.dialects.server_registry import server_formats
from agouti.engine.operations.chat import Chat
from agouti.engine.outgoing import OutgoingRequest
from agouti.relay.http_exchange import Exchange
from agouti.relay.request_handlers import Answers
from agouti.relay.response_store import ResponseStore
from agouti.relay.turn_memory import TurnMemory

SCHEMA = {
    "type": "object",
    "properties": {"up": {"type": "integer"}},
    "required": ["up"],
    "additionalProperties": False,
}
FUNCTION = {"name": "frost", "parameters": {"type": "object", "properties": {"at": {"type": "string"}}}}
PIXEL = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
ASK: dict[str, Any] = {"role": "user", "content": "Peas?"}
_NESTED = {"type": "function", "function": FUNCTION}
_FLAT = {"type": "function", **FUNCTION}
_BLOCK = {"name": "frost", "input_schema": FUNCTION["parameters"]}


def _said(content: Any, role: str = "user") -> dict[str, Any]:
    return {"role": role, "content": content}


FIELDS: dict[str, dict[str, dict[str, Any]]] = {
    "chat": {
        "max_tokens": {"max_tokens": 7},
        "temperature": {"temperature": 0.5},
        "top_p": {"top_p": 0.5},
        "top_k": {"top_k": 5},
        "stop": {"stop": ["a"]},
        "seed": {"seed": 1},
        "n": {"n": 2},
        "presence_penalty": {"presence_penalty": 0.5},
        "frequency_penalty": {"frequency_penalty": 0.5},
        "logprobs": {"logprobs": True},
        "top_logprobs": {"logprobs": True, "top_logprobs": 2},
        "user": {"user": "grower-7"},
        "tools": {"tools": [_NESTED]},
        "tool_choice": {"tools": [_NESTED], "tool_choice": "required"},
        "parallel_tool_calls": {"tools": [_NESTED], "parallel_tool_calls": False},
        "response_format": {"response_format": {"type": "json_schema", "json_schema": {"name": "a", "schema": SCHEMA, "strict": True}}},
        "reasoning_effort": {"reasoning_effort": "low"},
        "image_url": {"messages": [_said([{"type": "image_url", "image_url": {"url": f"data:image/png;base64,{PIXEL}"}}])]},
        "name of a message": {"messages": [{**ASK, "name": "ann"}]},
        "refusal of a turn": {"messages": [ASK, {"role": "assistant", "content": None, "refusal": "No."}, ASK]},
    },
    "responses": {
        "max_output_tokens": {"max_output_tokens": 7},
        "instructions": {"instructions": "Be brief."},
        "temperature": {"temperature": 0.5},
        "top_p": {"top_p": 0.5},
        "tools": {"tools": [_FLAT]},
        "tool_choice": {"tools": [_FLAT], "tool_choice": "required"},
        "parallel_tool_calls": {"tools": [_FLAT], "parallel_tool_calls": False},
        "text.format": {"text": {"format": {"type": "json_schema", "name": "a", "schema": SCHEMA, "strict": True}}},
        "text.verbosity": {"text": {"verbosity": "low"}},
        "reasoning.effort": {"reasoning": {"effort": "low"}},
        "top_logprobs": {"include": ["message.output_text.logprobs"], "top_logprobs": 2},
        "metadata": {"metadata": {"bed": "3"}},
        "previous_response_id": {"previous_response_id": "resp_6"},
        "background": {"background": True},
        "conversation": {"conversation": "conv_1"},
        "prompt": {"prompt": {"id": "t"}},
        "truncation": {"truncation": "auto"},
        "max_tool_calls": {"max_tool_calls": 3},
        "tools: others": {"tools": [{"type": "web_search"}]},
        "item_reference": {"input": [{"type": "item_reference", "id": "msg_1"}, ASK]},
        "input_image": {"input": [_said([{"type": "input_image", "image_url": f"data:image/png;base64,{PIXEL}"}])]},
        "input_image by file_id": {"input": [_said([{"type": "input_image", "file_id": "file_1"}])]},
        "computer_call_output": {"input": [{"type": "computer_call_output", "call_id": "c", "output": {}}, ASK]},
    },
    "messages": {
        "system": {"system": "Be brief."},
        "temperature": {"temperature": 0.5},
        "top_p": {"top_p": 0.5},
        "top_k": {"top_k": 5},
        "stop_sequences": {"stop_sequences": ["a"]},
        "metadata.user_id": {"metadata": {"user_id": "grower-7"}},
        "tools": {"tools": [_BLOCK]},
        "tool_choice": {"tools": [_BLOCK], "tool_choice": {"type": "any"}},
        "disable_parallel_tool_use": {"tools": [_BLOCK], "tool_choice": {"type": "auto", "disable_parallel_tool_use": True}},
        "thinking": {"max_tokens": 40_000, "thinking": {"type": "enabled", "budget_tokens": 4096}},
        "thinking: disabled": {"thinking": {"type": "disabled"}},
        "output_config.format": {"output_config": {"format": {"type": "json_schema", "schema": SCHEMA}}},
        "container": {"container": "c1"},
        "mcp_servers": {"mcp_servers": [{"type": "url", "url": "https://club.example"}]},
        "context_management": {"context_management": {"edits": []}},
        "tools: others": {"tools": [{"type": "web_search_1", "name": "web_search"}]},
        "image": {"messages": [_said([{"type": "image", "source": {"type": "base64", "media_type": "image/png", "data": PIXEL}}])]},
        "image by file": {"messages": [_said([{"type": "image", "source": {"type": "file", "file_id": "file_1"}}])]},
        "document: citations": {"messages": [_said([{"type": "document", "source": {"type": "text", "media_type": "text/plain", "data": "x"}, "citations": {"enabled": True}}])]},
        "search_result": {"messages": [_said([{"type": "search_result", "source": "s", "title": "t", "content": []}])]},
        "is_error": {"messages": [ASK, _said([{"type": "tool_use", "id": "a", "name": "frost", "input": {}}], "assistant"), _said([{"type": "tool_result", "tool_use_id": "a", "is_error": True}])]},
    },
    "prompt": {
        "max_tokens": {"max_tokens": 7},
        "temperature": {"temperature": 0.5},
        "top_p": {"top_p": 0.5},
        "stop": {"stop": ["a"]},
        "seed": {"seed": 1},
        "n": {"n": 2},
        "logprobs": {"logprobs": 2},
        "presence_penalty": {"presence_penalty": 0.5},
        "user": {"user": "grower-7"},
        "echo": {"echo": True},
        "suffix": {"suffix": "x"},
        "best_of": {"best_of": 2},
    },
}  # fmt: skip
PLAIN: dict[str, dict[str, Any]] = {
    "chat": {"messages": [ASK]},
    "responses": {"input": "Peas?"},
    "messages": {"max_tokens": 4096, "messages": [ASK]},
    "prompt": {"prompt": "Peas?"},
}
# The same request without what a field is about, where that is not the plain one.
BESIDE: dict[tuple[str, str], dict[str, Any]] = {
    ("chat", "top_logprobs"): {"logprobs": True},
    ("chat", "tool_choice"): {"tools": [_NESTED]},
    ("chat", "parallel_tool_calls"): {"tools": [_NESTED]},
    ("chat", "refusal of a turn"): {"messages": [ASK, {"role": "assistant", "content": ""}, ASK]},
    ("responses", "tool_choice"): {"tools": [_FLAT]},
    ("responses", "parallel_tool_calls"): {"tools": [_FLAT]},
    ("messages", "tool_choice"): {"tools": [_BLOCK]},
    ("messages", "disable_parallel_tool_use"): {"tools": [_BLOCK], "tool_choice": {"type": "auto"}},
    ("messages", "thinking"): {"max_tokens": 40_000},
    ("messages", "is_error"): {"messages": [ASK, FIELDS["messages"]["is_error"]["messages"][1], _said([{"type": "tool_result", "tool_use_id": "a"}])]},
}  # fmt: skip
DIALECTS = [each for each in _BUILT_IN if each != "chat"]
DIALECTS = ["chat", *sorted(DIALECTS)]


class Measure:
    """Says what becomes of fields."""

    def __init__(self) -> None:
        providers = {each: {"address": f"https://{each}.example/v1", "dialect": each} for each in DIALECTS}
        models = {each: {"provider": each, "name": "quill"} for each in DIALECTS}
        self._client = agouti.AsyncClient(agouti.load_config({"providers": providers, "models": models}))
        self._answers = Answers(self._client, RelaySettings(), TurnMemory(), ResponseStore())

    def body(self, form: str, dialect: str, more: Mapping[str, Any]) -> dict[str, Any]:
        """The fields that go out.

        Raises:
            AgoutiError: it cannot be said.
        """
        request = {"model": dialect, **PLAIN[form], **more}
        to = Exchange({"headers": []}, None, None, "x")  # type: ignore[arg-type]
        call, _ = self._answers.call_of(server_formats()[form], request, "", to)
        target = calls_of(self._client).target(dialect)
        chat = Chat(call.question)
        prepared = chat._prepared(target)
        return {**OutgoingRequest(chat, prepared, target).fields, "path": chat.encode(prepared, target).path}

    def fate(self, form: str, field: str, dialect: str) -> str:
        """What becomes of a field: ``=`` as it is, ``NAMES`` said in those, ``400`` refused, empty: left out."""
        more = FIELDS[form][field]
        try:
            said = self.body(form, dialect, more)
        except AgoutiError:
            return "400"
        try:
            plain = self.body(form, dialect, BESIDE.get((form, field), {}))
        except AgoutiError:
            plain = self.body(form, dialect, {})
        changed = sorted(_changed(plain, said))
        own = [each for each in changed if each.split(".")[0] == field.split(".")[0].split(":")[0]]
        return "=" if own and own == changed else ", ".join(changed[:2])


def _changed(plain: Any, said: Any, where: str = "") -> set[str]:
    if isinstance(plain, dict) and isinstance(said, dict):
        found: set[str] = set()
        for name in {*plain, *said}:
            inner = f"{where}.{name}" if where else name
            if name not in plain or name not in said:
                found.add(inner)
            elif plain[name] != said[name]:
                found |= _changed(plain[name], said[name], inner) if isinstance(plain[name], dict) else {inner}
        return found
    return set() if plain == said else {where}


def table(form: str, measure: Measure) -> str:
    """The table of one format."""
    lines = [f"| `{server_formats()[form].path}` | " + " | ".join(f"`{each}`" for each in DIALECTS) + " |"]
    lines.append("|---" * (len(DIALECTS) + 1) + "|")
    for field in FIELDS[form]:
        fates = [measure.fate(form, field, dialect) for dialect in DIALECTS]
        shown = ["yes" if each == "=" else each if each in ("400", "") else f"`{each}`" for each in fates]
        lines.append(f"| `{field}` | " + " | ".join(each or "left out" for each in shown) + " |")
    return "\n".join(lines)


BEGINS, ENDS = "<!-- translation: docs/translation.py -->", "<!-- end of translation -->"


def written(text: str) -> str:
    """The guide with tables of today."""
    measure = Measure()
    tables = "\n\n".join(table(form, measure) for form in FIELDS)
    return re.sub(f"{BEGINS}.*?{ENDS}", lambda _: f"{BEGINS}\n\n{tables}\n\n{ENDS}", text, flags=re.DOTALL)


if __name__ == "__main__":
    guide = Path(__file__).with_name("relay.md")
    guide.write_text(written(guide.read_text()))
    print(json.dumps({form: len(fields) for form, fields in FIELDS.items()}))
