"""``./wirbel bench NAME``: growth, fleet, eyes, deviations, watching or ramps; without a name what takes a server as it comes (bench.run)."""

import sys
from importlib import import_module

from wirbel.runtime import environment

WITHOUT_DATABASE = ("deviations", "watching", "ramps")
WITH_DATABASE = ("growth", "fleet", "eyes")

name = sys.argv[1] if len(sys.argv) > 1 else ""
if name in WITHOUT_DATABASE:
    import_module(f"bench.{name}").main()
    sys.exit()
with environment.database():
    if name in WITH_DATABASE and len(sys.argv) == 2:
        import_module(f"bench.{name}").main()
    else:
        from bench.run import run

        run(sys.argv[1:])
