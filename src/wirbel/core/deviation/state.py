"""A tracker as bytes, so that another process can go on with it: JSON, with arrays as they lie in memory."""

from __future__ import annotations

import base64
import json
import math
import zlib
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from wirbel.core.deviation.accumulate import Budget, Correlation
from wirbel.core.deviation.model import Deviation, Peak
from wirbel.core.deviation.read_points import Recent, Side
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.deviation.unlearned import Stretch, Unlearned
from wirbel.core.deviation.usual_level import Reach, UsualLevel
from wirbel.core.errors import InvalidQuestion
from wirbel.core.expected.calendar import Calendar
from wirbel.core.expected.counts import NegativeBinomial
from wirbel.core.expected.profile import Profile
from wirbel.core.expected.seasons import Season
from wirbel.core.expected.tails import Calibration, Tail

VERSION = 9  # of what the fields mean; what was kept by another is learned anew
_KINDS = {
    kind.__name__: kind
    for kind in (
        Budget,
        Calendar,
        Calibration,
        Correlation,
        Deviation,
        NegativeBinomial,
        Peak,
        Profile,
        Reach,
        Recent,
        Season,
        Side,
        Stretch,
        Tail,
        Tracker,
        Unlearned,
        UsualLevel,
    )
}


def dump(tracker: Tracker) -> bytes:
    """All that it needs to go on: see :func:`restore`."""
    return zlib.compress(json.dumps([VERSION, _plain(tracker)]).encode(), 1)


def restore(kept: bytes) -> Tracker:
    """Raises InvalidQuestion where it was kept by another version."""
    version, told = json.loads(zlib.decompress(kept))
    if version != VERSION:
        raise InvalidQuestion(f"this was kept by version {version} of what is normal, and this is version {VERSION}: it is to be learned anew")
    found = _back(told)
    assert isinstance(found, Tracker)
    return found


def _plain(value: Any) -> Any:
    if is_dataclass(value):
        return {"is": type(value).__name__, **{field.name: _plain(getattr(value, field.name)) for field in fields(value)}}
    if isinstance(value, np.ndarray):
        return {"is": "array", "of": value.dtype.str, "data": base64.b64encode(value.tobytes()).decode()}
    if isinstance(value, np.generic):
        return _plain(value.item())
    if isinstance(value, tuple):
        return {"is": "tuple", "of": [_plain(one) for one in value]}
    if isinstance(value, list):
        return [_plain(one) for one in value]
    if isinstance(value, float) and not math.isfinite(value):
        return {"is": "float", "of": repr(value)}
    return value


def _back(told: Any) -> Any:
    if isinstance(told, list):
        return [_back(one) for one in told]
    if not isinstance(told, dict):
        return told
    match told["is"]:
        case "array":
            return np.frombuffer(base64.b64decode(told["data"]), told["of"]).copy()
        case "tuple":
            return tuple(_back(one) for one in told["of"])
        case "float":
            return float(told["of"])
        case name:
            return _KINDS[name](**{key: _back(one) for key, one in told.items() if key != "is"})
