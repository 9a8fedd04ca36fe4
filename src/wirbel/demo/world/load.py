"""How many passengers come when: day and week, and the quarter of an hour before each full hour's departures."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
HOUR_NS = 3600 * 10**9
DAY_NS = 24 * HOUR_NS
NIGHTLY_H = 2.5  # the import's hour
REFRESH_NS = 20 * 60 * 10**9  # between the small imports of the day


def load_at(times: npt.ArrayLike) -> Floats:
    """Relative load at times of the world's clock in ns, about 1 in the mean of a week: commuter peaks, weekends, and a burst before each full hour."""
    at = np.asarray(times, float)
    day, hour = (at % DAY_NS) / HOUR_NS, (at % HOUR_NS) / HOUR_NS
    weekday = (at // DAY_NS + 4) % 7  # 1970 began on a Thursday; 0 is Sunday
    night = 1 - 0.55 * np.exp(-(((day - 3) / 3.0) ** 2)) - 0.35 * np.exp(-(((day - 24) / 2.0) ** 2))
    commuters = 0.30 * np.exp(-(((day - 8) / 1.6) ** 2)) + 0.30 * np.exp(-(((day - 17) / 1.8) ** 2))
    trippers = 0.35 * np.exp(-(((day - 11) / 3.0) ** 2))
    leisure = np.select([weekday == 6, weekday == 0, weekday == 5], [1.0, 0.8, 0.3], 0.0)
    burst = 0.25 * np.clip((hour - 0.72) / 0.08, 0, 1) * np.clip((1.0 - hour) / 0.04, 0, 1)
    return 0.92 * night * (0.88 + commuters * (1 - 0.6 * leisure) + trippers * leisure + burst)
