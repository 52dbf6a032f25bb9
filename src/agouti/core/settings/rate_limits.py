"""Rate limits of an entry: how many requests and tokens a provider allows in a second, a minute, a day, and at once."""

import re
from datetime import UTC, date, datetime, timedelta, tzinfo
from itertools import pairwise

from msgspec import Struct

from ..errors import ConfigError

_RESET = re.compile(r"([01]\d|2[0-3]):([0-5]\d) +(\S+)")


class RateLimits(Struct, frozen=True, forbid_unknown_fields=True):
    """What a provider or a model allows; `None`: no limit of that kind.

    Attributes:
        requests_per_second, requests_per_minute: never more in any second or minute, wherever it begins.
        requests_per_day: from one reset to the next.
        tokens_per_minute: of prompt and answer, estimated before and settled after.
        concurrency: requests that are under way at a time.
        wait: seconds that a call may wait for its turn; 0: it is refused instead.
        reset: when the provider's day begins: ``00:00 UTC``, ``08:00 Europe/Dublin``.

    Example:
        >>> RateLimits(requests_per_minute=20, wait=5).wait
        5
    """

    requests_per_second: int | None = None
    requests_per_minute: int | None = None
    requests_per_day: int | None = None
    tokens_per_minute: int | None = None
    concurrency: int | None = None
    wait: float = 60.0
    reset: str = "00:00 UTC"

    def __post_init__(self) -> None:
        for name in self.__struct_fields__[:5]:
            value = getattr(self, name)
            if value is not None and value < 1:
                raise ConfigError(f"limits {name} = {value} is out of range", hint="It takes a whole number from 1.")
        if not self.wait >= 0:
            raise ConfigError(f"limits wait = {self.wait} is out of range", hint="It takes seconds; 0 refuses at once.")
        order = ("requests_per_second", "requests_per_minute", "requests_per_day")
        known = [(name, value) for name in order if (value := getattr(self, name)) is not None]
        for (short, larger), (long, fewer) in pairwise(known):
            if larger > fewer:
                raise ConfigError(
                    f"limits {short} = {larger} is more than {long} = {fewer}",
                    hint="It could never be reached: are the two mixed up? Leave it out otherwise.",
                )
        self.zone()

    def zone(self) -> tuple[int, int, tzinfo]:
        """Hour, minute and zone of the reset.

        Raises:
            ConfigError: it cannot be read.
        """
        match = _RESET.fullmatch(self.reset)
        if match is None:
            raise ConfigError(f"limits reset = {self.reset!r} cannot be read", hint='Write reset = "00:00 UTC".')
        if match[3] == "UTC":
            return int(match[1]), int(match[2]), UTC
        from zoneinfo import ZoneInfo

        try:
            return int(match[1]), int(match[2]), ZoneInfo(match[3])
        except (ValueError, OSError, KeyError):
            raise ConfigError(
                f"limits reset = {self.reset!r} names no time zone",
                hint='Write UTC, or a name such as "Europe/Dublin".',
            ) from None

    def day_of(self, now: float) -> tuple[str, float]:
        """The provider's day at a time, and the seconds to its end.

        >>> RateLimits(reset="06:00 UTC").day_of(3 * 3600.0)
        ('1969-12-31', 10800.0)
        """
        hour, minute, zone = self.zone()
        at = datetime.fromtimestamp(now, UTC)
        day = at.astimezone(zone).date() + timedelta(days=1)

        def begins(day: date) -> datetime:
            # In UTC, and the first of two where clocks are put back: no day begins twice.
            return datetime(day.year, day.month, day.day, hour, minute, tzinfo=zone).astimezone(UTC)

        while begins(day) > at:
            day -= timedelta(days=1)
        return day.isoformat(), max((begins(day + timedelta(days=1)) - at).total_seconds(), 0.0)
