"""Signed packages (DSP0243 §6.4): the certificate file holds a signature over the manifest, then an
X.509 certificate and perhaps its chain (PEM).

Trusted is what leads to a certificate of the team's own trust list; no list of the operating system
is asked.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.model import Noticed, Signer, Trust

MAX_CERTIFICATES = 10
_DAMAGED = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.InvalidVersion,
    x509.DuplicateExtension,
    x509.UnsupportedGeneralNameType,
)
_LINE = re.compile(
    r"^\s*SHA-?(1|256|384|512)\s*\((.{1,255}?)\)\s*=\s*([0-9a-fA-F]{2,4096})\s*$", re.MULTILINE
)
_HASHES: dict[str, type[hashes.HashAlgorithm]] = {
    "1": hashes.SHA1,
    "256": hashes.SHA256,
    "384": hashes.SHA384,
    "512": hashes.SHA512,
}


@dataclass(frozen=True)
class Signature:
    """What came of checking a signature."""

    state: Trust
    signer: Signer | None = None
    findings: tuple[Noticed, ...] = ()


def read_certificates(data: bytes) -> list[x509.Certificate]:
    """All PEM certificates in `data`, at most ten. Raises FormatError for none, or one that cannot
    be read.
    """
    try:
        found = x509.load_pem_x509_certificates(data)
    except ValueError as error:
        raise FormatError(
            f"no certificate can be read: {str(error)[:120]}",
            code="certificate",
            hint="Give PEM text with BEGIN CERTIFICATE lines.",
        ) from error
    return found[:MAX_CERTIFICATES]


def fingerprint(certificate: x509.Certificate) -> str:
    """SHA-256 of the certificate, in the usual pairs."""
    return certificate.fingerprint(hashes.SHA256()).hex(":").upper()


def name_of(name: x509.Name) -> str:
    """A distinguished name for people."""
    return name.rfc4514_string()[:300]


def check(
    certificate_file: bytes,
    manifest: bytes,
    manifest_name: str,
    trust: Sequence[x509.Certificate],
    now: float,
) -> Signature:
    """Check the signature of a manifest. `now`: epoch seconds, for the validity of the
    certificates.
    """

    def failed(code: str, message: str, signer: Signer | None = None) -> Signature:
        return Signature(
            "failed", signer, (Noticed("blocker", code, message, clause="DSP0243 6.4"),)
        )

    line = _LINE.search(certificate_file[: 64 << 10].decode("utf-8", "replace"))
    if line is None:
        return failed("signature-form", "the certificate file holds no signature line")
    try:
        chain = read_certificates(certificate_file)
        leaf = chain[0]
        signer = _signer(leaf, chain)
        if line[2] != manifest_name:
            return failed(
                "signature-form",
                f"the signature is for “{line[2][:80]}”, the manifest is “{manifest_name[:80]}”",
                signer,
            )
        if not _holds(
            leaf,
            bytes.fromhex(line[3]) if len(line[3]) % 2 == 0 else b"",
            manifest,
            _HASHES[line[1]](),
        ):
            return failed(
                "signature-wrong",
                f"the signature of {signer.subject} does not fit the manifest: it was changed after"
                " signing",
                signer,
            )
        reason = _distrust(chain, trust, now)
    except FormatError as error:
        return failed("signature-form", f"the certificate file is damaged: {error}")
    except _DAMAGED as error:
        # fields are decoded when they are asked for, so damage shows late
        return failed("signature-form", f"a certificate is damaged: {str(error)[:120]}")
    notes = (
        [
            Noticed(
                "note",
                "signature-weak",
                "the signature uses SHA-1, which can be forged",
                clause="DSP0243 6.4",
            )
        ]
        if line[1] == "1"
        else []
    )
    if reason:
        return Signature(
            "untrusted",
            signer,
            (
                *notes,
                Noticed(
                    "caution",
                    "signature-untrusted",
                    f"signed by {signer.subject}, {reason}; compare the fingerprint before you"
                    " trust it",
                ),
            ),
        )
    return Signature("verified", signer, tuple(notes))


def _signer(leaf: x509.Certificate, chain: Sequence[x509.Certificate]) -> Signer:
    return Signer(
        name_of(leaf.subject),
        name_of(leaf.issuer),
        leaf.not_valid_before_utc.timestamp(),
        leaf.not_valid_after_utc.timestamp(),
        fingerprint(leaf),
        tuple(name_of(c.subject) for c in chain),
    )


def _holds(
    leaf: x509.Certificate, signature: bytes, manifest: bytes, algorithm: hashes.HashAlgorithm
) -> bool:
    key = leaf.public_key()
    try:
        if isinstance(key, rsa.RSAPublicKey):
            key.verify(signature, manifest, padding.PKCS1v15(), algorithm)
        elif isinstance(key, ec.EllipticCurvePublicKey):
            key.verify(signature, manifest, ec.ECDSA(algorithm))
        else:
            return False
    except InvalidSignature:
        return False
    return True


def _distrust(
    chain: Sequence[x509.Certificate], trust: Sequence[x509.Certificate], now: float
) -> str:
    """Why the chain does not lead to the trust list, '' when it does."""
    at, anchors = chain[0], {fingerprint(c) for c in trust}
    pool = [*trust, *chain[1:]]
    for _ in range(MAX_CERTIFICATES):
        if not at.not_valid_before_utc.timestamp() <= now <= at.not_valid_after_utc.timestamp():
            return (
                f"whose certificate ({name_of(at.subject)}) is valid from"
                f" {at.not_valid_before_utc:%Y-%m-%d} to {at.not_valid_after_utc:%Y-%m-%d} only"
            )
        if fingerprint(at) in anchors:
            return ""
        above = next(
            (
                c
                for c in pool
                if c.subject == at.issuer and fingerprint(c) != fingerprint(at) and _issued(at, c)
            ),
            None,
        )
        if above is None:
            return "who is not on the trust list"
        at = above
    return "by a chain that is too long"


def _issued(below: x509.Certificate, above: x509.Certificate) -> bool:
    try:
        below.verify_directly_issued_by(above)
        return above.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except (InvalidSignature, ValueError, TypeError, x509.ExtensionNotFound):
        return False


def pem(certificate: x509.Certificate) -> str:
    """A certificate as PEM text."""
    return certificate.public_bytes(serialization.Encoding.PEM).decode()
