"""The seal of orders and answers: they cannot be read, made up or changed by who has the broker in hand.

AES-256 in Galois/counter mode (NIST SP 800-38D) with a key that this sensor and the roster's side have; what is sealed
for one sensor, or one way, opens nowhere else. A new nonce for each document, by chance, of 96 bits.
"""

from __future__ import annotations

import base64
import json
import os

from scopion.model.errors import InvalidSettings, MalformedFrame

ORDERS, ANSWERS = "orders/1", "answers/1"
SEALED = "sealed/1"
_KEY_OCTETS, _NONCE_OCTETS = 32, 12
# A packet at the broker has 1 MB at most; sealed and written as text a document grows by a third.
MOST_OCTETS, _MOST_SEALED = 700_000, 1 << 20


class Seal:
    """Seals for one sensor of a site."""

    def __init__(self, key: str, begins: str, sensor: str) -> None:
        """Take a key of 64 hexadecimal digits. Raises InvalidSettings."""
        try:
            self._key = bytes.fromhex(key)
        except ValueError:
            self._key = b""
        if len(self._key) != _KEY_OCTETS:
            raise InvalidSettings(
                f"the key for orders to {sensor} is damaged: scopion sensor orders {sensor} --new-key makes another"
            )
        self._about = f"{begins}\0{sensor}"

    def closed(self, way: str, octets: bytes) -> bytes:
        """Return a document sealed for a way, as the broker has it."""
        from cryptography.hazmat.primitives.ciphers.aead import AESGCM

        nonce = os.urandom(_NONCE_OCTETS)
        sealed = AESGCM(self._key).encrypt(nonce, octets, self._context(way))
        text = base64.b64encode(nonce + sealed).decode()
        return json.dumps({"form": SEALED, "sealed": text}, separators=(",", ":")).encode()

    def opened(self, way: str, octets: bytes) -> bytes:
        """Return a document that was sealed for a way. Raises MalformedFrame for any other."""
        from cryptography.exceptions import InvalidTag
        from cryptography.hazmat.primitives.ciphers.aead import AESGCM

        if len(octets) > _MOST_SEALED:
            raise MalformedFrame("it is larger than any that is sealed")
        try:
            read = json.loads(octets)
            if not isinstance(read, dict) or read.get("form") != SEALED:
                raise MalformedFrame(f"this is not of the form {SEALED}")
            text = str(read.get("sealed", ""))
            raw = base64.b64decode(text, validate=True)
            if base64.b64encode(raw).decode() != text:  # the last letter has bits that mean nothing (RFC 4648, 3.5)
                raise MalformedFrame(f"this is not of the form {SEALED}")
            return AESGCM(self._key).decrypt(raw[:_NONCE_OCTETS], raw[_NONCE_OCTETS:], self._context(way))
        except MalformedFrame:
            raise
        except InvalidTag:
            raise MalformedFrame("its seal is not ours") from None
        except (ValueError, RecursionError):
            raise MalformedFrame("it is nothing that is sealed") from None

    def _context(self, way: str) -> bytes:
        return f"{way}\0{self._about}".encode()
