"""What a model of a stand-in answers, or why it does not: the same for all dialects."""

from collections.abc import Sequence
from dataclasses import dataclass

from starlette.requests import Request

from .doors import NoCredit, Refusal
from .providers import StandIn
from .settings import Settings
from .writer import Answer, answer, tokens


class Refused(Exception):
    """The request is turned away; a dialect puts it into its own words."""

    def __init__(self, refusal: Refusal) -> None:
        super().__init__(refusal.message)
        self.refusal = refusal


@dataclass(frozen=True)
class Thought:
    """The answers to one request, and the tokens of its prompt."""

    answers: list[Answer]
    prompt_tokens: int

    @property
    def output_tokens(self) -> int:
        """Tokens of all answers."""
        return sum(len(each.pieces) for each in self.answers)


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


def think(
    provider: StandIn,
    settings: Settings,
    name: str,
    messages: Sequence[tuple[str, str]],
    *,
    region: str | None = None,
    cap: int | None = None,
    stop: str | Sequence[str] = (),
    seed: int | None = None,
    count: int = 1,
) -> Thought:
    """What a model says.

    Args:
        messages: role and text of each.
        cap: the most tokens.

    Raises:
        Refused: no such model, no access to it, or the prompt is too long.
    """
    model = provider.model(name)
    if model is None:
        raise Refused(Refusal(404, f"The model '{name}' does not exist.", "model_not_found"))
    if not model.open:
        raise Refused(Refusal(403, f"Your account has not been granted access to {name}.", "model_access_denied"))
    if model.regions and region not in model.regions:
        raise Refused(Refusal(403, f"{name} is not available in this region ({region}).", "permission_error"))
    prompt_tokens = sum(len(tokens(text)) + 3 for _, text in messages)
    if prompt_tokens > model.context:
        message = f"This model's maximum context length is {model.context} tokens; the messages have {prompt_tokens}."
        raise Refused(Refusal(400, message, "context_length_exceeded"))
    question = next((text for role, text in reversed(messages) if role == "user"), "")
    stops = (stop,) if isinstance(stop, str) else tuple(stop)
    used = settings.seed if seed is None else seed
    return Thought(
        [Answer(answer(question, used, variant), cap=cap, stop=stops) for variant in range(count)], prompt_tokens
    )
