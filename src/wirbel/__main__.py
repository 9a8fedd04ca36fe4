from wirbel.cli import main

main()
