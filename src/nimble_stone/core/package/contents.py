"""What a package holds: found out from its files, whatever their kind, without trusting names or
claims.

One pass of digests over what the manifest vouches for; tables and texts are read where they lie.
Nothing is loaded whole but small texts.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Literal

from nimble_stone.core.disk import signatures
from nimble_stone.core.disk.image import MAX_CAPACITY
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource, ConcatSource, Source
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import descriptor as ovf
from nimble_stone.core.package import envelope, kinds, manifest, packed
from nimble_stone.core.package import iso as iso_image
from nimble_stone.core.package.archive import ArchiveReader, MemberStart
from nimble_stone.core.package.given import MAX_DESCRIPTOR, Given, pieces_of
from nimble_stone.core.package.iso import IsoFacts
from nimble_stone.core.package.model import Descriptor, Disk, Envelope, Noticed, Signer, Trust

if TYPE_CHECKING:
    from cryptography.x509 import Certificate

Format = Literal["ova", "ovf", "qcow2", "vmdk", "raw", "iso", "kernel"]
State = Literal["absent", "verified", "failed"]
MAX_MANIFEST = 1 << 20
MAX_SIGNATURE = 256 << 10
PIECE = 256 << 10
Tell = Callable[[int], None]


@dataclass(frozen=True)
class Member:
    """A file of the package: where its bytes lie (`offset` in `blob`), its SHA-256 where it was
    computed, and what the manifest says of it.
    """

    name: str
    size: int
    offset: int
    sha256: str
    vouched: bool
    blob: str = ""
    state: Literal["verified", "unlisted", "failed"] = "unlisted"


@dataclass(frozen=True)
class Integrity:
    """Whether the package is whole and by whom."""

    manifest: State = "absent"
    algorithm: str = ""
    signature: Trust = "absent"
    signer: Signer | None = None


@dataclass(frozen=True)
class DiskFile:
    """A disk image that is the package itself."""

    name: str
    kind: str
    capacity_bytes: int | None
    populated_bytes: int | None


@dataclass(frozen=True)
class Contents:
    """A package, examined. `sha256` and `size` are those of all it was given as."""

    sha256: str
    size: int
    members: tuple[Member, ...]
    format: Format = "ova"
    envelope: Envelope | None = None
    disks: tuple[DiskFile, ...] = ()
    iso: IsoFacts | None = None
    kernel: str = ""
    """Version of a kernel that the package is."""
    ramdisks: tuple[str, ...] = ()
    """File names of its initial ramdisks, in order."""
    integrity: Integrity = Integrity()
    findings: tuple[Noticed, ...] = field(default=())
    # (file name, blob) of files that were unpacked at take-in
    unpacked: tuple[tuple[str, str], ...] = ()

    @property
    def descriptor(self) -> Descriptor:
        """What a rollout needs. Raises FormatError for a package without exactly one virtual
        system.
        """
        if self.envelope is None:
            raise FormatError(
                f"the package is a bare {self.format} file: it does not state vCPUs, memory or"
                " networks",
                code="package-bare",
            )
        return ovf.summary(self.envelope, self.findings)

    @property
    def signed(self) -> bool:
        """Whether it is signed, trusted or not."""
        return self.integrity.signature != "absent"

    @property
    def blockers(self) -> tuple[Noticed, ...]:
        """What stands in the way of using it."""
        return tuple(f for f in self.findings if f.severity == "blocker")

    def member(self, name: str) -> Member:
        """The member with this name. Raises FormatError when the package lacks it."""
        for member in self.members:
            if member.name == name:
                return member
        raise FormatError(
            f"the descriptor names “{name}”, but the package does not contain it",
            code="ovf-file-missing",
        )


def hash_source(source: Source, algorithm: str, tell: Tell = lambda _: None) -> str:
    """Hex digest of a whole source; `tell` gets the bytes done since the last call. Raises
    FormatError when it ends early.
    """
    digest = hashlib.new(algorithm, usedforsecurity=False)
    at, size = 0, source.size_bytes
    while at < size:
        piece = source.read_at(at, min(PIECE, size - at))
        digest.update(piece)
        at += len(piece)
        tell(len(piece))
    return digest.hexdigest()


class _Examination:
    """One package being looked at."""

    def __init__(self, language: str, trust: Sequence[Certificate], now: float, tell: Tell) -> None:
        self.language, self.trust, self.now, self.tell = language, trust, now, tell
        self.found: list[Noticed] = []

    def notice(
        self,
        severity: Literal["blocker", "caution", "note"],
        code: str,
        message: str,
        where: str = "",
        clause: str = "",
    ) -> None:
        if len(self.found) < 1_000:
            self.found.append(
                Noticed(severity, code, message, where, f"DSP0243 {clause}" if clause else "")
            )

    def refuse(self, error: FormatError, where: str = "") -> None:
        self.found.append(
            Noticed("blocker", error.code, str(error), where or error.place, error.clause)
        )

    # --- archives ---

    def unpack(self, given: Given) -> list[tuple[Given, int]]:
        """The members of an archive with their offsets, as far as it is sound."""
        reader, at, members = ArchiveReader(), 0, []
        source = given.source
        try:
            while at < source.size_bytes and not reader.ended:
                for event in reader.feed(source.read_at(at, min(512, source.size_bytes - at))):
                    if isinstance(event, MemberStart):
                        if event.offset + event.size > source.size_bytes:
                            raise FormatError(
                                f"the archive ends in the middle of “{event.name}”: it is cut"
                                " short",
                                code="archive-truncated",
                                place=f"byte {source.size_bytes}",
                                hint="Copy or download the file again and compare its size.",
                            )
                        members.append(
                            (
                                Given(
                                    event.name, source.part(event.offset, event.size), given.blob
                                ),
                                event.offset,
                            )
                        )
                        reader.skip()
                        break
                at = reader.wanted
            reader.close()
            if not reader.ended:
                self.notice(
                    "caution",
                    "archive-end",
                    "the archive has no end mark; it may be cut short",
                    clause="6.5",
                )
            elif _holds_anything(source, reader.wanted):
                self.found.append(
                    Noticed(
                        "caution",
                        "archive-after-end",
                        f"{source.size_bytes - reader.wanted} bytes stand after the end of the"
                        " archive; nothing of them is read",
                        given.name,
                        "POSIX.1-2017 pax, ustar",
                    )
                )
        except FormatError as error:
            self.refuse(error)
        return members

    # --- packages with a descriptor ---

    def package(
        self, members: list[tuple[Given, int]], form: Literal["ova", "ovf"]
    ) -> tuple[tuple[Member, ...], Envelope | None, Integrity]:
        by_name = {given.name: given for given, _ in members}
        descriptor = self._descriptor(members, form)
        listed, integrity, states = self._manifest(by_name, descriptor)
        read: Envelope | None = None
        if descriptor is not None:
            read = self._envelope(descriptor, by_name)
        digests: dict[str, tuple[str, str]] = {}
        for given, _ in members:
            if given.name in listed:
                states[given.name] = self._verify(given, listed[given.name], digests)
            elif listed and given.name.lower().rsplit(".", 1)[-1] not in ("mf", "cert"):
                self.notice(
                    "caution",
                    "manifest-unlisted",
                    f"“{given.name}” is not in the manifest; it is not verified",
                    clause="6.4",
                )
        for name in listed:
            if name not in by_name:
                self.notice(
                    "blocker",
                    "manifest-missing-file",
                    f"the manifest lists “{name}”, which the package does not hold",
                    clause="6.4",
                )
                integrity = replace(integrity, manifest="failed")
        if "failed" in states.values():
            integrity = replace(integrity, manifest="failed")
        if read is not None:
            self._files(read, by_name, states)
        return (
            tuple(
                Member(
                    g.name,
                    g.source.size_bytes,
                    at,
                    digests[g.name][1] if digests.get(g.name, ("",))[0] == "sha256" else "",
                    states.get(g.name) == "verified",
                    g.blob,
                    states.get(g.name, "unlisted"),
                )
                for g, at in members
            ),
            read,
            integrity,
        )

    def _descriptor(self, members: list[tuple[Given, int]], form: str) -> Given | None:
        named = [given for given, _ in members if given.name.lower().endswith(".ovf")]
        if len(named) > 1:
            self.notice(
                "blocker",
                "ova-order",
                f"{len(named)} descriptors; a package has exactly one",
                clause="6.5",
            )
        if not named:
            named = [
                given
                for given, _ in members
                if given.source.size_bytes <= MAX_DESCRIPTOR and _kind(given.source) == "ovf"
            ][:1]
            if not named:
                self.notice(
                    "blocker",
                    "ova-no-descriptor",
                    "the package holds no OVF descriptor",
                    clause="6.5",
                )
                return None
            self.notice(
                "caution",
                "ova-name",
                f"the descriptor is named “{named[0].name}”; its name should end in .ovf",
                clause="6.1",
            )
        chosen = named[0]
        if form == "ova" and members[0][0].name != chosen.name:
            self.notice(
                "caution",
                "ova-order",
                f"the archive begins with “{members[0][0].name}”; an OVA begins with its"
                " descriptor",
                clause="6.5",
            )
        if chosen.source.size_bytes > MAX_DESCRIPTOR:
            self.notice(
                "blocker",
                "ova-member-size",
                f"“{chosen.name}” is {chosen.source.size_bytes} bytes long; at most"
                f" {MAX_DESCRIPTOR} are read",
            )
            return None
        return chosen

    def _manifest(
        self, files: Mapping[str, Given], descriptor: Given | None
    ) -> tuple[
        dict[str, tuple[str, str]], Integrity, dict[str, Literal["verified", "unlisted", "failed"]]
    ]:
        base = descriptor.name.rsplit(".", 1)[0] if descriptor else ""
        names = [name for name in files if name.lower().endswith(".mf")]
        if len(names) > 1:
            self.notice("blocker", "ova-order", "more than one manifest", clause="6.4")
        if not names:
            return {}, self._without_manifest(files), {}
        chosen = files[names[0]]
        if base and names[0].rsplit(".", 1)[0] != base:
            self.notice(
                "caution",
                "manifest-name",
                f"the manifest is named “{names[0]}”; it should be “{base}.mf”",
                clause="6.4",
            )
        if chosen.source.size_bytes > MAX_MANIFEST:
            self.notice(
                "blocker",
                "ova-member-size",
                f"“{chosen.name}” is {chosen.source.size_bytes} bytes long; at most {MAX_MANIFEST}"
                " are read",
            )
            return {}, Integrity("failed"), {}
        data = chosen.source.read_at(0, chosen.source.size_bytes)
        try:
            listed = manifest.parse(data)
        except FormatError as error:
            self.refuse(error, f"{chosen.name}, {error.place}")
            return {}, Integrity("failed"), {}
        algorithms = sorted({kind for kind, _ in listed.values()})
        if "sha1" in algorithms:
            self.notice(
                "note",
                "manifest-weak",
                "the manifest uses SHA-1: it shows damage, but not every forgery",
                clause="6.4",
            )
        if descriptor and descriptor.name not in listed:
            self.notice(
                "caution",
                "manifest-descriptor",
                "the manifest does not list the descriptor itself",
                clause="6.4",
            )
        integrity = Integrity(
            "verified" if listed else "failed", algorithms[0] if algorithms else ""
        )
        return listed, self._signed(integrity, files, data, chosen.name), {}

    def _without_manifest(self, files: Mapping[str, Given]) -> Integrity:
        self.notice(
            "note",
            "manifest-absent",
            "there is no manifest: damage on the way cannot be seen",
            clause="6.4",
        )
        if not any(name.lower().endswith(".cert") for name in files):
            return Integrity()
        self.notice(
            "blocker",
            "signature-form",
            "the package was signed, but the manifest that the signature is for is gone",
            clause="6.4",
        )
        return Integrity(signature="failed")

    def _signed(
        self, integrity: Integrity, files: Mapping[str, Given], data: bytes, name: str
    ) -> Integrity:
        """With what the signature of the manifest (its bytes and name) says."""
        certificate = next(
            (given for name, given in files.items() if name.lower().endswith(".cert")), None
        )
        if certificate is not None and certificate.source.size_bytes <= MAX_SIGNATURE:
            # costly to load, and few packages are signed
            from nimble_stone.core.package import signature

            checked = signature.check(
                certificate.source.read_at(0, certificate.source.size_bytes),
                data,
                name,
                self.trust,
                self.now,
            )
            self.found += checked.findings
            integrity = replace(integrity, signature=checked.state, signer=checked.signer)
        elif certificate is not None:
            self.notice(
                "blocker",
                "ova-member-size",
                f"“{certificate.name}” is {certificate.source.size_bytes} bytes long; at most"
                f" {MAX_SIGNATURE} are read",
            )
            integrity = replace(integrity, signature="failed")
        return integrity

    def _envelope(self, descriptor: Given, files: Mapping[str, Given]) -> Envelope | None:
        data = descriptor.source.read_at(0, descriptor.source.size_bytes)
        try:
            texts = {
                name: files[name].source.read_at(0, files[name].source.size_bytes)
                for name in envelope.text_files(data)
                if name in files and files[name].source.size_bytes <= MAX_MANIFEST
            }
            read, noticed = envelope.read(data, self.language, texts)
        except FormatError as error:
            self.refuse(
                error, f"{descriptor.name}, {error.place}" if error.place else descriptor.name
            )
            return None
        self.found += [
            replace(n, where=f"{descriptor.name}, {n.where}" if n.where else descriptor.name)
            for n in noticed
        ]
        return read

    def _verify(
        self, given: Given, wanted: tuple[str, str], digests: dict[str, tuple[str, str]]
    ) -> Literal["verified", "failed"]:
        algorithm, expected = wanted
        found = hash_source(given.source, algorithm, self.tell)
        digests[given.name] = (algorithm, found)
        if found == expected:
            return "verified"
        self.notice(
            "blocker",
            "manifest-digest",
            f"“{given.name}” does not match the package's manifest: {algorithm} expected"
            f" {expected[:16]}…, found {found[:16]}…. The file was changed or damaged on its way",
            given.name,
            "6.4",
        )
        return "failed"

    def _files(self, read: Envelope, files: Mapping[str, Given], states: Mapping[str, str]) -> None:
        def size_of(name: str) -> int | None:
            return files[name].source.size_bytes if name in files else None

        used: set[str] = set()
        for file in read.files:
            names = pieces_of(file, size_of)
            used |= set(names)
            missing = [name for name in names if name not in files]
            if missing:
                self.notice(
                    "blocker",
                    "ovf-file-missing",
                    f"the descriptor names “{missing[0]}”, which the package does not hold",
                    clause="7.1",
                )
                continue
            found = sum(files[name].source.size_bytes for name in names)
            if file.size is not None and file.size != found:
                vouched = all(states.get(name) == "verified" for name in names)
                self.notice(
                    "caution" if vouched else "blocker",
                    "ovf-file-size",
                    f"“{file.href}” is {found} bytes long; the descriptor says {file.size}"
                    + (" (the manifest vouches for what is there)" if vouched else ""),
                    clause="7.1",
                )
        for name in files:
            if name not in used and name.lower().rsplit(".", 1)[-1] not in ("ovf", "mf", "cert"):
                self.notice(
                    "caution",
                    "ovf-file-unused",
                    f"the package holds “{name}”, which the descriptor does not name",
                    clause="6.1",
                )
        self._disks(read, files, size_of)

    def _disks(
        self, read: Envelope, files: Mapping[str, Given], size_of: Callable[[str], int | None]
    ) -> None:
        refs = {file.id: file for file in read.files}
        everything = {name: given.source for name, given in files.items()}
        for disk in read.disks:
            file = refs.get(disk.file_id)
            if file is None or any(name not in files for name in pieces_of(file, size_of)):
                continue
            parts = [files[name].source for name in pieces_of(file, size_of)]
            source = parts[0] if len(parts) == 1 else ConcatSource(parts)
            try:
                if file.packed:
                    inside = self._unpacked(file.href, source, disk)
                    if inside is None:
                        continue
                    source = inside
                kind = _kind(source)
                image = open_image(source, everything, raw=True)
            except FormatError as error:
                self.refuse(error, f"{file.href}, {error.place}" if error.place else file.href)
                continue
            if kind == "unknown" and image.capacity_bytes != disk.capacity_bytes:
                self.notice(
                    "blocker",
                    "ovf-disk-kind",
                    f"“{file.href}” is not a disk image of a kind that is read, nor a raw disk of"
                    f" {disk.capacity_bytes} bytes",
                    file.href,
                    "9.1",
                )
                continue
            if (
                disk.capacity_bytes
                and image.capacity_bytes != disk.capacity_bytes
                and not disk.capacity_key
            ):
                self.notice(
                    "caution",
                    "ovf-disk-capacity",
                    f"disk “{disk.id}” is {disk.capacity_bytes} bytes by the descriptor,"
                    f" {image.capacity_bytes} by its file",
                    file.href,
                    "9.1",
                )
            word = disk.format_uri.lower()
            if (
                word
                and kind in ("vmdk", "qcow2", "raw")
                and not any(hint in word for hint in (kind, "vmdk" if kind == "vmdk" else kind))
            ):
                self.notice(
                    "note",
                    "ovf-disk-format",
                    f"the descriptor calls the format of “{disk.id}” “{disk.format_uri[:80]}”; the"
                    f" file is {kind}",
                    file.href,
                    "9.1",
                )
            for note in image.notes:
                self.notice("note", "disk-note", note, file.href)

    def _unpacked(self, href: str, source: Source, disk: Disk) -> Source | None:
        """What is inside a file that the descriptor calls packed; None when it is judged already,
        or too large to hold. Raises FormatError.
        """
        if _kind(source) != "gzip":
            self.notice(
                "blocker",
                "ovf-file-kind",
                f"“{href}” is said to be packed by gzip, but is not",
                clause="7.1",
            )
            return None
        inside = packed.peek(source, "gzip", MAX_PEEK)
        if inside.whole is not None:
            return BytesSource(inside.whole)
        kind = kinds.tell(inside.head)
        if name := signatures.unread(BytesSource(inside.head)):
            raise FormatError(f"this is {name}, which is not supported", code="disk-kind")
        if kind not in ("qcow2", "vmdk", "raw", "unknown"):
            raise FormatError(f"what is packed here is not a disk ({kind})", code="disk-kind")
        size = packed.capacity(kind, inside)
        if (
            size is not None
            and disk.capacity_bytes
            and size != disk.capacity_bytes
            and not disk.capacity_key
        ):
            self.notice(
                "caution",
                "ovf-disk-capacity",
                f"disk “{disk.id}” is {disk.capacity_bytes} bytes by the descriptor, {size} by its"
                " file",
                href,
                "9.1",
            )
        if inside.size is None:
            self.notice(
                "note",
                "packed-size",
                "only the first GiB was unpacked; the rest is checked on import",
                href,
            )
        return None


def _ordered(found: list[Noticed]) -> tuple[Noticed, ...]:
    """Blockers first, then cautions, then notes; otherwise as they were found."""
    weight = {"blocker": 0, "caution": 1, "note": 2}
    return tuple(sorted(found, key=lambda notice: weight[notice.severity]))


MAX_TAIL = 1 << 20


def _holds_anything(source: Source, at: int) -> bool:
    """Whether the first MiB from `at` on is more than the zeros that fill up an archive's last
    record.
    """
    return source.read_at(at, max(0, min(MAX_TAIL, source.size_bytes - at))).count(0) < min(
        MAX_TAIL, source.size_bytes - at
    )


def _kind(source: Source) -> kinds.Kind:
    return kinds.tell(source.read_at(0, min(kinds.HEAD, source.size_bytes)))


def examine(
    given: Sequence[Given],
    *,
    language: str = "",
    trust: Sequence[Certificate] = (),
    now: float = 0.0,
    tell: Tell = lambda _: None,
) -> Contents:
    """Find out what the given files are. A damaged package is still told of, its faults as
    findings.

    Raises: FormatError with code 'not-a-package' when the files are nothing to deploy.
    """
    look = _Examination(language, trust, now, tell)
    size = sum(g.source.size_bytes for g in given)
    ident = (
        given[0].blob
        if len(given) == 1
        else hashlib.sha256(
            "\n".join(sorted(f"{g.blob} {g.name}" for g in given)).encode()
        ).hexdigest()
    )
    by_kind = {g.name: _kind(g.source) if g.source.size_bytes else "unknown" for g in given}
    first = given[0]
    kind = by_kind[first.name]
    if len(given) == 1 and kind == "ova":
        members = look.unpack(first)
        files, read, integrity = (
            look.package(members, "ova") if members else ((), None, Integrity())
        )
        return Contents(
            ident, size, files, "ova", read, integrity=integrity, findings=_ordered(look.found)
        )
    if any(by_kind[g.name] == "ovf" for g in given):
        _must_be_envelope(given, by_kind)
        files, read, integrity = look.package([(g, 0) for g in given], "ovf")
        return Contents(
            ident, size, files, "ovf", read, integrity=integrity, findings=_ordered(look.found)
        )
    members_plain = tuple(
        Member(g.name, g.source.size_bytes, 0, g.blob, False, g.blob) for g in given
    )
    main = next(
        (
            g
            for g in given
            if by_kind[g.name] in ("vmdk-text", "qcow2", "vmdk", "raw", "iso", "kernel")
        ),
        first,
    )
    kind = by_kind[main.name]
    if kind == "kernel":
        return _kernel(main, given, by_kind, look, ident, members_plain)
    if kind == "iso":
        return _iso(main, look, ident, members_plain)
    if kind in ("gzip", "xz", "zstd"):
        return _packed(main, kind, look, ident, members_plain)
    if kind in ("qcow2", "vmdk", "vmdk-text", "raw") or (
        kind == "unknown"
        and len(given) == 1
        and main.name.lower().endswith((".raw", ".img"))
        and main.source.size_bytes >= 512
        and main.source.size_bytes % 512 == 0
    ):
        return _image(main, kind, given, look, ident, members_plain)
    raise FormatError(
        f"“{first.name}” is not an OVA, OVF, disk image, ISO image or kernel: nothing to deploy",
        code="not-a-package",
        hint="The type is detected from the first bytes, not from the name.",
    )


_DISKS = ("vmdk", "qcow2", "raw")
_RAMDISKS = ("initrd", "gzip", "xz", "zstd", "bzip2", "lz4", "lzma", "lzop")
"""An archive as it is, or by what the kernel can unpack."""


def _kernel(
    main: Given,
    given: Sequence[Given],
    by_kind: Mapping[str, str],
    look: _Examination,
    ident: str,
    members: tuple[Member, ...],
) -> Contents:
    """A kernel with its ramdisks, and at most one disk."""
    size = sum(member.size for member in members)
    ramdisks = tuple(sorted(name for name, kind in by_kind.items() if kind in _RAMDISKS))
    disks = [one for one in given if by_kind[one.name] in _DISKS]
    known = {main.name, *ramdisks, *(one.name for one in disks[:1])}
    for name in by_kind:
        if name not in known:
            look.notice("caution", "kernel-file", f"“{name}” is neither a ramdisk nor the one disk")
    if not ramdisks:
        look.notice("note", "kernel-alone", "a kernel without an initial ramdisk")
    found = Contents(
        ident,
        size,
        members,
        "kernel",
        kernel=iso_image.kernel_version(main.source),
        ramdisks=ramdisks,
        findings=_ordered(look.found),
    )
    if not disks:
        return found
    disk = _image(disks[0], by_kind[disks[0].name], disks[:1], look, ident, members)
    return replace(found, disks=disk.disks, findings=disk.findings)


def _iso(main: Given, look: _Examination, ident: str, members: tuple[Member, ...]) -> Contents:
    size = sum(member.size for member in members)
    try:
        facts = iso_image.read(main.source)
    except FormatError as error:
        look.refuse(error)
        return Contents(ident, size, members, "iso", findings=_ordered(look.found))
    if facts.volume_bytes > main.source.size_bytes:
        look.notice(
            "blocker",
            "iso-truncated",
            f"the image says it is {facts.volume_bytes} bytes long, but has"
            f" {main.source.size_bytes}: it is cut short",
        )
    if not facts.boots_bios and not facts.boots_uefi:
        look.notice(
            "caution",
            "iso-boot",
            "the image has no boot catalogue: no machine will start from it",
        )
    return Contents(ident, size, members, "iso", iso=facts, findings=_ordered(look.found))


def _must_be_envelope(given: Sequence[Given], by_kind: Mapping[str, str]) -> None:
    """An XML file that is no envelope is no package at all; one that cannot be parsed may have
    been.
    """
    xml = [g for g in given if by_kind[g.name] == "ovf"]
    if len(xml) == 1 and xml[0].source.size_bytes <= MAX_DESCRIPTOR:
        try:
            envelope.text_files(xml[0].source.read_at(0, xml[0].source.size_bytes))
            envelope.read(xml[0].source.read_at(0, xml[0].source.size_bytes))
        except FormatError as error:
            if error.code == "ovf-envelope":
                raise FormatError(
                    f"“{xml[0].name}” is XML, but not an OVF descriptor", code="not-a-package"
                ) from error


_FORMATS: dict[str, Format] = {"qcow2": "qcow2", "vmdk": "vmdk", "vmdk-text": "vmdk"}
"""What a disk's first bytes tell, as a package's format; all else is raw."""


def _image(
    main: Given,
    kind: str,
    given: Sequence[Given],
    look: _Examination,
    ident: str,
    members: tuple[Member, ...],
) -> Contents:
    form = _FORMATS.get(kind, "raw")
    size = sum(g.source.size_bytes for g in given)
    if kind == "unknown":
        look.notice(
            "caution",
            "raw-unknown",
            "nothing in its first bytes tells what this is; it is taken as a raw disk because of"
            " its name and size",
        )
    try:
        image = open_image(main.source, {g.name: g.source for g in given}, raw=True)
        if image.capacity_bytes > MAX_CAPACITY:
            raise FormatError("the disk is larger than 64 TiB", code="disk-size")
        parent = getattr(image, "has_parent", False)
        if parent:
            raise FormatError(
                "the disk holds only what differs from a parent, which is missing",
                code="disk-backing",
            )
    except FormatError as error:
        look.refuse(error)
        return Contents(
            ident,
            size,
            members,
            form,
            disks=(DiskFile(main.name, kind, None, None),),
            findings=_ordered(look.found),
        )
    for note in image.notes:
        look.notice("note", "disk-note", note, main.name)
    populated = min(image.capacity_bytes, len(image.clusters) << 16)
    return Contents(
        ident,
        size,
        members,
        form,
        disks=(DiskFile(main.name, image.kind, image.capacity_bytes, populated),),
        findings=_ordered(look.found),
    )


MAX_PEEK = 1 << 30


def _packed(
    main: Given, kind: str, look: _Examination, ident: str, members: tuple[Member, ...]
) -> Contents:
    """A packed disk image: what is inside is told by unpacking its beginning; its size by unpacking
    up to 1 GiB of it.
    """
    try:
        inside = packed.peek(main.source, kind, MAX_PEEK)
    except (FormatError, zlib.error) as error:
        look.refuse(
            error if isinstance(error, FormatError) else FormatError(str(error), code="packed")
        )
        return Contents(
            ident,
            main.source.size_bytes,
            members,
            "raw",
            disks=(DiskFile(main.name, kind, None, None),),
            findings=_ordered(look.found),
        )
    inner = kinds.tell(inside.head)
    if inner not in ("qcow2", "vmdk", "raw"):
        raise FormatError(
            f"“{main.name}” is packed by {kind}, but what is inside is not a disk image",
            code="not-a-package",
        )
    capacity = packed.capacity(inner, inside)
    if capacity is None:
        look.notice(
            "note",
            "packed-size",
            "its size is known after import: only the first GiB was unpacked",
        )
    form = _FORMATS.get(inner, "raw")
    return Contents(
        ident,
        main.source.size_bytes,
        members,
        form,
        disks=(DiskFile(main.name, f"{inner}+{kind}", capacity, None),),
        findings=_ordered(look.found),
    )
