"""What `check` has found, one thing each."""

from msgspec import Struct


class Finding(Struct, frozen=True):
    """One thing that was looked at.

    Attributes:
        what: ``address``, ``key``, ``accepted``, ``model LABEL``, ``path``, ``clock``, ``file``.
        ok: `None` where it could not be told.
        detail: what was found, one line.
        hint: what to do, where something is wrong.
    """

    what: str
    ok: bool | None
    detail: str
    hint: str = ""
