"""What a model of a stand-in answers, or why it does not: the same for all dialects."""

import base64
import hashlib
import json
import re
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

from starlette.requests import Request
from starlette.responses import Response

from .asked import Asked, Tool
from .auth import NoCredit, Refusal
from .faults import Fault
from .forms import Form
from .images import colour_of, label_of
from .misbehaviour import lie_of, misheard, misspoken
from .providers import StandIn
from .settings import Settings
from .writer import Answer, Call, answer, tokens


class Refused(Exception):
    """The request is turned away; a dialect puts it into its own words."""

    def __init__(self, refusal: Refusal) -> None:
        super().__init__(refusal.message)
        self.refusal = refusal


@dataclass(frozen=True)
class Thought:
    """The answers to one request, the tokens of its prompt, and what the model has thought before it answered."""

    answers: list[Answer]
    prompt_tokens: int
    thinking: str = ""

    @property
    def thinking_tokens(self) -> int:
        """Tokens of the thinking, which are a part of the output."""
        return len(tokens(self.thinking))

    @property
    def output_tokens(self) -> int:
        """Tokens of all answers, and of the thinking."""
        return sum(each.tokens for each in self.answers) + self.thinking_tokens


async def pass_doors(request: Request, provider: StandIn) -> None:
    """Look at what the provider demands.

    Raises:
        Refused: one of its doors stays shut.
    """
    body = await request.body()
    for door in provider.doors:
        # A list of models costs nothing, so that an account without credit may still see it.
        if isinstance(door, NoCredit) and request.method == "GET":
            continue
        refusal = door.refuse(request, body)
        if refusal is not None:
            raise Refused(refusal)


Handler: TypeAlias = Callable[[Request], Awaitable[Response]]


def guarded(provider: StandIn, in_words: Callable[[Refused], Response]) -> Callable[[Handler], Handler]:
    """Let a handler see only what the provider lets in; what is refused is said in the words of its dialect."""

    def around(handler: Handler) -> Handler:
        async def guarded_handler(request: Request) -> Response:
            try:
                await pass_doors(request, provider)
                return await handler(request)
            except Refused as refused:
                return in_words(refused)

        return guarded_handler

    return around


def prompt_tokens(provider: StandIn, name: str, asked: Asked) -> int:
    """The tokens of a prompt, as the model that is asked counts them.

    Raises:
        Refused: no such model, no access to it, the prompt is too long, or the model sees no images.
    """
    model = provider.model(name)
    if model is None:
        raise Refused(Refusal(404, f"The model '{name}' does not exist.", "model_not_found"))
    if not model.open:
        raise Refused(Refusal(403, f"Your account has not been granted access to {name}.", "model_access_denied"))
    if model.regions and asked.region not in model.regions:
        raise Refused(Refusal(403, f"{name} is not available in this region ({asked.region}).", "permission_error"))
    if model.vectors:
        raise Refused(Refusal(400, f"{name} makes embeddings only.", "unsupported_operation"))
    if asked.images and not model.sees:
        raise Refused(Refusal(400, f"{name} does not support image input.", "unsupported_image"))
    length = sum(len(tokens(text)) + 3 for _, text in asked.messages) + 200 * len(asked.images)
    if length > model.context:
        message = f"This model's maximum context length is {model.context} tokens; the messages have {length}."
        raise Refused(Refusal(400, message, "context_length_exceeded"))
    return length


def think(provider: StandIn, settings: Settings, name: str, asked: Asked, fault: Fault | None = None) -> Thought:
    """What a model says.

    Args:
        fault: a way in which the answer is to be wrong.

    Raises:
        Refused: as of `prompt_tokens`.
    """
    lie = lie_of(fault)
    asked = misheard(asked, lie)
    length = prompt_tokens(provider, name, asked)
    used = settings.seed if asked.seed is None else asked.seed
    if asked.warm and asked.seed is None:
        used += settings.next_turn()
    answers = [_answered(asked, used, variant, fault) for variant in range(asked.count)]
    return Thought(misspoken(answers, lie), length, _thinking(asked) if asked.thinks else "")


def _thinking(asked: Asked) -> str:
    question = next((text for role, text in reversed(asked.messages) if role == "user" and text.strip()), "")
    return f"They ask: {question.strip()[:60]}" + (" And the tools have answered." if asked.results else "")


def _answered(asked: Asked, seed: int, variant: int, fault: Fault | None) -> Answer:
    stops = (asked.stop,) if isinstance(asked.stop, str) else tuple(asked.stop)
    question = next((text for role, text in reversed(asked.messages) if role == "user"), "")
    said = [text for role, text in asked.messages if role == "user"]
    seen = [label_of(image) or _described(image) for image in asked.images]
    about = question.strip() or (said[0] if said else "")
    calls = [] if asked.results and asked.choice in ("auto", "none") else _calls(asked, about, seed)
    wrong = _wrong_now(fault, asked)
    if wrong == "refusal":
        return Answer("", refusal="I cannot help with that.")
    if wrong == "nothing":
        return Answer("")
    if calls:
        return Answer("", calls=[_wrong_call(call, wrong) for call in calls])
    schema = asked.schema or (_schema_in(asked.messages) if asked.as_json or _wants_json(asked.messages) else None)
    if schema is not None:
        facts = "\n".join(seen) or _facts(said)
        text = _wrong_form(json.dumps(Form(schema, facts, f"{seed}/{variant}").value), wrong)
    elif asked.as_json:
        text = json.dumps({"answer": answer(question, seed, variant)})
    elif asked.results:
        text = f"The answer is {' and '.join(_result(each) for each in asked.results)}."
    elif seen and not any(map(label_of, asked.images)):
        text = " ".join(seen)
    elif (word := re.search(r"code word[^.?]* is (\w+)", "\n".join(said))) and "code word" in question:
        text = f"The code word is {word[1]}."
    elif seen:
        text = "I see a seed packet. " + "; ".join(line for label in seen for line in label.splitlines()) + "."
    elif re.search(r"\b(code|script|function|program)\b", question.lower()):
        text = _CODE
    else:
        text = answer(question, seed, variant)
    if schema is None:
        text += _last_words(asked)
    return Answer(text, cap=1 if wrong == "truncated" and not asked.cap else asked.cap, stop=stops)


