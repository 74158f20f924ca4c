"""SSH public keys as in authorized_keys. Pure."""

from __future__ import annotations

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa


def ssh_key_fault(text: str) -> str:
    """What is wrong with public keys as in authorized_keys (RFC 4253, 6.6; one a line), ''
    nothing.
    """
    lines = [
        line.strip()
        for line in text.splitlines()
        if line.strip() and not line.lstrip().startswith("#")
    ]
    if len(lines) > 50:
        return "holds more than 50 keys"
    for number, line in enumerate(lines, 1):
        which = f"line {number} " if len(lines) > 1 else ""
        if "PRIVATE KEY" in line:
            return f"{which}is a private key; only the public one belongs here"
        try:
            key = serialization.load_ssh_public_key(line.encode())
        except (ValueError, UnsupportedAlgorithm):
            return f"{which}is not an SSH public key (such as “ssh-ed25519 AAAA… name”)"
        if isinstance(key, rsa.RSAPublicKey) and key.key_size < 2048:
            return f"{which}is an RSA key of {key.key_size} bits only; 2048 are the least"
    return "" if lines else "holds no key"
