"""Where a secret is, as settings say it: never the secret itself, for settings are often copied about."""

from __future__ import annotations

import re
from typing import Annotated

from annotated_types import Predicate

Secret = Annotated[str, Predicate(lambda text: not text or re.match(r"(env|file|credential):.", text) is not None)]
