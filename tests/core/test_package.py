"""Reading packages: what is right is read, what is wrong is refused with place and reason, and
nothing crashes.
"""

from __future__ import annotations

import hashlib
import io
import tarfile

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import descriptor, environment, manifest, xml_safe
from nimble_stone.core.package.archive import ArchiveReader, MemberData, MemberStart
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.units import GIB
from nimble_stone.lab.scenario import appliance

GOOD = appliance.ova(mib=1, capacity_gib=2)
OVF = appliance.descriptor(2 << 30, 1234).encode()


def take(data: bytes) -> Contents:
    return examine([Given("x.ova", BytesSource(data), hashlib.sha256(data).hexdigest())])


def refusal(contents: Contents) -> str:
    return contents.blockers[0].code if contents.blockers else ""


def packed(*members: tuple[str, bytes], kind: bytes = tarfile.REGTYPE) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for name, data in members:
            info = tarfile.TarInfo(name)
            info.size, info.type = len(data), kind
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def test_a_whole_package_tells_everything_a_rollout_needs() -> None:
    contents = take(GOOD)
    own = contents.descriptor
    assert contents.sha256 == hashlib.sha256(GOOD).hexdigest()
    assert (own.product, own.version, own.vendor) == (
        "Gauge Collector",
        "4.2.0",
        "Holm Instruments",
    )
    assert [(size.id, size.vcpu, size.memory_bytes, size.default) for size in own.sizes] == [
        ("small", 2, 8 * GIB, True),
        ("medium", 4, 32 * GIB, False),
        ("large", 8, 64 * GIB, False),
    ]
    assert [network.name for network in own.networks] == ["Service"]
    assert own.full_bytes == 2 * GIB
    secret = next(question for question in own.questions if question.secret)
    assert (secret.key, secret.minimum, secret.maximum, secret.category) == (
        "gauge.admin_password",
        10,
        64,
        "Service",
    )
    assert next(q for q in own.questions if q.key == "gauge.role").choices == (
        "lead",
        "archive",
        "relay",
    )
    assert own.licences[0].startswith("Gauge Collector licence")
    assert {member.name: member.vouched for member in contents.members}[
        "gauge-collector-disk1.vmdk"
    ]


@settings(max_examples=15, deadline=None)
@given(piece=st.integers(min_value=1, max_value=4000))
def test_the_size_of_the_pieces_makes_no_difference(piece: int) -> None:
    def events(size: int) -> list[object]:
        reader, found = ArchiveReader(), []
        for at in range(0, len(small), size):
            found += [
                event if not isinstance(event, MemberData) else None
                for event in reader.feed(small[at : at + size])
            ]
        reader.close()
        return [event for event in found if event is not None]

    small = appliance.pack(
        "x", {"x.ovf": OVF.replace(b"1234", b"7"), "gauge-collector-disk1.vmdk": b"content"}
    )
    assert events(piece) == events(len(small))


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_every_truncation_is_refused(data: st.DataObject) -> None:
    cut = data.draw(st.integers(min_value=512, max_value=len(GOOD) - 20_480))
    assert take(GOOD[:cut]).blockers


@settings(max_examples=120, deadline=None)
@given(st.data())
def test_a_flipped_byte_gives_a_located_error_or_the_same_package_and_nothing_else(
    data: st.DataObject,
) -> None:
    at = data.draw(
        st.integers(min_value=0, max_value=9000) | st.integers(min_value=0, max_value=len(GOOD) - 1)
    )
    damaged = bytearray(GOOD)
    damaged[at] ^= data.draw(st.integers(min_value=1, max_value=255))
    try:
        contents = take(bytes(damaged))
    except FormatError as error:
        assert error.code == "not-a-package"
    else:
        assert contents.blockers or contents.descriptor.product


def test_a_wrong_digest_names_file_and_both_digests() -> None:
    at = GOOD.rfind(b"\x78\x01")
    damaged = bytearray(GOOD)
    damaged[at + 40] ^= 1
    contents = take(bytes(damaged))
    worst = contents.blockers[0]
    assert worst.code == "manifest-digest"
    assert "gauge-collector-disk1.vmdk" in worst.message
    assert worst.clause == "DSP0243 6.4"
    assert contents.integrity.manifest == "failed"
    assert {m.name: m.state for m in contents.members}["gauge-collector-disk1.vmdk"] == "failed"


