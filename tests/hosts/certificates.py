"""Certificates for tests."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

NOW = datetime.fromtimestamp(1_800_000_000, UTC)


def certificate(address: str, first_day: int, last_day: int) -> bytes:
    """A self-made certificate (DER) for an address, valid between two days counted from NOW."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, address)])
    built = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(NOW + timedelta(days=first_day))
        .not_valid_after(NOW + timedelta(days=last_day))
        .add_extension(
            x509.SubjectAlternativeName([x509.IPAddress(IPv4Address(address))]), critical=False
        )
    )
    return built.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)
