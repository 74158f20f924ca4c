"""Certificates: what the authority signs is believed by other programs, what people bring is told
apart; SSH keys.
"""

from __future__ import annotations

import ssl
import subprocess
import time
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.errors import FormatError, StoneError
from nimble_stone.core.ssh_keys import ssh_key_fault
from nimble_stone.keyring import certificates as c

NOW = time.time()
AUTHORITY = c.make_authority(NOW)
NAMES = ["w-ctl1.kelda.holm.example", "w-ctl1", "10.44.20.11", "fd44::11"]
PAIR = c.issue(AUTHORITY, NAMES, NOW)


def shakes_hands(name: str, pair: c.Pair, trusted: str, folder: Path) -> str:
    """A TLS handshake in memory between a server with the pair and a client that believes
    `trusted`.
    """
    file = folder / "pair.pem"
    file.write_text(pair.certificate + pair.key)
    server, client = (
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER),
        ssl.create_default_context(cadata=trusted),
    )
    server.load_cert_chain(file)
    there, back = ssl.MemoryBIO(), ssl.MemoryBIO()
    ends = [
        client.wrap_bio(back, there, server_hostname=name),
        server.wrap_bio(there, back, server_side=True),
    ]
    for _ in range(8):
        for end in ends:
            try:
                end.do_handshake()
            except ssl.SSLWantReadError:
                continue
            except ssl.SSLCertVerificationError as error:
                return error.verify_message
    return ""


def test_what_is_issued_is_believed_for_its_names_and_no_other(tmp_path: Path) -> None:
    for name in NAMES[:3]:
        assert shakes_hands(name, PAIR, AUTHORITY.certificate, tmp_path) == ""
    assert "mismatch" in shakes_hands("w-ctl2", PAIR, AUTHORITY.certificate, tmp_path)
    assert shakes_hands(NAMES[0], PAIR, c.make_authority(NOW).certificate, tmp_path) != ""


def test_openssl_agrees(tmp_path: Path) -> None:
    (tmp_path / "ca.pem").write_text(AUTHORITY.certificate)
    (tmp_path / "leaf.pem").write_text(PAIR.certificate)
    said = subprocess.run(
        [
            "openssl",
            "verify",
            "-x509_strict",
            "-purpose",
            "sslserver",
            "-verify_hostname",
            NAMES[0],
            "-CAfile",
            "ca.pem",
            "leaf.pem",
        ],
        cwd=tmp_path,
        capture_output=True,
        text=True,
    )
    assert said.stdout.strip() == "leaf.pem: OK", said.stderr


def test_two_made_are_never_the_same() -> None:
    other = c.issue(AUTHORITY, NAMES, NOW)
    serials = {
        x509.load_pem_x509_certificate(pair.certificate.encode()).serial_number
        for pair in (PAIR, other, AUTHORITY)
    }
    assert len(serials) == 3
    assert other.key != PAIR.key


@given(
    st.lists(
        st.one_of(
            st.text(max_size=20),
            st.from_regex(r"[a-z][a-z0-9-]{0,20}(\.[a-z]{2,8}){0,3}", fullmatch=True),
            st.ip_addresses().map(str),
        ),
        min_size=1,
        max_size=5,
    )
)
def test_a_certificate_covers_exactly_the_names_that_are_names(names: list[str]) -> None:
    good = [name for name in names if c.general_name(name) is not None]
    if not good:
        with pytest.raises(FormatError, match="needs a name"):
            c.issue(AUTHORITY, names, NOW)
        return
    leaf = x509.load_pem_x509_certificate(c.issue(AUTHORITY, names, NOW).certificate.encode())
    assert all(c.covers(leaf, name) for name in good)
    assert not c.covers(leaf, "somebody.else.example")


def test_a_star_stands_for_one_label() -> None:
    leaf = x509.load_pem_x509_certificate(
        c.issue(AUTHORITY, ["*.kelda.holm.example"], NOW).certificate.encode()
    )
    assert [
        c.covers(leaf, name)
        for name in (
            "a.kelda.holm.example",
            "A.Kelda.holm.example",
            "a.b.kelda.holm.example",
            "kelda.holm.example",
            "10.44.0.1",
        )
    ] == [True, True, False, False, False]


def test_a_pair_that_somebody_brings_must_belong_together() -> None:
    chain = PAIR.certificate + AUTHORITY.certificate
    assert c.read_pair(chain, PAIR.key) == c.Pair(chain, PAIR.key)
    locked = serialization.load_pem_private_key(PAIR.key.encode(), None).private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.BestAvailableEncryption(b"tide"),
    )
    for certificate, key, words in (
        (PAIR.certificate, AUTHORITY.key, "does not belong"),
        ("hello", PAIR.key, "not a PEM file"),
        (PAIR.certificate, "hello", "not a PEM private key"),
        (PAIR.certificate, locked.decode(), "passphrase"),
        (PAIR.certificate + c.make_authority(NOW, "Other").certificate, PAIR.key, "did not sign"),
        (AUTHORITY.certificate + PAIR.certificate, PAIR.key, "does not belong"),
        (PAIR.certificate * 11, PAIR.key, "chain of 11"),
        ("x" * (c.MAX_PEM + 1), PAIR.key, "more than 64 KiB"),
        (PAIR.key, PAIR.certificate, "not a PEM file"),
    ):
        with pytest.raises(StoneError, match=words):
            c.read_pair(certificate, key)


def test_what_is_wrong_with_a_pair_is_said_in_words() -> None:
    day = 86_400
    assert c.faults(PAIR, NAMES, NOW) == []
    assert c.faults(PAIR, [*NAMES, "w-ctl9", "10.9.9.9"], NOW) == [
        "is not valid for w-ctl9, 10.9.9.9"
    ]
    assert c.faults(PAIR, NAMES[:1], NOW + 900 * day)[0].startswith("has expired on 20")
    assert c.faults(PAIR, NAMES[:1], NOW + 810 * day)[0].startswith("expires on 20")
    assert c.faults(PAIR, NAMES[:1], NOW - 9 * day)[0].startswith("is valid only from 20")
    assert c.faults(c.Pair("no", "no"), NAMES, NOW)[0].startswith("cannot be read")
    with pytest.raises(FormatError):
        c.unpacked('{"certificate": 1}')
    assert c.unpacked(PAIR.packed()) == PAIR
    assert c.words(PAIR.certificate).startswith(
        "w-ctl1.kelda.holm.example, by Nimble Stone authority, until 20"
    )


def ssh_line(key: ed25519.Ed25519PrivateKey | rsa.RSAPrivateKey) -> str:
    return (
        key.public_key()
        .public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
        .decode()
    )


def test_ssh_keys_are_told_from_what_is_none() -> None:
    good = ssh_line(ed25519.Ed25519PrivateKey.generate())
    assert ssh_key_fault(f"# the team's\n{good} ann@kelda\n\n{good}") == ""
    private = (
        ed25519.Ed25519PrivateKey.generate()
        .private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.OpenSSH,
            serialization.NoEncryption(),
        )
        .decode()
    )
    assert "private key" in ssh_key_fault(private)
    assert ssh_key_fault(f"{good}\nssh-ed25519 AAAA").startswith("line 2 is not an SSH public key")
    assert "1024 bits" in ssh_key_fault(ssh_line(rsa.generate_private_key(65537, 1024)))
    assert ssh_key_fault(" \n# nothing") == "holds no key"
    assert "more than 50" in ssh_key_fault("\n".join([good] * 51))
