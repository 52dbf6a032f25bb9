"""What a configuration says of the shape of requests and replies: places in JSON, as JSON Pointers (RFC 6901)."""

from typing import Any, Literal

from msgspec import Struct


class Instance(Struct, frozen=True, forbid_unknown_fields=True):
    """What an instance of a model looks like: JSON Pointers into an instance and into a prediction.

    Attributes:
        prompt: where the prompt goes, as one text.
        messages: where the messages go instead, as in the OpenAI-compatible interface.
        system: where the system text goes; without it, it is a part of the prompt.
        image: where an image goes, as base64.
        text: where the answer is; the usual places are looked through where this is not given.
        input: where a text to be turned into a vector goes.
        vector: where the vector is.
    """

    prompt: str = "/prompt"
    messages: str = ""
    system: str = ""
    image: str = ""
    text: str = ""
    input: str = "/content"
    vector: str = ""


class StreamDeclaration(Struct, frozen=True, forbid_unknown_fields=True):
    """How a declared dialect streams.

    Attributes:
        framing: ``sse`` (server-sent events), ``lines`` (a JSON object to a line) or ``array`` (a JSON array).
        path: its own path, where it has one.
        switch: the place in the request that must hold ``true`` for a stream.
        text, reasoning, finish_reason: where they are in a piece; as in a whole reply where not given.
        end: the piece that ends the stream, word for word, such as ``[DONE]``.
        done: the place in a piece that holds ``true`` in the last one.
    """

    framing: Literal["sse", "lines", "array"] = "sse"
    path: str = ""
    switch: str = ""
    text: str = ""
    reasoning: str = ""
    finish_reason: str = ""
    end: str = ""
    done: str = ""


class ModelsDeclaration(Struct, frozen=True, forbid_unknown_fields=True):
    """Where a declared dialect lists its models.

    Attributes:
        path: of the list.
        list: where the list is in the reply.
        name: where a name is in an item of it.
    """

    path: str
    list: str = ""
    name: str = "/id"


class Declaration(Struct, frozen=True, forbid_unknown_fields=True):
    """A dialect of a configuration: ``[dialects.LABEL]``.

    Attributes:
        label: how providers name it.
        path: of the request; ``{model}`` stands for the model's name.
        model: where the model's name goes, unless the path holds it.
        prompt: where the conversation goes as one text, or
        messages: where it goes as a list of messages.
        role, content: where role and text go in one of these messages.
        roles: what this format calls the roles.
        system: where the system text goes, unless it is a message like the others.
        parameters: where parameters go; those that are not here cannot be expressed.
        fixed: what else stands in every request, by place.
        text: where the answer is in a reply; several answers where it is a list of texts.
        reasoning, finish_reason, reported_model: where those are.
        finish_reasons: what this format's words for the end mean.
        usage: where ``input_tokens``, ``output_tokens`` and their kin are.
        error: where the words of an error are.
        error_code: where its code is, and
        error_codes: the class of error that each code means.
        stream: how it streams; it does not where this is not given.
        models: where the list of models is.
    """

    label: str
    path: str = ""
    model: str = ""
    prompt: str = ""
    messages: str = ""
    role: str = "/role"
    content: str = "/content"
    roles: dict[str, str] = {}
    system: str = ""
    parameters: dict[str, str] = {}
    fixed: dict[str, Any] = {}
    text: str = ""
    reasoning: str = ""
    finish_reason: str = ""
    reported_model: str = ""
    finish_reasons: dict[str, str] = {}
    usage: dict[str, str] = {}
    error: str = ""
    error_code: str = ""
    error_codes: dict[str, str] = {}
    stream: StreamDeclaration | None = None
    models: ModelsDeclaration | None = None
