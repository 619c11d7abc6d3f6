"""Makes what is generated of the documents, or checks that it is as it would be made.

    python -m tools.make_docs [--check]

The references of commands and settings and the manual pages come from the program; the answers to the examples in the
README and the guides from the made-up site.
"""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

from scopion.roster.exchange.document import json_schema
from tools import command_reference, settings_reference, status_schema
from tools.console import Examples

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
WITH_EXAMPLES = (ROOT / "README.md", DOCS / "guide.md")


def generated() -> dict[Path, str]:
    """Return every file that is made as a whole."""
    pages = {DOCS / "man" / name: text for name, text in command_reference.man_pages().items()}
    return {
        DOCS / "reference.md": command_reference.markdown(),
        DOCS / "settings.md": settings_reference.markdown(),
        DOCS / "schemas" / "site.schema.json": settings_reference.schema(),
        DOCS / "schemas" / "devices.schema.json": json.dumps(json_schema(), indent=2) + "\n",
        DOCS / "schemas" / "status.schema.json": status_schema.schema(),
        **pages,
    }


def refreshed() -> dict[Path, str]:
    """Return the documents that have examples, with what these answer now."""
    examples = Examples()
    try:
        return {path: examples.refreshed(path.read_text(encoding="utf-8")) for path in WITH_EXAMPLES}
    finally:
        examples.close()


def main() -> int:
    """Write everything, or tell what differs."""
    os.environ["SCOPION_LIVE"] = "namespaces"
    wanted = {**generated(), **refreshed()}
    differing = [path for path, text in wanted.items() if not path.exists() or path.read_text(encoding="utf-8") != text]
    for path in differing:
        print(path.relative_to(ROOT))
        if "--check" not in sys.argv:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(wanted[path], encoding="utf-8")
    return int(bool(differing) and "--check" in sys.argv)


if __name__ == "__main__":
    sys.exit(main())
