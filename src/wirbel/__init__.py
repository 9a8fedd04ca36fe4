"""Wirbel."""

import os

# Its arrays are small and its processes several: threads inside one product would only wait for each other. Measured beside other
# work, learning what is normal for a series took five times as long with two. Read when NumPy is imported, so it is said first.
for _name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
    os.environ.setdefault(_name, "1")
