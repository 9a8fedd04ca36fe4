"""The process that makes the demo's days before: ``python -m wirbel.demo.days_before SEED NOW KIND DAYS``."""

from __future__ import annotations

import sys

from wirbel.runtime import environment


def main() -> None:
    with environment.database():
        from wirbel.demo.fill import days_before

        days_before(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], float(sys.argv[4]))


if __name__ == "__main__":
    main()