@pytest.mark.parametrize(
    "name",
    [
        "../evil.ovf",
        "/etc/passwd",
        "a/../../b",
        "sub/../inside.ovf",
        "sub//inside.ovf",
        "..",
        "back\\slash",
        "bell\x07",
    ],
)
def test_names_that_lead_out_of_the_package_are_refused(name: str) -> None:
    with pytest.raises(FormatError) as caught:
        list(ArchiveReader().feed(packed((name, b"x"))))
    assert caught.value.code in ("archive-name", "archive-member")


@pytest.mark.parametrize(
    "kind", [tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.CHRTYPE, tarfile.FIFOTYPE, tarfile.DIRTYPE]
)
def test_links_and_devices_are_refused(kind: bytes) -> None:
    with pytest.raises(FormatError, match="not a plain file"):
        list(ArchiveReader().feed(packed(("link.ovf", b""), kind=kind)))


def test_a_file_that_stands_twice_is_refused() -> None:
    with pytest.raises(FormatError, match="twice"):
        list(ArchiveReader().feed(packed(("a.ovf", b"1"), ("a.ovf", b"2"))))


def test_files_in_folders_are_read_under_their_relative_names() -> None:
    events = list(ArchiveReader().feed(packed(("a.ovf", b"1"), ("./disks/one.vmdk", b"22"))))
    assert [event.name for event in events if isinstance(event, MemberStart)] == [
        "a.ovf",
        "disks/one.vmdk",
    ]


def header(kind: bytes, name: str, body: bytes) -> bytes:
    info = tarfile.TarInfo(name)
    info.size, info.type = len(body), kind
    return info.tobuf(tarfile.USTAR_FORMAT) + body + bytes(-len(body) % 512)


@pytest.mark.parametrize(
    "between",
    [
        header(b"g", "globals", b"18 comment=a word\n"),
        header(b"L", "././@LongLink", b"shadowed.ovf\0"),
    ],
)
def test_an_extended_header_holds_for_the_next_file_whatever_headers_stand_between(
    between: bytes,
) -> None:
    """POSIX 1003.1, pax: typeflag x affects the next file; g and GNU's L in between do not end
    that.
    """
    data = (
        header(b"x", "x", b"18 path=wanted.ovf\n".replace(b"18", b"19"))
        + between
        + header(b"0", "short.ovf", b"abc")
        + bytes(1024)
    )
    events = list(ArchiveReader().feed(data))
    assert [event.name for event in events if isinstance(event, MemberStart)] == ["wanted.ovf"]


def test_bytes_after_the_end_of_the_archive_are_told_and_not_read() -> None:
    assert "archive-after-end" not in {f.code for f in take(GOOD).findings}
    found = next(
        f for f in take(GOOD + b"more" + bytes(508)).findings if f.code == "archive-after-end"
    )
    assert found.severity == "caution"
    assert "POSIX" in found.clause
    zeros = take(GOOD + bytes(10_240))
    assert "archive-after-end" not in {f.code for f in zeros.findings}, (
        "a record is filled up with zeros"
    )


def test_long_names_of_pax_and_gnu_archives_are_read() -> None:
    for form in (tarfile.PAX_FORMAT, tarfile.GNU_FORMAT):
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w", format=form) as archive:
            info = tarfile.TarInfo("n" * 150 + ".ovf")
            info.size = 3
            archive.addfile(info, io.BytesIO(b"abc"))
        events = list(ArchiveReader().feed(out.getvalue()))
        assert isinstance(events[0], MemberStart)
        assert events[0].name == "n" * 150 + ".ovf"
        assert isinstance(events[1], MemberData)
        assert out.getvalue()[events[0].offset : events[0].offset + 3] == b"abc"


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (b"<!DOCTYPE x [<!ENTITY a 'b'>]><x>&a;</x>", "xml-dtd"),
        (b"<!DOCTYPE x SYSTEM 'file:///etc/passwd'><x/>", "xml-dtd"),
        (
            b"<?xml version='1.0'?><!DOCTYPE l [<!ENTITY a 'aa'><!ENTITY b '&a;&a;'>]><l>&b;</l>",
            "xml-dtd",
        ),
        (b"<a>" * 100 + b"</a>" * 100, "xml-too-deep"),
        (b"<a><b></a>", "xml-syntax"),
        (b"", "xml-syntax"),
        (b"<a>" + b"x" * (5 << 20) + b"</a>", "xml-too-large"),
    ],
)
def test_hostile_xml_is_refused_by_name(data: bytes, code: str) -> None:
    with pytest.raises(FormatError) as caught:
        xml_safe.parse(data, "the descriptor")
    assert caught.value.code == code


