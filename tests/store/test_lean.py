"""Arrow does not import pandas in a process of Wirbel, and pandas is there for who needs it."""

from __future__ import annotations

import subprocess
import sys

PROGRAM = """
import sys
import django
django.setup()
import numpy as np
import pyarrow as pa
import wirbel.server.urls
table = pa.table({"name": pa.array(["a", None]), "value": np.arange(2.0), "some": pa.array([{"x": 1}, None])})
assert table.to_pylist() == [{"name": "a", "value": 0.0, "some": {"x": 1}}, {"name": None, "value": 1.0, "some": None}]
before = "pandas" in sys.modules
import pandas as pd
print(before, pa.array(pd.Series([1.5]).to_numpy()).to_pylist())
"""


def test_pandas_is_imported_only_by_who_needs_it() -> None:
    told = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, check=True).stdout
    assert told.split("\n")[0] == "False [1.5]"
