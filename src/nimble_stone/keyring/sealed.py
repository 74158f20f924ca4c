"""The keyring's key under a passphrase, for backups: scrypt (RFC 7914) makes a key of the
passphrase, AES-256-GCM seals.
"""

from __future__ import annotations

import json
import secrets
from base64 import b64decode, b64encode

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from nimble_stone.core.errors import FormatError, InputError

COST = 1 << 16
MIN_PASSPHRASE = 8
_LABEL = b"nimble-stone keyring key"


def seal(key: bytes, passphrase: str) -> bytes:
    """The key, sealed, as JSON. Raises InputError for a passphrase that is too short. Takes about
    half a second.
    """
    if len(passphrase) < MIN_PASSPHRASE:
        raise InputError(
            f"The passphrase has {len(passphrase)} characters; at least {MIN_PASSPHRASE} are"
            " needed.",
            code="passphrase-short",
        )
    salt, nonce = secrets.token_bytes(16), secrets.token_bytes(12)
    sealed = AESGCM(_key_of(passphrase, salt, COST)).encrypt(nonce, key, _LABEL)
    parts = {"salt": salt, "nonce": nonce, "sealed": sealed}
    return json.dumps(
        {
            "kdf": "scrypt",
            "cost": COST,
            **{name: b64encode(value).decode() for name, value in parts.items()},
        }
    ).encode()


def unseal(text: bytes, passphrase: str) -> bytes:
    """The key again. Raises InputError for another passphrase, FormatError for what `seal` did not
    write.
    """
    try:
        found = json.loads(text)
        cost = int(found["cost"])
        salt, nonce, sealed = (
            b64decode(found[name], validate=True) for name in ("salt", "nonce", "sealed")
        )
    except (ValueError, KeyError, TypeError) as error:
        raise FormatError("the sealed keyring key cannot be read") from error
    if found.get("kdf") != "scrypt" or not 1 << 14 <= cost <= 1 << 20 or cost & (cost - 1):
        raise FormatError("the keyring key is sealed in a way this program does not know")
    try:
        return AESGCM(_key_of(passphrase, salt, cost)).decrypt(nonce, sealed, _LABEL)
    except InvalidTag as error:
        raise InputError(
            "Wrong passphrase for the keyring in this backup.",
            code="passphrase-wrong",
            hint="Try again; nothing was restored.",
        ) from error


def _key_of(passphrase: str, salt: bytes, cost: int) -> bytes:
    return Scrypt(salt=salt, length=32, n=cost, r=8, p=1).derive(passphrase.encode())