@pytest.mark.parametrize(
    ("old", "new", "code"),
    [
        (b'ovf:capacity="2147483648"', b'ovf:capacity="99999999999999999999"', "ovf-number"),
        (b'ovf:capacity="2147483648"', b'ovf:capacity="-5"', "ovf-number"),
        (b'ovf:capacity="2147483648"', b'ovf:capacity="70368744177665"', "ovf-disk"),
        (b'ovf:fileRef="file1"', b'ovf:fileRef="file9"', "ovf-disk"),
        (b"ovf:/disk/disk1", b"ovf:/disk/disk7", "ovf-disk"),
        (b'ovf:href="gauge-collector-disk1.vmdk"', b'ovf:href="../disk.vmdk"', "ovf-file"),
        (b"byte * 2^20", b"byte * 999999999999999^999", "ovf-unit"),
        (b"byte * 2^20", b"furlong", "ovf-unit"),
        (b'ovf:key="address"', b'ovf:key="hostname"', "ovf-property"),
        (b"<Envelope", b"<Letter", "xml-syntax"),
        (b"</VirtualSystem>", b"</VirtualSystem><VirtualSystem/>", "ovf-systems"),
    ],
)
def test_a_descriptor_that_is_wrong_is_refused_with_its_line(
    old: bytes, new: bytes, code: str
) -> None:
    assert old in OVF
    with pytest.raises(FormatError) as caught:
        descriptor.parse(OVF.replace(old, new))
    assert caught.value.code == code
    if code not in ("ovf-systems",):
        assert "line" in str(caught.value)


def test_an_unknown_required_section_is_refused_and_an_optional_one_noted() -> None:
    section = (
        b'<x:Extra xmlns:x="urn:x" xmlns="http://schemas.dmtf.org/ovf/envelope/1"'
        b' ovf:required="%s"><Info>extra</Info></x:Extra></VirtualSystem>'
    )
    with pytest.raises(FormatError, match="required"):
        descriptor.parse(OVF.replace(b"</VirtualSystem>", section % b"true"))
    noted = descriptor.parse(OVF.replace(b"</VirtualSystem>", section % b"false"))
    assert any("Extra" in note for note in noted.notes)


@given(
    st.dictionaries(
        st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=12),
        st.text(st.characters(min_codepoint=32, max_codepoint=0xD7FF), max_size=30),
        max_size=8,
    )
)
def test_an_environment_document_is_read_back_as_it_was_written(values: dict[str, str]) -> None:
    assert environment.parse(environment.build("node", values)) == values


def test_manifest_lines_of_all_kinds() -> None:
    text = f"SHA1(a.ovf)= {'a' * 40}\nSHA256(b c.vmdk)= {'B' * 64}\n\nSHA512 (d)={'c' * 128}\n"
    assert manifest.parse(text.encode())["b c.vmdk"] == ("sha256", "b" * 64)
    with pytest.raises(FormatError, match="manifest line 1"):
        manifest.parse(b"SHA256(a)= 1234\n")
    with pytest.raises(FormatError, match="twice"):
        manifest.parse((f"SHA1(a)= {'a' * 40}\n" * 2).encode())


def test_an_archive_that_does_not_begin_with_its_descriptor_is_said_to_be_out_of_order() -> None:
    found = {f.code: f for f in take(packed(("disk.vmdk", b"x"), ("a.ovf", OVF))).findings}
    assert found["ova-order"].severity == "caution"
    assert found["ovf-file-missing"].severity == "blocker"
