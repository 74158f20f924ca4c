"""Certificates of stand-ins: self-made, those of some controllers odd."""

from __future__ import annotations

import ssl
import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from nimble_stone.lab.scenario.demo import MachinePlan


def self_made(
    subject: str, names: Sequence[x509.GeneralName] = (), *, age: int = 1, days: int = 3650
) -> bytes:
    """A key and a certificate that it signed itself (PEM), as a fresh product makes it. `age` and
    `days`: since when and how long it is valid, in days.
    """
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, subject[:64] or "node")])
    start = datetime.now(UTC) - timedelta(days=age)
    built = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=days))
    )
    if names:
        built = built.add_extension(x509.SubjectAlternativeName(names), critical=False)
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ) + built.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)


def shown(pem: bytes) -> ssl.SSLContext:
    """What a server shows. Raises OSError or ssl.SSLError when certificate and key do not fit."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.NamedTemporaryFile(suffix=".pem") as file:
        file.write(pem)
        file.flush()
        context.load_cert_chain(file.name)
    return context


def made(plan: MachinePlan) -> bytes:
    """A controller's; that of a machine with an odd one has expired and names another machine."""
    if plan.odd.get("certificate"):
        return self_made("localhost", [x509.DNSName("localhost")], age=900, days=365)
    name = f"{plan.name}-bmc.holm.example"
    names = [x509.DNSName(name), x509.IPAddress(IPv4Address(plan.address))]
    return self_made(name, names, age=30)
