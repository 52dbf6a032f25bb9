"""Turns that a provider has sealed: thinking with its signature, encrypted reasoning, results of its own tools.

Nobody else can read them, and some refuse a request that holds another one's. So a turn is marked with whoever made it,
and goes back there alone; others get its text and its calls.
"""

from collections.abc import Iterable

from msgspec.structs import replace

from ..core.canonical.chat import Completion, Message, ProviderTurn
from .providers.provider import ProviderState


def sealed(completion: Completion, provider: ProviderState) -> Completion:
    """A reply whose turns are marked with the provider and the account that made them."""
    if all(choice.provider_turn is None for choice in completion.choices):
        return completion
    choices = [
        each if each.provider_turn is None else replace(each, provider_turn=marked(each.provider_turn, provider))
        for each in completion.choices
    ]
    return replace(completion, choices=tuple(choices))


def marked(provider_turn: ProviderTurn, provider: ProviderState) -> ProviderTurn:
    """A turn with the mark of whoever made it."""
    return provider_turn if provider_turn.source else replace(provider_turn, source=provider.mark)


def readable(messages: Iterable[Message], provider: ProviderState) -> tuple[Message, ...]:
    """The messages, without the turns that another provider or account has sealed."""
    return tuple(
        [
            replace(each, provider_turn=None)
            if each.provider_turn is not None and each.provider_turn.source not in ("", provider.mark)
            else each
            for each in messages
        ]
    )
