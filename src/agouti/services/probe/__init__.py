"""Probes: what a model really does."""

from typing import TYPE_CHECKING

if not TYPE_CHECKING:  # the names that have moved: see there

    def __getattr__(name: str) -> object:
        from ..._former import forward

        return forward(__name__, name)
