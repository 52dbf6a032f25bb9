"""A call as plain data: the question, the models that are asked in turn, and until when."""

import time
from collections.abc import Callable, Mapping, Sequence
from random import random
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from msgspec import Struct

from ..core.canonical.chat import Json, Request
from ..core.canonical.parameters import merged
from ..core.errors import DeadlineExceeded, RequestError
from ..core.http.exchange import Timeouts
from ..core.messages.call_pairs import unique_calls, with_tool_calls, without_calls
from ..core.messages.prompt import assembled
from ..core.messages.template import filled
from ..core.settings.retries import Retries
from ..core.text.suggest import near_hint
from .providers.provider import Target
from .question import Question

if TYPE_CHECKING:
    from .hooks import Hook

Clock: TypeAlias = Callable[[], float]


def request_for(question: Question, target: Target) -> Request:
    """The request that a question amounts to at one model: its name, system text and defaults, and what is asked."""
    model = target.model
    parameters = merged(target.parameters, question.parameters)
    if question.tools:
        parameters["tools"] = list(question.tools)
    accepted = target.provider.accepted
    if accepted is not None and "max_completion_tokens" in parameters and "max_completion_tokens" not in accepted:
        parameters["max_tokens"] = parameters.pop("max_completion_tokens")
    system, examples = model.system, model.examples
    if model.variables:
        system, examples = _persona(question, target)
    messages = assembled(
        question.messages,
        entry_system=system,
        system=question.system,
        examples=examples if question.examples is None else question.examples,
    )
    extra = question.extra
    if parameters.get("tools") and "tools" in extra:
        raise RequestError(
            "tools stand both in tools and in extra",
            hint="Put all of them into tools=[...]: a dict that is no function goes to the provider as it is.",
        )
    if any(each.provider_turn is not None for each in messages):
        from .sealed import readable

        messages = readable(messages, target.provider)
    if not target.provider.dialect.abilities.canonical:
        messages = without_calls(with_tool_calls(messages))
        if "functions" in extra or "function_call" in extra:
            parameters, extra = _with_tools(parameters, extra)
    return Request(
        model.name,
        unique_calls(messages),
        parameters,
        extra,
        question.stream,
        model.markers,
        _FETCH[question.fetch_images],
    )


def _persona(question: Question, target: Target) -> tuple[str | None, tuple[tuple[str, str], ...]]:
    """The entry's system text and examples with their blanks filled, as far as the question takes them.

    Raises:
        RequestError: a blank has no value.
    """
    model = target.model
    values = {name: question.variables.get(name, default) for name, default in model.variables.items()}
    system, examples = model.system, model.examples
    if system and question.system is None and question.messages[0].role not in ("system", "developer"):
        system = filled(system, values, model.label)
    if question.examples is None:
        examples = tuple([(filled(q, values, model.label), filled(a, values, model.label)) for q, a in examples])
    return system, examples


def check_blanks(question: Question, targets: Sequence[Target]) -> None:
    """See that the blanks that are given are declared by the models, and those that are needed are given.

    Raises:
        RequestError: one is unknown, or missing.
    """
    declared = {name: None for target in targets for name in target.model.variables}
    for name in question.variables:
        if name not in declared:
            model = targets[0].model
            hint = near_hint(name, declared, "blank") if declared else f'Declare it: variables = {{ {name} = "" }}.'
            raise RequestError(f"{model.label} has no blank {name!r}", hint=hint, model=model.label)
    if question.messages:
        for target in targets:
            if target.model.variables:
                _persona(question, target)


def _with_tools(parameters: dict[str, Json], extra: dict[str, Json]) -> tuple[dict[str, Json], dict[str, Json]]:
    """Functions of the older form as tools."""
    extra = dict(extra)
    functions, choice = extra.pop("functions", None), extra.pop("function_call", None)
    if isinstance(functions, list):
        parameters = {**parameters, "tools": [{"type": "function", "function": each} for each in functions]}
    if choice is not None:
        named = {"type": "function", "function": choice}
        parameters = {**parameters, "tool_choice": named if isinstance(choice, dict) else choice}
    return parameters, extra


_FETCH: dict[bool | str, Literal["no", "public", "private"]] = {False: "no", True: "public", "private": "private"}


class Clocks(Struct, frozen=True):
    """Time and chance, as arguments: tests bring their own.

    Attributes:
        clock: seconds from any beginning, for durations.
        now: seconds since the epoch, for the expiry of keys.
        chance: random numbers from 0 to 1, for waits.
    """

    clock: Clock = time.perf_counter
    now: Clock = time.time
    chance: Clock = random


CLOCKS = Clocks()
DEADLINE = "the call took longer than its deadline"
"""What is said of a call that its deadline has ended."""
_NO_QUESTION = Question(messages=())


class Call(Struct, frozen=True, gc=False, kw_only=True):
    """One call: who is asked, and until when.

    Attributes:
        targets: the model that is asked, and those that take over when it cannot.
        started: when the call began, by ``clocks.clock``.
        until: when it must have ended, by the same clock; `None`: no deadline.
        question: what is asked; one without messages where nothing is asked of a model.
        hooks: are told of every attempt, and may make it wait or refuse it.
        timeouts, retries: instead of those of the providers; a mapping changes only what it names.
        headers: further headers, under lower-case names.
        cache: whether it may be answered from a cache; `None`: as the cache thinks.
        fits: whether an answer is what was asked for; what is not is kept by no cache.
        group: number of the group that it is part of; 0: of none.
        waits: whether it waits and tries again where an error passes, and leaves a model alone that has failed again
            and again. A run over rows does the waiting itself, where no other model takes over: a row that waits there
            keeps no place from others, and rows that always fail say nothing of them.
    """

    targets: tuple[Target, ...]
    started: float
    until: float | None = None
    question: Question = _NO_QUESTION
    hooks: "tuple[Hook, ...]" = ()
    timeouts: Timeouts | Mapping[str, float] | None = None
    retries: Retries | Mapping[str, Any] | None = None
    headers: Mapping[str, str] | None = None
    clocks: Clocks = CLOCKS
    cache: bool | None = None
    fits: Callable[[object], bool] | None = None
    group: int = 0
    waits: bool = True

    @property
    def label(self) -> str:
        """The label that is asked."""
        return self.targets[0].model.label

    def check_time(self) -> None:
        """See that the deadline has not passed.

        Raises:
            DeadlineExceeded: it has.
        """
        if self.until is not None and self.clocks.clock() >= self.until:
            raise DeadlineExceeded(DEADLINE)

    def left(self) -> float | None:
        """Seconds to the deadline; `None`: there is none."""
        return None if self.until is None else self.until - self.clocks.clock()


Shape: TypeAlias = Callable[[Request, Target], Request]
"""Makes more of a request: a form, or what has been said meanwhile."""
