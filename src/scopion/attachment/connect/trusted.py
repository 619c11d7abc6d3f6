"""Makes what checks a server's certificate: against the system's authorities, or against a file that settings name."""

from __future__ import annotations

import ssl
from pathlib import Path

from scopion.model.errors import InvalidSettings


def trusting(path: Path | None) -> ssl.SSLContext:
    """Return a context that trusts the certificates in a file, or the system's authorities. Raises InvalidSettings."""
    try:
        return ssl.create_default_context(cafile=str(path) if path is not None else None)
    except (OSError, ssl.SSLError) as error:
        reason = _reason(error, "certificate")
        raise InvalidSettings(f"{path} should hold the certificates to trust: {reason}") from None


def present_itself(context: ssl.SSLContext, certificate: Path, key: Path | None) -> None:
    """Have a client show a certificate of its own. Raises InvalidSettings."""
    try:
        context.load_cert_chain(certificate, key, password=lambda: "")  # never ask on the terminal
    except (OSError, ssl.SSLError) as error:
        where = f"{certificate} and {key}" if key is not None else str(certificate)
        raise InvalidSettings(
            f"{where} should hold the client certificate and its key: {_reason(error, 'pair of both, in PEM')}"
        ) from None


def _reason(error: OSError, what: str) -> str:
    if isinstance(error, FileNotFoundError | PermissionError):
        return error.strerror or "it cannot be read"
    return f"it holds no {what}"
