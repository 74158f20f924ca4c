"""SSH keys that are made here: the private half goes into the keyring and nowhere else."""

from __future__ import annotations

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519

from nimble_stone.core.errors import Conflict, FormatError
from nimble_stone.ports.ports import Ports
from nimble_stone.store import entries


async def make(ports: Ports, name: str) -> str:
    """The public half of the key with this name, `ssh-ed25519 AAAA…`; made when there is none yet
    (RFC 8709).

    Raises: Conflict when the keyring has something else under that name, FormatError when the key
    there cannot be read.
    """
    async with ports.lock(f"key {name}"):
        found = await ports.store.read(entries.get_secret, name)
        if found is None:
            private = ed25519.Ed25519PrivateKey.generate()
            text = private.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.OpenSSH,
                serialization.NoEncryption(),
            ).decode()
            await ports.keep_secret(name, text, "key")
        elif found[0] != "key":
            raise Conflict(
                f"the keyring has a password called “{name}”",
                code="name-taken",
                hint="Choose another name for the key.",
            )
        return public_of(await ports.open_secret(name))


def public_of(private: str) -> str:
    """The public half of a private key. Raises FormatError."""
    try:
        key = (
            serialization.load_ssh_private_key(private.encode(), None)
            if "OPENSSH" in private
            else serialization.load_pem_private_key(private.encode(), None)
        )
        return (
            key.public_key()
            .public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
            .decode()
        )
    except (ValueError, TypeError, AttributeError) as error:
        raise FormatError(
            f"the key cannot be read: {error}", hint="Give a private key without a passphrase."
        ) from error
