"""SSH host keys that a system writes to its serial console at its first start, as cloud-init does.
Pure.
"""

from __future__ import annotations

import base64
import binascii
import hashlib

BEGIN, END = "-----BEGIN SSH HOST KEY KEYS-----", "-----END SSH HOST KEY KEYS-----"
KINDS = (
    "ssh-rsa",
    "ssh-ed25519",
    "ecdsa-sha2-nistp521",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp256",
)
"""Kinds of keys in the order in which a server is asked for them. RSA stays first: its keys were
pinned by earlier versions.
"""


def fingerprint(console: str) -> str:
    """The fingerprint (SHA256:…) of the key that the node will show, '' while its keys are not
    all there. The latest block counts: a system that was made anew has new keys.
    """
    _, found, rest = console.rpartition(BEGIN)
    block, ended, _ = rest.partition(END)
    if not found or not ended:
        return ""
    keys = {}
    for line in block.splitlines():
        words = line.strip().split()
        # a console may put a time stamp before what is written
        at = next((n for n, word in enumerate(words) if word.startswith(("ssh-", "ecdsa-"))), None)
        if at is None or len(words) < at + 2:
            continue
        try:
            blob = base64.b64decode(words[at + 1], validate=True)
        except binascii.Error:
            continue
        digest = base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")
        keys[words[at]] = f"SHA256:{digest}"
    return next((keys[kind] for kind in KINDS if kind in keys), "")
