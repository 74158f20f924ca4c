"""Sealing and opening secrets (AES-256-GCM; the entry's name is authenticated with it, so entries
cannot be swapped).
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from nimble_stone.core.errors import StoneError


class Vault:
    """Seals values with the key kept in one file of the data folder (mode 0600)."""

    def __init__(self, key: bytes) -> None:
        self._cipher = AESGCM(key)

    @classmethod
    def at(cls, path: Path) -> Vault:
        """The vault of a key file; the key is made when there is none."""
        try:
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            key = path.read_bytes()
        else:
            key = AESGCM.generate_key(256)
            with os.fdopen(descriptor, "wb") as file:
                file.write(key)
                file.flush()
                os.fsync(file.fileno())
        if len(key) != 32:
            raise StoneError(
                f"{path} is not a keyring key (32 bytes)",
                code="keyring-key",
                hint="Restore it from your backup.",
            )
        return cls(key)

    def seal(self, name: str, value: str) -> bytes:
        """Encrypted value; nonce first."""
        nonce = secrets.token_bytes(12)
        return nonce + self._cipher.encrypt(nonce, value.encode(), name.encode())

    def open(self, name: str, sealed: bytes) -> str:
        """The value. Raises StoneError when the key is another or the entry was altered."""
        try:
            return self._cipher.decrypt(sealed[:12], sealed[12:], name.encode()).decode()
        except InvalidTag as error:
            raise StoneError(
                f"keyring entry “{name}” cannot be opened with this key",
                code="keyring-open",
                hint="Restore keyring.key from the backup of this database.",
            ) from error
