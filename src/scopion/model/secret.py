"""References to secrets in settings. The settings never hold the secret itself, because they are often copied."""

from __future__ import annotations

import re
from typing import Annotated

from annotated_types import Predicate

# A credential's name becomes a file name, and stands in the service's unit.
_REFERENCE = re.compile(r"env:[A-Za-z_]\w*|file:.+|credential:[\w.-]{1,200}", re.ASCII)

Secret = Annotated[str, Predicate(lambda text: not text or _REFERENCE.fullmatch(text) is not None)]
