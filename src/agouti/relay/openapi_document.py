"""The description of the relay's own interface, as OpenAPI 3.1."""

from collections.abc import Sequence
from typing import Any

from .._version import __version__

_TEXT = {"type": "string"}
_OBJECT = {"type": "object"}
_CONTENT: dict[str, Any] = {"anyOf": [_TEXT, {"type": "array", "items": _OBJECT}]}


def _body(required: list[str], **fields: Any) -> dict[str, Any]:
    model = {"$ref": "#/components/schemas/Model"}
    stream = {"type": "boolean", "description": "Whether the answer is to come in pieces."}
    schema = {
        "type": "object",
        "required": ["model", *required],
        "properties": {"model": model, "stream": stream, **fields},
    }
    return {"required": True, "content": {"application/json": {"schema": schema}}}


_MESSAGES = {
    "type": "array",
    "minItems": 1,
    "items": {
        "type": "object",
        "required": ["role"],
        "properties": {"role": _TEXT, "content": {"anyOf": [*_CONTENT["anyOf"], {"type": "null"}]}},
    },
}
_NUMBERS = {
    "temperature": {"type": ["number", "null"], "minimum": 0, "maximum": 5},
    "top_p": {"type": ["number", "null"], "minimum": 0, "maximum": 1},
}
_CAP = {"type": ["integer", "null"], "minimum": 0, "description": "0 only where the model's own format has it."}
_TOOLS = {"type": ["array", "null"], "items": _OBJECT}
_COUNT = {"type": ["integer", "null"]}
_STOP = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT}, {"type": "null"}]}


def _object_schema(kind: str, required: list[str], **fields: Any) -> dict[str, Any]:
    """An answer: what it has in any case, besides fields of the provider's own."""
    return {"type": "object", "title": kind, "required": required, "properties": fields}


_LISTED = {"type": "array", "items": _OBJECT}
_USAGE = {"type": ["object", "null"]}
_ANSWERS: dict[str, dict[str, Any]] = {
    "chat_completions": _object_schema(
        "A chat completion",
        ["choices"],
        id=_TEXT,
        object=_TEXT,
        created={"type": "integer"},
        model=_TEXT,
        choices={
            "type": "array",
            "items": _object_schema(
                "A choice",
                ["index", "message", "finish_reason"],
                index={"type": "integer"},
                message=_object_schema("A message", ["role"], role=_TEXT, content={"type": ["string", "null"]}),
                finish_reason={"type": ["string", "null"]},
            ),
        },
        usage=_USAGE,
    ),
    "completions": _object_schema(
        "A completion",
        ["choices"],
        choices={
            "type": "array",
            "items": _object_schema(
                "A choice",
                ["index", "text", "finish_reason"],
                index={"type": "integer"},
                text=_TEXT,
                finish_reason={"type": ["string", "null"]},
                logprobs={"type": ["object", "null"]},
            ),
        },
        usage=_USAGE,
    ),
    "responses_of_a_model": _object_schema(
        "A response",
        ["id", "status", "output"],
        id=_TEXT,
        object=_TEXT,
        status={"enum": ["completed", "incomplete", "failed", "in_progress", "queued", "cancelled"]},
        output=_LISTED,
        usage=_USAGE,
    ),
    "messages": _object_schema(
        "A message",
        ["role", "content"],
        id=_TEXT,
        type=_TEXT,
        role=_TEXT,
        content=_LISTED,
        stop_reason={"type": ["string", "null"]},
        usage=_USAGE,
    ),
    "count_tokens": _object_schema("A count", ["input_tokens"], input_tokens={"type": "integer"}),
    "embeddings": _object_schema("Vectors", ["data"], data=_LISTED, model=_TEXT, usage=_USAGE),
    "models": _object_schema("Models", ["data"], object=_TEXT, data=_LISTED),
    "model": _object_schema("A model", ["id"], id=_TEXT, object=_TEXT, owned_by=_TEXT),
    "health": _object_schema("Health", ["status"], status=_TEXT),
    "ready": _object_schema("Readiness", ["ready"], ready={"type": "boolean"}, tokens=_TEXT, ledger=_TEXT, relay=_TEXT),
    "response": _object_schema("A response", ["id"], id=_TEXT),
    "input_items": _object_schema("Items", ["data"], data=_LISTED),
    "delete_response": _object_schema("A response that is gone", ["deleted"], id=_TEXT, deleted={"type": "boolean"}),
}


def _errors(form: str) -> dict[str, Any]:
    statuses = {
        "400": "The request is wrong.",
        "401": "The access token is missing, unknown or expired.",
        "402": "A budget or the provider's credit is used up.",
        "403": "The token, or the page, may not do this.",
        "404": "There is no such model, or no such path.",
        "405": "The path has no such method.",
        "408": "The request came too slowly.",
        "413": "The request is too large.",
        "415": "The request is compressed.",
        "431": "The head of the request is too large.",
        "422": "The provider finds fault with the request.",
        "429": "A limit is reached; see retry-after.",
        "500": "Something went wrong in the relay.",
        "502": "The provider failed, or cannot be reached.",
        "503": "The provider has too much to do.",
        "504": "The provider took too long.",
    }
    schema = {"$ref": f"#/components/schemas/{form}"}
    wait = {"retry-after": {"description": "Seconds.", "schema": {"type": "integer"}}}
    return {
        status: {
            "description": description,
            "content": {"application/json": {"schema": schema}},
            **({"headers": wait} if status in ("429", "503") else {}),
        }
        for status, description in statuses.items()
    }


