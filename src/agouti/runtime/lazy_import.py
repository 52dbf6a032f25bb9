"""Loading modules late, and quickly."""

import gc


class without_collecting:  # noqa: N801 - used like a statement
    """Load modules in this block without looking for garbage meanwhile.

    What is loaded stays: looking through it again and again took a tenth of the time to a first answer.
    """

    def __enter__(self) -> None:
        self._collects = gc.isenabled()
        gc.disable()

    def __exit__(self, *_: object) -> None:
        if self._collects:
            gc.enable()
