"""How often a failed request is repeated, and after how long."""

from msgspec import Struct


class Retries(Struct, frozen=True, forbid_unknown_fields=True):
    """How often and how long.

    Attributes:
        max: repeats after the first try.
        base: seconds; the first wait is up to this, each next one up to twice as much.
        max_wait: seconds; no wait is longer. A provider that asks for more is not waited for.
        after_sending: whether a request is repeated that had gone out whole before the connection broke: the provider
            may have done it, and bill for both.
    """

    max: int = 2
    base: float = 0.5
    max_wait: float = 30.0
    after_sending: bool = False

    def __post_init__(self) -> None:
        if self.max < 0:
            raise ValueError("max takes a whole number from 0")
        for name in ("base", "max_wait"):
            if not 0 <= getattr(self, name) < 1e9:  # written so that NaN is refused
                raise ValueError(f"{name} takes a number of seconds from 0")
