"""Runs the tests on real radios: those on the first access point beside those on the second."""

from __future__ import annotations

import io
import sys
import unittest
from concurrent.futures import ThreadPoolExecutor

from tests.air.real_air import booted

# Each entry is run in its turn, beside the others: the first access point, and the second.
MODULES = (("tests.air.test_lists", "tests.air.test_dialect"), ("tests.air.test_holding",))
# Those that ask by RADIUS come when the others have ended: more at a time than these the machine does not bear.
LAST = ("tests.air.test_radius",)


def main() -> int:
    """Boot once, and run all; 1 if any fails."""
    try:
        booted()
    except unittest.SkipTest as reason:
        sys.stderr.write(f"skipped: {reason}\n")
        return 0
    with ThreadPoolExecutor(len(MODULES)) as workers:
        ended = list(workers.map(_run, MODULES))
    ended.append(_run(LAST))
    for said, _ in ended:
        sys.stderr.write(said)
    return int(not all(passed for _, passed in ended))


def _run(modules: tuple[str, ...]) -> tuple[str, bool]:
    stream = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromNames(modules)
    result = unittest.TextTestRunner(stream, verbosity=2).run(suite)
    return stream.getvalue(), result.wasSuccessful()


if __name__ == "__main__":
    sys.exit(main())
