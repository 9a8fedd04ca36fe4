"""Whose days and weeks a series has: the clocks of a zone, which change twice a year, and the public holidays of a country."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import numpy.typing as npt

from wirbel.core.errors import InvalidQuestion

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
SECOND_NS = 10**9
HOUR_S, DAY_S, WEEK_S = 3600, 86_400, 7 * 86_400
EPOCH = date(1970, 1, 1)
LONGEST_NAME = 60


class Phases(NamedTuple):
    """Of each time: the time of day and of the week, which begins on Monday, as shares of a turn, and whether it is a public holiday; of shape (times,)."""

    day: Floats
    week: Floats
    holiday: Bools

    def at(self, some: Ints) -> Phases:
        """Of some of the times, by their places."""
        return Phases(self.day[some], self.week[some], self.holiday[some])


@dataclass(frozen=True)
class Calendar:
    """``zone`` by its name in the time zone database; ``holidays`` by the code of a country or a part of it (ISO 3166: ``DE``, ``DE-BY``), none if empty."""

    zone: str = "UTC"
    holidays: str = ""

    @classmethod
    def checked(cls, zone: str, holidays: str) -> Calendar:
        """Raises InvalidQuestion where there is no such zone, or no country whose holidays are known."""
        try:
            if len(zone) > LONGEST_NAME:
                raise ValueError
            ZoneInfo(zone)
        except (ZoneInfoNotFoundError, ValueError, OSError) as error:
            raise InvalidQuestion(f"No time zone is called {zone[:LONGEST_NAME]}; zones are named as Europe/Berlin is.") from error
        country, _, part = holidays.upper().partition("-")
        parts = countries().get(country)
        if holidays and parts is None:
            raise InvalidQuestion(f"No public holidays are known of {country[:LONGEST_NAME]}; a country is named by two letters, as DE, IN or US.")
        named = {one.upper(): one for one in parts or ()}
        if part and part not in named:
            known = f"parts that have are {', '.join(parts)}" if parts else "write the country alone"
            raise InvalidQuestion(f"{country} has no part {part[:LONGEST_NAME]} with public holidays of its own; {known}.")
        return cls(zone, f"{country}-{named[part]}" if part else country)

    def phases(self, times: Ints) -> Phases:
        """Of times in ns, of shape (times,)."""
        hour = times // (HOUR_S * SECOND_NS)
        run = np.flatnonzero(np.r_[True, hour[1:] != hour[:-1]]) if len(hour) else np.zeros(0, np.int64)
        offset = np.repeat(np.array([_offset(int(h), self.zone) for h in hour[run]], np.int64), np.diff(np.r_[run, len(hour)]))
        local = times // SECOND_NS + offset
        # 1970-01-01 was a Thursday.
        return Phases((local % DAY_S) / DAY_S, (local + 3 * DAY_S) % WEEK_S / WEEK_S, self._is_holiday(local // DAY_S))

    def _is_holiday(self, day: Ints) -> Bools:
        """Of days since 1970."""
        if not self.holidays or not len(day):
            return np.zeros(len(day), np.bool_)
        years = range(*(date.fromordinal(EPOCH.toordinal() + int(at)).year + more for at, more in ((day.min(), 0), (day.max(), 1))))
        return np.isin(day, [off for year in years for off in _days_off(self.holidays, year)])


BY_UTC = Calendar()


@lru_cache(maxsize=100_000)
def _offset(hour: int, zone: str) -> int:
    found = datetime.fromtimestamp(hour * HOUR_S, UTC).astimezone(ZoneInfo(zone)).utcoffset()
    return int(found.total_seconds()) if found is not None else 0


@lru_cache(maxsize=200)
def _days_off(of: str, year: int) -> tuple[int, ...]:
    """Days since 1970."""
    import holidays  # by those who have a country

    country, _, part = of.partition("-")
    return tuple(day.toordinal() - EPOCH.toordinal() for day in holidays.country_holidays(country, subdiv=part or None, years=year))


@lru_cache(maxsize=1)
def countries() -> dict[str, list[str]]:
    """Countries whose public holidays are known, with the parts of them that have their own."""
    import holidays

    return dict(holidays.list_supported_countries(include_aliases=False))
