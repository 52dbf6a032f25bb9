"""What is often written, and what it is called here: next steps for names that no spelling would lead to."""

from collections.abc import Mapping

from ..canonical.parameters import NAMES

_ADDRESS = "Did you mean address?"
_KEY = 'Did you mean key? It says where the key lives: key = { env = "NAME" }.'

OF_PROVIDERS: Mapping[str, str] = {
    **dict.fromkeys(("base_url", "url", "uri", "endpoint", "host", "api_base", "base", "server"), _ADDRESS),
    **dict.fromkeys(("api_key", "apikey", "token", "secret", "api_token", "auth"), _KEY),
    **dict.fromkeys(("type", "format", "api", "kind", "api_type"), "Did you mean dialect?"),
    "timeout": "Did you mean timeouts? Of a whole call: deadline, in the entry of the model or in the call.",
    "max_retries": "Did you mean retries? Such as retries = { max = 2 }.",
    "model": "Models have entries of their own: [models.LABEL] with provider and name.",
    **dict.fromkeys(("rate_limit", "rpm", "requests_per_minute"), "Write limits = { requests_per_minute = 60 }."),
    "tokens_per_minute": "Write limits = { tokens_per_minute = 90000 }.",
}
"""In the entry of a provider."""

OF_MODELS: Mapping[str, str] = {
    **{name: f"Write parameters = {{ {name} = ... }}." for name in NAMES},
    **dict.fromkeys(("model", "model_name", "id", "model_id"), "Did you mean name?"),
    "timeout": "Did you mean deadline? It counts seconds.",
    **dict.fromkeys(("fallbacks", "backup"), "Did you mean fallback?"),
    **dict.fromkeys(
        ("base_url", "url", "address", "endpoint", "api_base"), "It stands in the entry of the provider: address."
    ),
    **dict.fromkeys(("api_key", "key", "token"), "It stands in the entry of the provider: key."),
    **dict.fromkeys(("system_prompt", "prompt", "instructions"), "Did you mean system?"),
    **dict.fromkeys(("context_window", "context_length", "max_context"), "Did you mean context?"),
    **dict.fromkeys(("cost", "prices", "pricing"), "Did you mean price?"),
    **dict.fromkeys(
        ("requests_per_minute", "rpm", "tokens_per_minute"), "Write limits = { requests_per_minute = 60 }."
    ),
}
"""In the entry of a model."""

OF_LIMITS: Mapping[str, str] = dict.fromkeys(
    ("requests_per_second", "requests_per_minute", "requests_per_day", "tokens_per_minute", "concurrency", "wait"),
    "Limits stand in the entry of a provider or a model: limits = { requests_per_minute = 60 }.",
)
"""In the table ``limits``."""

_SYSTEM = "Did you mean system?"
OF_CALLS: Mapping[str, str] = {
    "stream": "Take client.stream(label, prompt).",
    "fallback": 'It stands in the entry of the model: fallback = ["LABEL"].',
    "fallbacks": 'It stands in the entry of the model: fallback = ["LABEL"].',
    "timeout": "Did you mean deadline? It counts seconds for the whole call; timeouts are those of its phases.",
    "messages": "A list of messages is the prompt itself: client.ask(label, messages).",
    "model": "The label of the model is the first argument.",
    "max_retries": 'Did you mean retries? Such as retries={"max": 2}.',
    **dict.fromkeys(("system_prompt", "instructions"), _SYSTEM),
    "functions": "Did you mean tools?",
    "function_call": "Did you mean tool_choice?",
    **dict.fromkeys(("response_model", "schema", "output_type"), "Take client.fill(label, TYPE, prompt)."),
    "image": "Did you mean images?",
    "file": "Did you mean files?",
    "metadata": "Did you mean tags? What goes to the provider goes into extra={...}.",
    **dict.fromkeys(("extra_body", "extra_headers"), "Did you mean extra, or headers?"),
}
"""Among the options of a call."""

OF_CLIENTS: Mapping[str, str] = {
    **dict.fromkeys(
        ("base_url", "url", "address", "endpoint", "api_base"),
        "For one provider without a file: agouti.Client.at(address, key=...).",
    ),
    "timeout": "Did you mean deadline? It counts seconds for a whole call; timeouts are those of its phases.",
    "max_retries": 'Did you mean retries? Such as retries={"max": 2}.',
    "model": "The label of the model is the first argument of each call.",
    "default_headers": "Did you mean headers?",
    **dict.fromkeys(
        ("proxy", "proxies", "http_client"), "Proxies come from HTTPS_PROXY; for another HTTP stack pass transport=."
    ),
}
"""Among the options of a client."""