def _operation(name: str, summary: str, error: str, *, body: Any = None, kinds: tuple[str, ...] = ()) -> dict[str, Any]:
    operation: dict[str, Any] = {"operationId": name, "summary": summary}
    if body is not None:
        operation["requestBody"] = body
    content = {kind: {"schema": _KINDS[kind]} for kind in kinds}
    if "application/json" in content and name in _ANSWERS:
        content["application/json"] = {"schema": _ANSWERS[name]}
    operation["responses"] = {"200": {"description": "The answer.", "content": content}, **_errors(error)}
    return operation


_IDENTIFIER = {"name": "id", "in": "path", "required": True, "schema": _TEXT}
_EVENT = {"type": "object", "required": ["data"], "properties": {"event": _TEXT, "data": _TEXT}}
_KINDS = {"application/json": _OBJECT, "text/event-stream": _EVENT, "text/plain": _TEXT}
_BOTH = ("application/json", "text/event-stream")
_JSON = ("application/json",)


def description(labels: Sequence[str] = (), *, tokens: bool = True) -> dict[str, Any]:
    """The whole description.

    Args:
        labels: some of the models that can be asked.
        tokens: whether an access token is wanted.
    """
    model: dict[str, Any] = {"type": "string", "description": "A label, or NAME@PROVIDER.", "minLength": 1}
    if labels:
        model["examples"] = list(labels)
    paths: dict[str, Any] = {
        "/v1/chat/completions": {
            "post": _operation(
                "chat_completions",
                "Ask a model: the OpenAI-compatible interface.",
                "Error",
                body=_body(
                    ["messages"],
                    messages=_MESSAGES,
                    max_tokens=_CAP,
                    max_completion_tokens=_CAP,
                    tools=_TOOLS,
                    n=_COUNT,
                    stop=_STOP,
                    seed=_COUNT,
                    **_NUMBERS,
                ),
                kinds=_BOTH,
            )
        },
        "/v1/completions": {
            "post": _operation(
                "completions",
                "Let a model go on with a text.",
                "Error",
                body=_body(
                    ["prompt"],
                    prompt={"anyOf": [_TEXT, {"type": "array", "minItems": 1}]},
                    max_tokens=_CAP,
                    n=_COUNT,
                    stop=_STOP,
                    seed=_COUNT,
                    logprobs=_COUNT,
                    **_NUMBERS,
                ),
                kinds=_BOTH,
            )
        },
        "/v1/responses": {
            "post": _operation(
                "responses_of_a_model",
                "Ask a model: input and output as items.",
                "Error",
                body=_body([], input=_CONTENT, instructions=_TEXT, max_output_tokens=_CAP, tools=_TOOLS, **_NUMBERS),
                kinds=_BOTH,
            )
        },
        "/v1/messages": {
            "post": _operation(
                "messages",
                "Ask a model: content in blocks.",
                "BlockError",
                body=_body(
                    ["messages"],
                    messages=_MESSAGES,
                    system=_CONTENT,
                    max_tokens=_CAP,
                    tools=_TOOLS,
                    **_NUMBERS,
                ),
                kinds=_BOTH,
            )
        },
        "/v1/messages/count_tokens": {
            "post": _operation(
                "count_tokens",
                "Count the tokens of a request: by the provider, or estimated.",
                "BlockError",
                body=_body(["messages"], messages=_MESSAGES, system=_CONTENT, tools=_TOOLS),
                kinds=_JSON,
            )
        },
        "/v1/embeddings": {
            "post": _operation(
                "embeddings",
                "Turn texts into vectors.",
                "Error",
                body=_body(
                    ["input"],
                    input={"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]},
                    dimensions=_CAP,
                    encoding_format={"enum": ["float", "base64"]},
                ),
                kinds=_JSON,
            )
        },
        "/v1/responses/{id}": {
            "parameters": [_IDENTIFIER],
            "get": _operation("response", "A response, by its identifier.", "Error", kinds=_JSON),
            "delete": _operation("delete_response", "Forget a response.", "Error", kinds=_JSON),
        },
        "/v1/responses/{id}/cancel": {
            "parameters": [_IDENTIFIER],
            "post": _operation("cancel_response", "Cancel a response in the background.", "Error", kinds=_JSON),
        },
        "/v1/responses/{id}/input_items": {
            "parameters": [_IDENTIFIER],
            "get": _operation("input_items", "What a response was asked.", "Error", kinds=_JSON),
        },
        "/v1/models": {"get": _operation("models", "List the models.", "Error", kinds=_JSON)},
        "/v1/models/{id}": {
            "parameters": [_IDENTIFIER],
            "get": _operation("model", "A model, by its label.", "Error", kinds=_JSON),
        },
        "/health": {"get": {**_operation("health", "Whether the relay runs.", "Error", kinds=_JSON), "security": []}},
        "/ready": {
            "get": {
                **_operation("ready", "Whether it can work, part by part.", "Error", kinds=_JSON),
                "security": [],
            }
        },
        "/metrics": {"get": _operation("metrics", "Metrics for Prometheus.", "Error", kinds=("text/plain",))},
    }
    inner = {
        "message": _TEXT,
        "type": _TEXT,
        "param": {"type": ["string", "null"]},
        "code": {"type": ["string", "null"]},
    }
    error = {"type": "object", "required": ["error"], "properties": {"error": {"type": "object", "properties": inner}}}
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Agouti relay",
            "version": __version__,
            "description": "Every configured model at one address.",
        },
        "security": [{"bearer": []}, {"header": []}, *([] if tokens else [{}])],
        "paths": paths,
        "components": {
            "schemas": {"Model": model, "Error": error, "BlockError": {**error, "required": ["type", "error"]}},
            "securitySchemes": {
                "bearer": {"type": "http", "scheme": "bearer"},
                "header": {"type": "apiKey", "in": "header", "name": "x-api-key"},
            },
        },
    }
