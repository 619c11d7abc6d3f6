"""Builds the packaged vendor snapshot from the IEEE's four CSV files in registry/.

    python tools/build_vendor_snapshot.py [--check]

To ship a newer listing: put the newer files into registry/ (plain or gzip), write their date into AS_OF, run this,
commit both. ``--check`` writes nothing and ends with 1 if the packaged file is not what the CSV files give.
"""

from __future__ import annotations

import sys
from pathlib import Path

from scopion.vendors.listing import read_listing
from scopion.vendors.snapshot import PACKAGED, build_snapshot

AS_OF = "2026-06-25"
SOURCES = sorted((Path(__file__).parent.parent / "registry").glob("*.csv*"))


def main() -> int:
    """Build, then write or compare."""
    data = build_snapshot([(read_listing(path.read_bytes(), path.name), AS_OF) for path in SOURCES])
    if "--check" in sys.argv:
        same = PACKAGED.read_bytes() == data
        print(f"{PACKAGED.name} is {'' if same else 'not '}what the CSV files give")
        return 0 if same else 1
    PACKAGED.write_bytes(data)
    print(f"{PACKAGED}: {len(data):,} bytes from {len(SOURCES)} files")
    return 0


if __name__ == "__main__":
    sys.exit(main())
