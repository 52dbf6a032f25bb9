"""Turns that come in several replies, put together to one."""

from msgspec.structs import replace

from ..canonical.chat import Choice, Completion, ProviderTurn
from ..canonical.usage import total_usage


def joined(before: Completion, after: Completion) -> Completion:
    """What an interrupted reply and the one that goes on with it amount to; both are paid for.

    >>> first = Completion((Choice("It is ", "unfinished"),))
    >>> joined(first, Completion((Choice("May.", "stop"),))).choices[0].text
    'It is May.'
    """
    if not before.choices or not after.choices:
        return after if after.choices else before
    first, then = before.choices[0], after.choices[0]
    reasoning = "\n\n".join(filter(None, (first.reasoning, then.reasoning)))
    choice = Choice(
        first.text + then.text,
        then.finish_reason,
        reasoning=reasoning or None,
        refusal=then.refusal or first.refusal,
        tool_calls=first.tool_calls + then.tool_calls,
        citations=first.citations + then.citations,
        safety=then.safety or first.safety,
        files=first.files + then.files,
        logprobs=first.logprobs + then.logprobs,
        provider_turn=_joined_turn(first, then),
    )
    usage = after.usage
    if before.usage is not None:
        usage = before.usage if usage is None else total_usage([before.usage, usage])
    return replace(after, choices=(choice, *after.choices[1:]), usage=usage)


def _joined_turn(first: Choice, then: Choice) -> ProviderTurn | None:
    """The blocks of both; what of the second is plain follows from its words."""
    if first.provider_turn is None:
        return then.provider_turn
    next_blocks = then.provider_turn.blocks if then.provider_turn is not None else []
    return replace(first.provider_turn, blocks=[*first.provider_turn.blocks, *next_blocks])
