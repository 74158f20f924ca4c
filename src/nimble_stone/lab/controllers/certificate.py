"""Certificates of stand-in controllers: self-made, some of them odd."""

from __future__ import annotations

import ssl
import tempfile
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from nimble_stone.lab.scenario.demo import MachinePlan


def self_made(name: str) -> ssl.SSLContext:
    """What a fresh product shows: a certificate of its own making."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name[:64] or "node")])
    start = datetime.now(UTC) - timedelta(days=1)
    built = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=3650))
        .sign(key, hashes.SHA256())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.NamedTemporaryFile(suffix=".pem") as file:
        file.write(built.public_bytes(serialization.Encoding.PEM))
        file.write(
            key.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.NoEncryption(),
            )
        )
        file.flush()
        context.load_cert_chain(file.name)
    return context


def made(plan: MachinePlan) -> bytes:
    """Key and self-made certificate; that of a machine with an odd one has expired and names
    another machine.
    """
    key = ec.generate_private_key(ec.SECP256R1())
    wrong = plan.odd.get("certificate")
    name = x509.Name(
        [
            x509.NameAttribute(
                x509.NameOID.COMMON_NAME, "localhost" if wrong else f"{plan.name}-bmc.holm.example"
            )
        ]
    )
    start = datetime.now(UTC) - timedelta(days=900 if wrong else 30)
    names: list[x509.GeneralName] = (
        [x509.DNSName("localhost")]
        if wrong
        else [
            x509.DNSName(f"{plan.name}-bmc.holm.example"),
            x509.IPAddress(IPv4Address(plan.address)),
        ]
    )
    built = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=365 if wrong else 3650))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
    )
    certificate = built.sign(key, hashes.SHA256())
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ) + certificate.public_bytes(serialization.Encoding.PEM)
