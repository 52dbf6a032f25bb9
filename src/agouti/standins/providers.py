"""The made-up providers: who they are, what they offer and what they demand.

One entry per provider. A dialect's module (`chat`, ...) answers for all providers that speak it.
"""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class StandInModel:
    """A made-up model.

    Attributes:
        context: tokens of prompt and answer together.
        prices: dollars per million tokens, in and out.
    """

    name: str
    context: int = 8192
    prices: tuple[float, float] | None = None


@dataclass(frozen=True)
class StandIn:
    """A made-up provider.

    Attributes:
        label: its name, and the first part of its path.
        dialect: what it speaks.
        path: where the dialect's paths begin.
        key: the key that it wants, if any, and
        variable: the variable in which the ready-made configuration looks for it.
    """

    label: str
    dialect: str
    path: str = "/v1"
    key: str | None = None
    variable: str = ""
    models: tuple[StandInModel, ...] = field(default=())

    def model(self, name: str) -> StandInModel | None:
        """The model of that name."""
        return next((model for model in self.models if model.name == name), None)


STAND_INS = (
    StandIn(
        "northbank",
        "chat",
        key="nb-3f9a-marsh-lane-demo",
        variable="NORTHBANK_KEY",
        models=(
            StandInModel("quill-large", 32768, (0.27, 0.81)),
            StandInModel("quill-small", 8192, (0.05, 0.10)),
        ),
    ),
    StandIn("shed", "chat", models=(StandInModel("loam-2b", 4096), StandInModel("loam-7b", 8192))),
)


def by_label(label: str) -> StandIn:
    """The provider of that label."""
    return next(each for each in STAND_INS if each.label == label)
