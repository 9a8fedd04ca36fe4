"""How surprising it is that minutes stay off."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from wirbel.core.expected.health import ALIKE_MINUTES, lasting_bits


@pytest.mark.parametrize("parts", [1, 3, 7])
@pytest.mark.parametrize("bits", [1.0, 4.0, 9.0])
def test_half_of_independent_stretches_being_off_is_binomial(parts: int, bits: float) -> None:
    """`scipy.stats.binom`: at least half of an odd number of independent stretches below p."""
    minutes = np.full(parts * int(ALIKE_MINUTES), bits)
    expected = stats.binom.sf(parts // 2, parts, 2.0**-bits)
    assert lasting_bits(minutes, 1.0) == pytest.approx(-np.log2(expected), abs=1e-6)


def test_a_few_loud_minutes_are_no_lasting_surprise_and_points_of_ten_minutes_count_ten() -> None:
    loud = np.r_[np.full(10, 30.0), np.zeros(20)]
    assert lasting_bits(loud, 1.0) == 0
    assert lasting_bits(np.full(5, 4.0), 10.0) == pytest.approx(lasting_bits(np.full(50, 4.0), 1.0))
