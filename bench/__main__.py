import sys

from wirbel.runtime import environment

with environment.database():
    if sys.argv[1:] == ["growth"]:
        from bench.growth import main

        main()
    else:
        from bench.run import run

        run(sys.argv[1:])
