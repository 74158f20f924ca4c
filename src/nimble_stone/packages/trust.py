"""The team's trusted publishers."""

from __future__ import annotations

from cryptography.x509 import Certificate

from nimble_stone.core.package import signature
from nimble_stone.ports.ports import Ports
from nimble_stone.store import library


async def trusted_certificates(ports: Ports) -> list[Certificate]:
    """Certificates of all trusted publishers."""
    return [
        certificate
        for trusted in await ports.store.read(library.trusted)
        for certificate in signature.read_certificates(trusted.pem.encode())
    ]
