"""Makes docs/schemas/status.schema.json from the values that ``scopion status --format json`` writes."""

from __future__ import annotations

import json

from pydantic import TypeAdapter

from scopion.cli.report.status import KEYS
from scopion.reports.site_status import SiteStatus
from scopion.reports.status_lines import State


def schema() -> str:
    """Return the schema: what is gathered, and what needs a person."""
    made = TypeAdapter(SiteStatus).json_schema(mode="serialization")
    line = {"part": {"type": "string"}, "state": {"enum": list(State)}, "says": {"type": "string"},
            "do": {"type": ["string", "null"]}}  # fmt: skip
    assert tuple(line) == KEYS
    made["properties"]["needs"] = {
        "type": "array",
        "description": "What needs a person: what the exit code 3 is for.",
        "items": {"type": "object", "required": list(KEYS), "properties": line},
    }
    made["required"] += ["needs"]
    head = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What scopion status --format json gives",
    }
    return json.dumps({**head, **{key: value for key, value in made.items() if key != "title"}}, indent=2) + "\n"
