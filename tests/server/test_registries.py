"""What is listed once is served everywhere."""

from __future__ import annotations

from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.signals import otlp
from wirbel.explore.schemas import Figures
from wirbel.intake.views import DOORS
from wirbel.store.models import Stream
from wirbel.store.streams import LAYOUTS, STREAM_OF


def test_every_percentile_has_its_figure_and_its_interval() -> None:
    served = {name for name in Figures.model_fields if name[0] == "p" and name[1:2].isdigit()}
    assert served == {*SHARES, *(f"{name}_interval" for name in SHARES)}
    assert HEADLINE in SHARES
    assert list(SHARES.values()) == sorted(SHARES.values())


def test_every_signal_has_its_decoder_encoder_door_and_stream() -> None:
    assert set(otlp.SIGNALS) == set(otlp.DECODERS) == set(otlp.ENCODERS) == set(STREAM_OF)
    assert {f"/v1/{signal}" for signal in otlp.SIGNALS} == set(DOORS) - {"/v1/changes"}
    assert set(LAYOUTS) == set(Stream)
    assert set(STREAM_OF.values()) == set(Stream) - {Stream.CELLS}  # cells are derived
