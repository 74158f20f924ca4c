"""Whole packages of every kind, also as other tools pack them: what they are, whether they are
whole, by whom they are signed.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import lzma
import random
import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import adapt, compare, inspect, signature
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.units import GIB
from nimble_stone.lab.scenario import appliance
from tests.core import ovf
from tests.core.ovf import CPU, MEMORY, hardware, item, system

NOW = datetime(2026, 11, 23, tzinfo=UTC)
BY = appliance.publisher("Holm Instruments", NOW)
OTHER = appliance.publisher("Somebody Else", NOW)
DISK = appliance.vmdk(1 << 20, {0: b"boot", 9: b"more"})
SIZED = (
    (
        '<DiskSection><Info/><Disk ovf:diskId="d" ovf:fileRef="f" ovf:capacity="1048576"'
        ' ovf:format="http://disk.holm.example/vmdk"/></DiskSection>'
    ),
    system(
        parts=hardware(
            CPU, MEMORY, item(17, 4, more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource>")
        )
    ),
)


def look(**files: bytes) -> Contents:
    return examine(
        [
            Given(name.replace("__", "."), BytesSource(data), hashlib.sha256(data).hexdigest())
            for name, data in files.items()
        ],
        now=NOW.timestamp(),
    )


def codes(contents: Contents, severity: str = "blocker") -> set[str]:
    return {f.code for f in contents.findings if f.severity == severity}


def loose(disk: bytes = DISK, *, reference: str = "", **files: bytes) -> Contents:
    descriptor = ovf.envelope(
        *SIZED,
        references=reference or f'<File ovf:id="f" ovf:href="d.vmdk" ovf:size="{len(disk)}"/>',
    )
    return look(a__ovf=descriptor, **files)


@pytest.mark.parametrize("form", ["ustar", "gnu", "pax", "v7", "oldgnu"])
def test_archives_packed_by_tar_in_any_of_its_forms_are_read(tmp_path: Path, form: str) -> None:
    descriptor = ovf.envelope(
        *SIZED, references=f'<File ovf:id="f" ovf:href="d.vmdk" ovf:size="{len(DISK)}"/>'
    )
    (tmp_path / "a.ovf").write_bytes(descriptor)
    (tmp_path / "d.vmdk").write_bytes(DISK)
    (tmp_path / "a.mf").write_text(
        subprocess.run(
            ["openssl", "dgst", "-sha512", "a.ovf", "d.vmdk"],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=True,
        )
        .stdout.replace("SHA2-", "SHA")
        .replace("SHA512", "SHA512")
    )
    subprocess.run(
        ["tar", f"--format={form}", "-cf", "a.ova", "a.ovf", "a.mf", "d.vmdk"],
        cwd=tmp_path,
        check=True,
    )
    contents = look(a__ova=(tmp_path / "a.ova").read_bytes())
    assert not contents.blockers, contents.findings
    assert (contents.format, contents.integrity.manifest, contents.integrity.algorithm) == (
        "ova",
        "verified",
        "sha512",
    )
    assert contents.descriptor.full_bytes == 1 << 20


def test_a_descriptor_with_loose_files_chunks_and_packing(tmp_path: Path) -> None:
    assert not loose(d__vmdk=DISK).blockers
    packed = gzip.compress(DISK, mtime=0)
    assert not loose(
        packed,
        reference=(
            f'<File ovf:id="f" ovf:href="d.vmdk" ovf:compression="gzip" ovf:size="{len(packed)}"/>'
        ),
        d__vmdk=packed,
    ).blockers
    assert codes(
        loose(reference='<File ovf:id="f" ovf:href="d.vmdk" ovf:compression="gzip"/>', d__vmdk=DISK)
    ) == {"ovf-file-kind"}
    size = -(-len(DISK) // 3)
    chunks = {f"d.vmdk.{n:09d}": DISK[n * size : (n + 1) * size] for n in range(3)}
    for declared in (f'ovf:size="{len(DISK)}"', ""):
        reference = f'<File ovf:id="f" ovf:href="d.vmdk" ovf:chunkSize="{size}" {declared}/>'
        assert not loose(reference=reference, **chunks).blockers
        assert loose(reference=reference, **dict(list(chunks.items())[:2])).blockers


@pytest.mark.parametrize(
    ("inside", "code"),
    [
        (gzip.compress(b"This is a letter and no disk.\n" * 400, mtime=0), "disk-kind"),
        (gzip.compress(DISK, mtime=0)[:-400], "disk-truncated"),
        (gzip.compress(b"\1\2" * 40_000, mtime=0), "ovf-disk-kind"),
        (gzip.compress(gzip.compress(DISK, mtime=0), mtime=0), "disk-packed"),
        (gzip.compress(DISK[:-600], mtime=0), "vmdk-magic"),
    ],
)
def test_a_packed_file_of_a_descriptor_is_looked_into(inside: bytes, code: str) -> None:
    reference = (
        f'<File ovf:id="f" ovf:href="d.vmdk" ovf:compression="gzip" ovf:size="{len(inside)}"/>'
    )
    assert code in codes(loose(inside, reference=reference, d__vmdk=inside))


@pytest.mark.parametrize(
    ("files", "code"),
    [
        ({}, "ovf-file-missing"),
        ({"d__vmdk": DISK[:-600]}, "ovf-file-size"),
        ({"d__vmdk": b"x" * len(DISK)}, "disk-kind"),
        ({"d__vmdk": b"\1\2" * (len(DISK) // 2)}, "ovf-disk-kind"),
        ({"d__vmdk": DISK, "a__mf": f"SHA256(d.vmdk)= {'0' * 64}\n".encode()}, "manifest-digest"),
        ({"d__vmdk": DISK, "a__mf": b"no manifest at all"}, "manifest-line"),
        (
            {"d__vmdk": DISK, "a__mf": f"SHA1(other)= {'0' * 40}\n".encode()},
            "manifest-missing-file",
        ),
    ],
)
def test_what_is_not_whole_is_a_blocker_by_name(files: dict[str, bytes], code: str) -> None:
    contents = loose(**files)
    assert code in codes(contents)
    assert all(f.message for f in contents.findings)
    if "a__mf" in files:
        assert contents.integrity.manifest == "failed"


def test_a_size_that_differs_from_the_descriptor_is_forgiven_when_the_manifest_vouches() -> None:
    descriptor = ovf.envelope(
        *SIZED, references=f'<File ovf:id="f" ovf:href="d.vmdk" ovf:size="{len(DISK) + 1}"/>'
    )
    listed = (
        f"SHA256(a.ovf)= {hashlib.sha256(descriptor).hexdigest()}\nSHA256(d.vmdk)="
        f" {hashlib.sha256(DISK).hexdigest()}\n"
    )
    contents = look(a__ovf=descriptor, d__vmdk=DISK, a__mf=listed.encode())
    assert "ovf-file-size" in codes(contents, "caution")
    assert not contents.blockers


def test_files_nobody_names_and_disks_unlike_their_description_are_noticed() -> None:
    contents = loose(d__vmdk=DISK, readme__txt=b"hello")
    assert "ovf-file-unused" in codes(contents, "caution")
    descriptor = ovf.envelope(
        SIZED[0].replace("1048576", "2097152").replace("vmdk", "qcow2"),
        SIZED[1],
        references='<File ovf:id="f" ovf:href="d.vmdk"/>',
    )
    found = look(a__ovf=descriptor, d__vmdk=DISK)
    assert "ovf-disk-capacity" in codes(found, "caution")
    assert "ovf-disk-format" in codes(found, "note")


# --- bare files ---


@pytest.mark.parametrize(("made", "kind"), [("qcow2", "qcow2"), ("vmdk", "vmdk")])
def test_bare_disks_tell_their_size(tmp_path: Path, made: str, kind: str) -> None:
    subprocess.run(
        ["qemu-img", "create", "-q", "-f", made, tmp_path / "d.anything", "7G"], check=True
    )
    contents = look(**{"d.anything": (tmp_path / "d.anything").read_bytes()})
    assert (contents.format, contents.disks[0].capacity_bytes) == (kind, 7 * GIB)
    with pytest.raises(FormatError, match="does not state vCPUs"):
        _ = contents.descriptor


@pytest.mark.parametrize("pack", [gzip.compress, lzma.compress])
def test_packed_disks_are_told_by_what_is_inside(pack: object) -> None:
    raw = bytes(510) + b"\x55\xaa" + bytes(1 << 20)
    found = look(x=pack(raw))  # type: ignore[operator]  # either library's function
    assert (found.format, found.disks[0].capacity_bytes) == ("raw", len(raw))
    assert look(x=pack(DISK)).format == "vmdk"  # type: ignore[operator]
    with pytest.raises(FormatError, match="not a disk image"):
        look(x=pack(b"a letter" * 100))  # type: ignore[operator]


def test_a_kernel_with_its_ramdisk() -> None:
    kernel = bytearray(4096)
    kernel[0x1FE:0x200], kernel[0x202:0x206], kernel[0x20E:0x210] = (
        b"\x55\xaa",
        b"HdrS",
        (0x300).to_bytes(2, "little"),
    )
    kernel[0x500:0x510] = b"6.1.0-stone #1 x"
    found = look(vmlinuz=bytes(kernel), initrd=b"070701" + bytes(200))
    assert (found.format, found.kernel) == ("kernel", "6.1.0-stone #1 x")
    assert not codes(found, "note")
    assert codes(look(vmlinuz=bytes(kernel)), "note") == {"kernel-alone"}


@pytest.mark.parametrize(
    "data",
    [
        b"hello, I am a letter\n",
        b"\x89PNG\r\n\x1a\n" + bytes(200),
        random.Random(5).randbytes(5000),
        b"PK\x03\x04" + bytes(100),
        b"<html><body/></html>",
    ],
)
def test_what_is_nothing_of_ours_is_no_package(data: bytes) -> None:
    with pytest.raises(FormatError) as caught:
        look(whatever__ova=data)
    assert caught.value.code == "not-a-package"


def test_names_do_not_tell_what_a_file_is() -> None:
    assert look(picture__png=appliance.ova(mib=1)).format == "ova"
    assert look(disk__ova=DISK).format == "vmdk"


# --- signatures ---


def signed(
    by: appliance.Publisher | None, trust: list[bytes], now: datetime = NOW, change: bytes = b""
) -> Contents:
    data = appliance.ova(mib=1, by=by)
    if change:
        at = data.find(change) + len(change)
        data = data[:at] + (b"0" if data[at : at + 1] != b"0" else b"1") + data[at + 1 :]
    anchors = [certificate for pem in trust for certificate in signature.read_certificates(pem)]
    return examine([Given("a.ova", BytesSource(data))], trust=anchors, now=now.timestamp())


def test_a_signature_counts_only_when_it_leads_to_the_trust_list_in_its_time() -> None:
    good = signed(BY, [BY.authority])
    assert good.integrity.signature == "verified"
    assert good.integrity.signer is not None
    assert "Holm Instruments releases" in good.integrity.signer.subject
    assert len(good.integrity.signer.fingerprint) == 95
    # the very publisher, without its authority
    assert signed(BY, [BY.certificate]).integrity.signature == "verified"
    for trust, now in (
        ([], NOW),
        ([OTHER.authority], NOW),
        ([BY.authority], datetime(2046, 1, 1, tzinfo=UTC)),
        ([BY.authority], datetime(2020, 1, 1, tzinfo=UTC)),
    ):
        found = signed(BY, trust, now)
        assert found.integrity.signature == "untrusted"
        assert not found.blockers
    assert signed(None, []).integrity.signature == "absent"


def test_a_manifest_changed_after_signing_and_a_damaged_certificate_are_blockers() -> None:
    assert "signature-wrong" in codes(
        signed(BY, [BY.authority], change=b"SHA256(gauge-collector.ovf)= ")
    )
    assert "signature-form" in codes(
        signed(BY, [BY.authority], change=b"-----BEGIN CERTIFICATE-----\nMI")
    )


def test_a_signed_package_whose_manifest_was_taken_out_is_refused() -> None:
    found = loose(d__vmdk=DISK, a__cert=appliance.sign("a.mf", b"x", BY))
    assert "signature-form" in codes(found)
    assert found.integrity.signature == "failed"


def test_openssl_signs_and_we_agree(tmp_path: Path) -> None:
    def openssl(*words: str) -> None:
        subprocess.run(["openssl", *words], cwd=tmp_path, check=True, capture_output=True)

    for kind in (["rsa:2048"], ["ec", "-pkeyopt", "ec_paramgen_curve:P-256"]):
        openssl(
            "req",
            "-x509",
            "-newkey",
            *kind,
            "-nodes",
            "-keyout",
            "k.pem",
            "-out",
            "c.pem",
            "-days",
            "3",
            "-subj",
            "/O=Holm/CN=Signer",
        )
        (tmp_path / "a.mf").write_bytes(b"SHA256(a.ovf)= " + b"0" * 64 + b"\n")
        openssl("dgst", "-sha256", "-sign", "k.pem", "-out", "s.bin", "a.mf")
        certificate = (
            b"SHA256(a.mf)= "
            + (tmp_path / "s.bin").read_bytes().hex().encode()
            + b"\n"
            + (tmp_path / "c.pem").read_bytes()
        )
        trust = signature.read_certificates((tmp_path / "c.pem").read_bytes())
        now = trust[0].not_valid_before_utc.timestamp() + 60
        assert (
            signature.check(certificate, (tmp_path / "a.mf").read_bytes(), "a.mf", trust, now).state
            == "verified"
        )
        assert signature.check(certificate, b"other", "a.mf", trust, now).state == "failed"
        assert (
            signature.check(certificate, (tmp_path / "a.mf").read_bytes(), "b.mf", trust, now).state
            == "failed"
        )


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=300))
def test_any_certificate_file_gives_an_answer(junk: bytes) -> None:
    assert signature.check(b"SHA256(a.mf)= 00\n" + junk, b"x", "a.mf", [], 0.0).state == "failed"


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_a_damaged_certificate_gives_an_answer_whichever_of_its_fields_is_hit(
    data: st.DataObject,
) -> None:
    from cryptography.hazmat.primitives.serialization import Encoding

    der = bytearray(signature.read_certificates(BY.certificate)[0].public_bytes(Encoding.DER))
    for _ in range(data.draw(st.integers(min_value=1, max_value=3))):
        der[data.draw(st.integers(min_value=0, max_value=len(der) - 1))] = data.draw(
            st.integers(min_value=0, max_value=255)
        )
    pem = (
        b"-----BEGIN CERTIFICATE-----\n"
        + base64.encodebytes(bytes(der))
        + b"-----END CERTIFICATE-----\n"
    )
    own = appliance.sign("a.mf", b"x", BY).split(b"\n", 1)[0]
    assert signature.check(
        own + b"\n" + pem, b"x", "a.mf", signature.read_certificates(BY.authority), NOW.timestamp()
    ).state in ("verified", "untrusted", "failed")


# --- the contract, the guest, the comparison ---


def test_the_answer_for_programs_has_every_key_whatever_the_kind() -> None:
    keys = {
        "format",
        "integrity",
        "systems",
        "networks",
        "disks",
        "sizes",
        "properties",
        "licences",
        "findings",
    }
    for contents in (look(a__ova=appliance.ova(mib=1)), look(d=DISK), loose()):
        found = inspect.answer(contents)
        assert keys <= set(found)
        assert {"manifest", "algorithm", "signature"} <= set(found["integrity"])
    found = inspect.answer(look(a__ova=appliance.ova(mib=1, capacity_gib=3)))
    assert found["systems"][0] == {
        "id": "gauge-collector",
        "name": "Gauge Collector",
        "product": "Gauge Collector",
        "vendor": "Holm Instruments",
        "version": "4.2.0",
        "vcpu": 2,
        "memory_bytes": 8 * GIB,
        "nics": [{"name": "eth0", "network": "Service"}],
        "disks": ["disk1"],
    }
    assert found["disks"] == [
        {
            "id": "disk1",
            "file": "gauge-collector-disk1.vmdk",
            "capacity_bytes": 3 * GIB,
            "populated_bytes": None,
        }
    ]
    assert [(s["id"], s["default"], s["vcpu"]) for s in found["sizes"]] == [
        ("small", True, 2),
        ("medium", False, 4),
        ("large", False, 8),
    ]
    password = next(p for p in found["properties"] if p["password"])
    assert (
        password["key"],
        password["min_length"],
        password["max_length"],
        password["values"],
        password["default"],
    ) == ("gauge.admin_password", 10, 64, None, None)


def test_the_guest_keeps_what_can_be_given_and_says_what_becomes_of_the_rest() -> None:
    parts = hardware(
        CPU,
        MEMORY,
        item(6, 3, more="<rasd:ResourceSubType>VirtualSCSI</rasd:ResourceSubType>"),
        item(6, 5, more="<rasd:ResourceSubType>buslogic</rasd:ResourceSubType>"),
        item(
            17,
            6,
            more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource><rasd:Parent>3</rasd:Parent>",
        ),
        item(
            17,
            7,
            more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource><rasd:Parent>5</rasd:Parent>",
        ),
        item(17, 8, more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource>"),
        item(10, 9, more="<rasd:ResourceSubType>E1000</rasd:ResourceSubType>"),
        item(10, 10, more="<rasd:ResourceSubType>Token9</rasd:ResourceSubType>"),
        item(15, 11),
        before='<v:Config xmlns:v="urn:v" v:key="firmware" v:value="efi"/>',
    )
    own = look(
        a__ovf=ovf.envelope(
            SIZED[0], system(parts=parts), references='<File ovf:id="f" ovf:href="d.vmdk"/>'
        ),
        d__vmdk=DISK,
    ).descriptor
    guest = adapt.adapt(own, (adapt.ExtraDisk("readings1", "virtio", GIB),))
    assert [(d.bus, d.target, d.controller) for d in guest.disks] == [
        ("scsi", "sda", 0),
        ("scsi", "sdb", 1),
        ("virtio", "vda", 0),
        ("virtio", "vdb", 0),
    ]
    assert (guest.controllers, guest.nics, guest.firmware, guest.config_target) == (
        ("vmpvscsi", "virtio-scsi"),
        ("e1000", "virtio"),
        "efi",
        "hda",
    )
    told = {(d.outcome, d.was): d for d in guest.differences}
    assert told["mapped", "buslogic"].weight == "caution"
    assert told["mapped", "Token9"].weight == "caution"
    assert told["kept", "E1000"].becomes == "e1000"
    assert told["dropped", "empty"].device == "CD-ROM drive"


def test_two_versions_are_compared_by_meaning() -> None:
    old, new = (
        look(a__ova=appliance.ova(mib=1)),
        look(a__ova=appliance.ova(mib=1, version="4.3.0", edition=5)),
    )
    found = {(c.group, c.kind, c.what) for c in compare.compare(old, new)}
    assert {
        ("sizes", "changed", "Large"),
        ("sizes", "added", "Huge"),
        ("questions", "added", "gauge.keep"),
        ("licence", "changed", "line 1"),
    } <= found
    assert compare.compare(old, old) == []
    assert {(c.group, c.kind, c.what) for c in compare.compare(new, old)} >= {
        ("sizes", "removed", "Huge"),
        ("questions", "removed", "gauge.keep"),
    }


@settings(max_examples=80, deadline=None)
@given(
    st.integers(min_value=0, max_value=20_000),
    st.integers(min_value=0, max_value=255),
    st.integers(min_value=1, max_value=60_000),
)
def test_a_damaged_signed_archive_is_told_of_or_no_package(at: int, value: int, cut: int) -> None:
    data = bytearray(SIGNED)
    data[at] = value
    try:
        contents = examine([Given("a.ova", BytesSource(bytes(data[:-cut])))], now=NOW.timestamp())
        assert inspect.answer(contents)["findings"] is not None
    except FormatError as error:
        assert error.code == "not-a-package"


SIGNED = appliance.ova(mib=1, by=BY, seed=random.Random(1).randrange(99))


def test_a_manifest_may_begin_with_a_byte_order_mark() -> None:
    digests = f"SHA256(d.vmdk)= {hashlib.sha256(DISK).hexdigest()}\n"
    assert not codes(loose(d__vmdk=DISK, a__mf=b"\xef\xbb\xbf" + digests.encode())) & {
        "manifest-line"
    }
