"""Taking an OVA in while it streams: digests, descriptor and places of its files, in one pass and constant memory."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import descriptor as ovf
from nimble_stone.core.package import manifest
from nimble_stone.core.package.archive import ArchiveReader, MemberData, MemberStart
from nimble_stone.core.package.model import Descriptor

MAX_DESCRIPTOR = 4 << 20
MAX_MANIFEST = 1 << 20
_KEPT = {".ovf": MAX_DESCRIPTOR, ".mf": MAX_MANIFEST, ".cert": MAX_MANIFEST}


class _Hash(Protocol):
    def update(self, data: bytes, /) -> None: ...
    def hexdigest(self) -> str: ...


@dataclass(frozen=True)
class Member:
    """A file of the package: where its bytes lie in the archive, its digest (SHA-256) and whether the manifest vouches for it."""

    name: str
    size: int
    offset: int
    sha256: str
    vouched: bool


@dataclass(frozen=True)
class Contents:
    """A package that was taken in whole. `sha256` and `size` are the archive's; `thin_bytes` what one node's disks take when thin."""

    sha256: str
    size: int
    members: tuple[Member, ...]
    descriptor: Descriptor
    signed: bool

    def member(self, name: str) -> Member:
        """The member of that name. Raises FormatError when the archive lacks it."""
        for member in self.members:
            if member.name == name:
                return member
        raise FormatError(f"the descriptor names “{name}”, but the archive does not hold it", code="ova-file-missing")


class Intake:
    """Feed the archive's bytes, then `finish`. Raises FormatError as soon as something is wrong."""

    def __init__(self) -> None:
        self._reader = ArchiveReader()
        self._whole = hashlib.sha256()
        self._size = 0
        self._started: list[MemberStart] = []
        self._digests: dict[str, dict[str, _Hash]] = {}
        self._kept: dict[str, bytearray] = {}
        self._manifest: dict[str, tuple[str, str]] | None = None

    def feed(self, data: bytes) -> None:
        """Take the next bytes."""
        self._size += len(data)
        self._whole.update(data)
        for event in self._reader.feed(data):
            if isinstance(event, MemberStart):
                self._start(event)
            elif isinstance(event, MemberData):
                name = self._started[-1].name
                for digest in self._digests[name].values():
                    digest.update(event.data)
                if name in self._kept:
                    self._kept[name] += event.data

    def _start(self, event: MemberStart) -> None:
        suffix = event.name[event.name.rfind("."):].lower() if "." in event.name else ""
        if not self._started and suffix != ".ovf":
            raise FormatError(f"the archive begins with “{event.name}”; an OVA begins with its .ovf descriptor", code="ova-order",
                              clause="DSP0243 6.5")
        if suffix in _KEPT:
            if event.size > _KEPT[suffix]:
                raise FormatError(f"“{event.name}” is {event.size} bytes long; at most {_KEPT[suffix]} are read", code="ova-member-size")
            self._kept[event.name] = bytearray()
        # Each file is hashed with the algorithm its manifest will use; a manifest that stands at the end may use any.
        wanted = {"sha256"} | ({"sha1", "sha512"} if self._manifest_kinds(event.name) is None else self._manifest_kinds(event.name) or set())
        self._digests[event.name] = {kind: _new(kind) for kind in wanted}
        self._started.append(event)

    def _manifest_kinds(self, name: str) -> set[str] | None:
        """Algorithms the manifest asks for this file, None while no manifest was seen and files are small."""
        for kept, data in self._kept.items():
            if kept.lower().endswith(".mf") and kept != name:
                if self._manifest is None:
                    self._manifest = manifest.parse(bytes(data))
                return {self._manifest[name][0]} if name in self._manifest else set()
        return None

    def finish(self) -> Contents:
        """The whole package, verified. Raises FormatError for a cut archive, a wrong digest or a bad descriptor."""
        self._reader.close()
        descriptors = [name for name in self._kept if name.lower().endswith(".ovf")]
        manifests = [name for name in self._kept if name.lower().endswith(".mf")]
        if len(descriptors) != 1 or len(manifests) > 1:
            raise FormatError("an OVA holds exactly one .ovf descriptor and at most one .mf manifest", code="ova-order",
                              clause="DSP0243 6.5")
        listed = manifest.parse(bytes(self._kept[manifests[0]])) if manifests else {}
        members = tuple(self._verified(event, listed) for event in self._started)
        for name in listed:
            if name not in self._digests:
                raise FormatError(f"the manifest lists “{name}”, which the archive does not hold", code="ova-file-missing")
        parsed = ovf.parse(bytes(self._kept[descriptors[0]]))
        contents = Contents(self._whole.hexdigest(), self._size, members, parsed,
                            any(name.lower().endswith(".cert") for name in self._kept))
        for file in parsed.files:
            member = contents.member(file.href)
            if file.size is not None and file.size != member.size:
                raise FormatError(f"“{file.href}” is {member.size} bytes long; the descriptor says {file.size}", code="ova-file-size")
        return contents

    def _verified(self, event: MemberStart, listed: dict[str, tuple[str, str]]) -> Member:
        digests = self._digests[event.name]
        vouched = event.name in listed
        if vouched:
            kind, expected = listed[event.name]
            found = digests[kind].hexdigest()
            if found != expected:
                raise FormatError(f"“{event.name}” does not match the package's manifest: {kind} expected {expected[:16]}…, found"
                                  f" {found[:16]}…. The file was changed or damaged on its way", code="ova-digest",
                                  hint="Fetch the package again from its publisher; do not use this copy.")
        return Member(event.name, event.size, event.offset, digests["sha256"].hexdigest(), vouched)


_NEW: dict[str, Callable[[], _Hash]] = {"sha1": lambda: hashlib.sha1(usedforsecurity=False), "sha256": hashlib.sha256,
                                        "sha512": hashlib.sha512}


def _new(kind: str) -> _Hash:
    return _NEW[kind]()
