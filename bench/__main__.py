from wirbel.cli import environment

with environment.database():
    from bench.run import main

    main()
