"""What settings say of an MQTT broker, wherever they name one."""

from __future__ import annotations

import re
from typing import Annotated

from annotated_types import Ge, Le, MaxLen, Predicate

from scopion.model.secret import Secret
from scopion.model.settings_table import settings_table

_HOST = re.compile(r"[\w.:\[\]-]{1,253}", re.ASCII)


@settings_table
class BrokerKeys:
    """How a broker is reached."""

    host: Annotated[str, Predicate(lambda text: bool(_HOST.fullmatch(text)))]
    port: Annotated[int, Ge(1), Le(65_535)] = 8883
    tls: bool = True
    trust: Annotated[str, MaxLen(4096)] = ""  # a file with the certificates to trust; empty: the system's authorities
    user: Annotated[str, MaxLen(64)] = ""
    password: Secret = ""
    certificate: Annotated[str, MaxLen(4096)] = ""  # files of a client certificate and its key
    key: Annotated[str, MaxLen(4096)] = ""
