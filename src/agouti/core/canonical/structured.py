"""Structured output: by which means a model is held to a form, and what can be wrong with its answer."""

from typing import Literal, TypeAlias

Means: TypeAlias = Literal["schema", "tool", "json", "prompt"]
"""How a model is held to a form: the provider's own schema mode, a forced tool call, its JSON mode, or words alone."""

MEANS: tuple[Means, ...] = ("schema", "tool", "json", "prompt")
"""All of them, the strongest first."""

Problem: TypeAlias = Literal[
    "",
    "truncated",
    "blanks",
    "refusal",
    "empty",
    "no json",
    "broken json",
    "several",
    "no call",
    "invalid",
    "validator failed",
]
"""What is wrong with an answer; empty where it fits the form."""

FINAL: frozenset[Problem] = frozenset({"truncated", "refusal", "validator failed"})
"""Problems that asking again cannot mend."""

HINTS: dict[Problem, str] = {
    "truncated": "The answer was cut off by a cap on tokens: raise max_tokens, or ask for less at a time.",
    "refusal": "The model refuses; see error.answers[-1].reply.",
    "validator failed": "Mend the validator: it may raise ValueError where a value does not fit, and nothing else. The "
    "exception is in error.__cause__, the answer in error.answers[-1].reply.",
    "several": "Say in the prompt that one is wanted, or take a list: fill(label, list[TYPE], ...).",
}
"""What to do next, where that depends on the problem."""
