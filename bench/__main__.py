import sys

from wirbel.runtime import environment

if sys.argv[1:2] == ["deviations"]:
    from bench.deviations import main as deviations

    deviations()
    sys.exit()
if sys.argv[1:2] == ["watching"]:
    from bench.watching import main as watching

    watching()
    sys.exit()
with environment.database():
    if sys.argv[1:] == ["growth"]:
        from bench.growth import main

        main()
    elif sys.argv[1:] == ["fleet"]:
        from bench.fleet import main as fleet

        fleet()
    elif sys.argv[1:] == ["eyes"]:
        from bench.eyes import main as eyes

        eyes()
    else:
        from bench.run import run

        run(sys.argv[1:])
