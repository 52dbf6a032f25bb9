"""How many examples a property is tried with: a third of its number by itself, ten times it at night."""

from typing import Any

from hypothesis import settings


def examples(number: int, **more: Any) -> settings:
    """Settings for a property; `number` is what finds what was ever found.

    The profile decides (``--hypothesis-profile nightly``): properties have no numbers of their own besides.
    """
    thorough = settings.get_current_profile_name() == "nightly"
    return settings(max_examples=number * 10 if thorough else max(number // 3, 5), deadline=None, **more)
