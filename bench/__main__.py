import sys

from wirbel.runtime import environment

if sys.argv[1:2] == ["deviations"]:
    from bench.deviations import main as deviations

    deviations()
    sys.exit()
with environment.database():
    if sys.argv[1:] == ["growth"]:
        from bench.growth import main

        main()
    else:
        from bench.run import run

        run(sys.argv[1:])
