"""Says in plain words why a connection, or TLS over it, failed, and what to look at."""

from __future__ import annotations

import errno
import ssl

from scopion.model.text import clean

_ADVICE = {
    errno.ECONNREFUSED: "nothing listens there: see whether the port is right and the server is running",
    errno.EHOSTUNREACH: "there is no route to it: is this machine on the network, and the address right?",
    errno.ENETUNREACH: "there is no route to its network: is this machine connected?",
    errno.ECONNRESET: "it broke off the connection: is it the right port, or does it refuse this machine?",
}


def network_problem(error: OSError, timeout_s: float) -> str:
    """Return what the system said of a connection, and what to look at."""
    if isinstance(error, TimeoutError):
        return f"no answer within {timeout_s:g} seconds: does a firewall drop it, or is it the wrong port?"
    return _ADVICE.get(error.errno or 0, error.strerror or clean(str(error), 120))


def tls_problem(error: OSError, host: str, port: int, *, otherwise: str = "the port for starttls or plain") -> str:
    """Return why a connection could not be secured; ``otherwise`` is what the port may be instead."""
    if isinstance(error, ssl.SSLCertVerificationError):
        said = clean(error.verify_message or "it is not trusted").rstrip(".")
        if error.verify_code in (62, 64):  # X509_V_ERR_HOSTNAME_MISMATCH, X509_V_ERR_IP_ADDRESS_MISMATCH
            return (
                f"the certificate of the server at port {port} is not that of {host}: write the host as its "
                f"certificate has it ({said})"
            )
        if error.verify_code == 10:  # X509_V_ERR_CERT_HAS_EXPIRED
            return f"the certificate of {host} has expired: its administrator has to renew it, or this clock is wrong"
        return (
            f"the certificate of {host} is not signed by an authority that this machine trusts ({said}): if it "
            "is your own server, name its certificate with trust"
        )
    if isinstance(error, ssl.SSLError) and error.reason in ("WRONG_VERSION_NUMBER", "RECORD_LAYER_FAILURE"):
        return f"{host} does not speak TLS at port {port}: is it {otherwise} instead?"
    if isinstance(error, TimeoutError):
        return f"{host} did not answer at port {port} when TLS began: is it {otherwise} instead?"
    return f"{host} broke off at port {port} when TLS began ({clean(str(error), 120)}): is it the right port?"