def _last_words(asked: Asked) -> str:
    """What the system text wants at the end of every answer."""
    wanted = "\n".join(text for role, text in asked.messages if role == "system")
    word = re.search(r"[Ee]nd every answer with the word (\w+)", wanted)
    return f" {word[1]}." if word else ""


def _described(image: bytes) -> str:
    colour = colour_of(image)
    return "An image that I do not know." if colour is None else f"It is {colour}."


_CODE = """Two small files.

```python
# days.py
def days_to_frost(today: int, frost: int = 132) -> int:
    return max(frost - today, 0)
```

And how often to water:

```toml
[water]
morning = true
```
"""


def _result(result: str) -> str:
    try:
        value = json.loads(result)
    except ValueError:
        return result
    return ", ".join(f"{key} {each}" for key, each in value.items()) if isinstance(value, dict) else str(value)


def _facts(said: list[str]) -> str:
    """The user's own words, without what only tells how to answer and what was wrong before."""
    first = said[0] if said else ""
    return re.split(r"\n\s*Answer with (?:nothing but )?(?:one )?JSON", first)[0]


def _wrong_now(fault: Fault | None, asked: Asked) -> str:
    """How this answer is to be wrong: with a number, only so many answers of a conversation are."""
    if fault is None or fault.name in ("error", "odd", "loose", "lies"):
        return ""
    before = sum(role in ("assistant", "model") for role, _ in asked.messages)
    return "" if fault.number and before >= fault.number else fault.name


def _wrong_form(text: str, wrong: str) -> str:
    match wrong:
        case "fenced":
            return f"Here it is:\n\n```json\n{text}\n```\n"
        case "prose":
            return "It depends on the soil more than on the calendar."
        case "twice":
            return f"{text}\n{text}"
        case "thinking":
            return f"<think>Let me see: {{what}} is wanted?</think>\n{text}"
        case "broken":
            return text[:-2]
        case "invalid":
            return '{"weather": ["wet"]}'
        case _:
            return text


def _wrong_call(call: Call, wrong: str) -> Call:
    match wrong:
        case "invalid":
            return Call(call.name, '{"weather": ["wet"]}')
        case "broken":
            return Call(call.name, call.arguments[:-2])
        case "unknown-tool":
            return Call("weather_machine", call.arguments)
        case _:
            return call


def _wants_json(messages: Sequence[tuple[str, str]]) -> bool:
    return any(re.search(r"Answer with (?:nothing but )?(?:one )?JSON", text) for _, text in messages)


def _schema_in(messages: Sequence[tuple[str, str]]) -> Mapping[str, Any] | None:
    """The JSON Schema that stands in the prompt."""
    for _, text in messages:
        for found in re.finditer(r"\{", text):
            try:
                value, _ = json.JSONDecoder().raw_decode(text[found.start() :])
            except ValueError:
                continue
            if isinstance(value, dict) and {"type", "properties", "anyOf", "$ref", "enum", "$defs"} & value.keys():
                return value
    return None


def _calls(asked: Asked, question: str, seed: int) -> list[Call]:
    """The calls that a question asks for: of the tools that its words are about."""
    if asked.choice == "none" or not asked.tools:
        return []
    if asked.choice not in ("auto", "required"):
        wanted = [tool for tool in asked.tools if tool.name == asked.choice]
    else:
        wanted = [tool for tool in asked.tools if _about(tool) & _stems(question)]
        if asked.choice == "required":
            wanted = wanted or list(asked.tools[:1])
    return [Call(tool.name, json.dumps(Form(tool.parameters or {}, question, seed).value)) for tool in wanted]


_COMMON = frozenset(
    [
        "the",
        "a",
        "an",
        "and",
        "or",
        "of",
        "to",
        "in",
        "on",
        "at",
        "is",
        "it",
        "for",
        "with",
        "how",
        "many",
        "much",
        "what",
        "when",
        "which",
        "this",
        "that",
        "from",
        "by",
        "be",
    ]
)


def _stems(text: str) -> set[str]:
    words = re.findall(r"[a-z]+", text.lower().replace("_", " "))
    return {word[:5] for word in words if word not in _COMMON and len(word) > 2}


def _about(tool: Tool) -> set[str]:
    return _stems(f"{tool.name} {tool.description}")


def image_bytes(data: str) -> bytes:
    """An image's bytes from base64, with or without the ``data:`` address around it.

    Raises:
        Refused: it is not base64.
    """
    try:
        return base64.b64decode(data.rpartition(",")[2], validate=True)
    except ValueError:
        raise Refused(Refusal(400, "The image data is not valid base64.", "invalid_image")) from None


def tool_of(function: Mapping[str, Any], schema: str = "parameters") -> Tool:
    """A tool from the object that describes it."""
    return Tool(function["name"], function.get("description") or "", function.get(schema) or {})


def call_id(call: Call, place: int) -> str:
    """The identifier of a call."""
    return f"call-{place}-{hashlib.sha256((call.name + call.arguments).encode()).hexdigest()[:6]}"
