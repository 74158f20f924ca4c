"""OVF envelopes (DMTF DSP0243 1.x and 2.x) → `Envelope` and what was noticed on the way.

Every number that is later used to allocate or seek is bounded. What is unknown and optional is
noted; what is unknown and marked
as required is a blocker, as the standard says (§7.1). Publishers' namespaces are compared, not
demanded.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import hardware, properties, units
from nimble_stone.core.package.model import (
    Collection,
    Disk,
    Envelope,
    FileRef,
    NetworkRequest,
    Noticed,
    Option,
    Severity,
    Startup,
    System,
)
from nimble_stone.core.package.names import referred
from nimble_stone.core.package.reading import SPACES, Reading
from nimble_stone.core.package.xml_tree import XML_LANG, Element, parse

MAX_CAPACITY = 64 << 40
MAX_SYSTEMS = 500
_ENVELOPE = {
    "References",
    "DiskSection",
    "NetworkSection",
    "DeploymentOptionSection",
    "VirtualSystem",
    "VirtualSystemCollection",
    "Strings",
}
_CONTENT = {
    "Info",
    "Name",
    "ProductSection",
    "EulaSection",
    "AnnotationSection",
    "InstallSection",
    "StartupSection",
    "ResourceAllocationSection",
    "VirtualHardwareSection",
    "OperatingSystemSection",
    "VirtualSystem",
    "VirtualSystemCollection",
}
_UNUSED = {
    "PlacementGroupSection",
    "PlacementSection",
    "ScaleOutSection",
    "BootDeviceSection",
    "EnvironmentFilesSection",
}


def text_files(data: bytes) -> frozenset[str]:
    """Names of the package's files that hold texts in other languages (§10). Raises FormatError."""
    root = parse(data, "the descriptor")
    hrefs = _hrefs(root)
    return frozenset(hrefs.get(s.attribute("fileRef"), "") for s in root.all("Strings")) - {""}


def _hrefs(root: Element) -> dict[str | None, str]:
    """File id → name inside the package, '' for none."""
    return {
        f.attribute("id"): referred(f.attribute("href") or "") or ""
        for refs in root.all("References")
        for f in refs.all("File")
    }


def read(
    data: bytes, language: str = "", texts: Mapping[str, bytes] | None = None
) -> tuple[Envelope, list[Noticed]]:
    """Read a descriptor. `language`: the request, such as 'de' ('' for the package's own); `texts`:
    contents of the files of `text_files`.

    Raises: FormatError when it is no envelope at all; everything else becomes a finding.
    """
    root = parse(data, "the descriptor")
    if root.name != "Envelope":
        raise FormatError(
            f"the descriptor is not an OVF envelope (it begins with {root.name[:40]})",
            code="ovf-envelope",
            place=root.where,
            clause="DSP0243 7.1",
            hint="Export the appliance as OVF 1.x or 2.x.",
        )
    reading = Reading()
    chosen, languages = _strings(root, language, texts or {}, reading)
    if root.space not in SPACES:
        reading.notice(
            "caution",
            "ovf-namespace",
            f"the envelope's namespace “{root.space[:80]}” is not one of the standard's; it is read"
            " as version 1",
            root,
            "7.1",
        )
    _sections(root, _ENVELOPE, reading)
    options = _options(root, reading)
    files = _files(root, reading)
    roots = list(root.all("VirtualSystem", "VirtualSystemCollection"))
    if len(roots) != 1:
        reading.notice(
            "blocker",
            "ovf-systems",
            f"the envelope holds {len(roots)} virtual systems or collections at its top; the"
            " standard asks for one",
            root,
            "7.1",
        )
    defaults = {
        q.key: q.default
        for top in _walk(roots)
        for q in properties.questions(top, Reading(), frozenset(o.id for o in options))
    }
    disks = _disks(root, {f.id for f in files}, defaults, reading)
    networks = _networks(root, reading)
    known = _Known(
        tuple(o.id for o in sorted(options, key=lambda o: not o.default)) or ("",),
        frozenset(d.id for d in disks),
        frozenset(f.id for f in files),
        frozenset(n.name for n in networks),
    )
    collection, systems = _contents(roots, known, reading)
    top = roots[0] if roots and roots[0].name == "VirtualSystemCollection" else None
    return (
        Envelope(
            version=SPACES.get(root.space, "1"),
            language=chosen,
            languages=languages,
            files=files,
            disks=disks,
            networks=networks,
            options=options,
            systems=systems,
            collection=collection,
            licences=tuple(_licences(list(_walk(roots)), reading)),
            questions=(
                properties.questions(top, reading, frozenset(known.options))
                if top is not None
                else ()
            ),
        ),
        reading.found,
    )


class _Known:
    """What items may refer to."""

    def __init__(
        self,
        options: tuple[str, ...],
        disks: frozenset[str],
        files: frozenset[str],
        networks: frozenset[str],
    ) -> None:
        self.options, self.disks, self.files, self.networks = options, disks, files, networks


def _walk(elements: list[Element]) -> Iterator[Element]:
    """Systems and collections, outer ones first."""
    for element in elements:
        yield element
        yield from _walk(list(element.all("VirtualSystem", "VirtualSystemCollection")))


def _strings(
    root: Element, request: str, texts: Mapping[str, bytes], reading: Reading
) -> tuple[str, tuple[str, ...]]:
    """Fill `reading.texts` for the requested language: that very one, else its family, else the
    package's own (§10).
    """
    hrefs = _hrefs(root)
    bundles: dict[str, dict[str, str]] = {}
    own = root.attributes.get(XML_LANG, "en-US")
    for section in root.all("Strings"):
        source, lang = section, section.attributes.get(XML_LANG, own)
        reference = section.attribute("fileRef")
        if reference:
            data = texts.get(hrefs.get(reference, ""))
            if data is None:
                reading.notice(
                    "caution",
                    "ovf-strings",
                    f"the texts of file “{reference[:60]}” are not there",
                    section,
                    "10.1",
                )
                continue
            try:
                source = parse(data, "the file of texts")
                lang = source.attributes.get(XML_LANG, lang)
            except FormatError as error:
                reading.notice("caution", "ovf-strings", str(error), section, "10.1")
                continue
        bundles.setdefault(lang, {}).update(
            {m.attribute("msgid") or "": m.text for m in source.all("Msg")}
        )
    lower = {name.lower(): name for name in bundles}
    family = request.lower().split("-")[0]
    chosen = lower.get(request.lower()) or next(
        (name for key, name in lower.items() if family and key.split("-")[0] == family), None
    )
    fallback = lower.get(own.lower(), own)
    reading.texts = {**bundles.get(fallback, {}), **(bundles.get(chosen, {}) if chosen else {})}
    reading.others = next(iter(bundles.values()), {})
    return chosen or own, tuple(sorted({*bundles, own}))


def _sections(parent: Element, known: set[str], reading: Reading) -> None:
    """Unknown sections: refused when required, which they are unless they say otherwise
    (§7.1).
    """
    for child in parent.children:
        if child.name in known and (child.space in SPACES or not child.space):
            continue
        required = reading.flag(child, "required", True)
        if child.name == "EncryptionSection":
            reading.notice(
                "blocker",
                "ovf-encrypted",
                "the package is encrypted; encrypted packages are not opened",
                child,
                "11.1",
            )
        elif child.name == "SharedDiskSection":
            continue
        elif child.name in _UNUSED:
            reading.notice(
                "caution" if required else "note",
                "ovf-section-unused",
                f"section “{child.name}” is known, but a rollout does not follow it",
                child,
                "7.1",
            )
        elif required and (child.name.endswith("Section") or child.first("Info") is not None):
            reading.notice(
                "blocker",
                "ovf-section",
                f"section “{child.name[:60]}” is unknown here and marked as required",
                child,
                "7.1",
            )
        else:
            reading.notice(
                "note", "ovf-section", f"section “{child.name[:60]}” is not used", child, "7.1"
            )


def _files(root: Element, reading: Reading) -> tuple[FileRef, ...]:
    found: dict[str, FileRef] = {}
    names: set[str] = set()
    for item in (item for refs in root.all("References") for item in refs.all("File")):
        ident, href = item.attribute("id") or "", (item.attribute("href") or "").strip()
        if not ident or ident in found:
            reading.notice(
                "blocker",
                "ovf-file",
                (
                    f"two file references share the id “{ident[:60]}”"
                    if ident
                    else "a file reference has no id"
                ),
                item,
                "7.1",
            )
            continue
        if "://" in href:
            reading.notice(
                "blocker",
                "ovf-file-external",
                f"file “{href[:120]}” is outside the package; nothing is fetched for a descriptor",
                item,
                "7.1",
            )
            continue
        name = referred(href)
        if name is None:
            reading.notice(
                "blocker",
                "ovf-file",
                f"file reference “{href[:80]}” does not name a file inside the package",
                item,
                "7.1",
            )
            continue
        href = name
        if href in names:
            reading.notice(
                "caution", "ovf-file", f"file “{href[:80]}” is referred to twice", item, "7.1"
            )
        names.add(href)
        packed = (item.attribute("compression") or "identity").lower()
        if packed not in ("identity", "gzip", ""):
            reading.notice(
                "blocker",
                "ovf-file-kind",
                f"“{href[:80]}” is packed by “{packed[:20]}”; gzip is what the standard knows",
                item,
                "7.1",
            )
        found[ident] = FileRef(
            ident,
            href,
            reading.number(item.attribute("size"), item, "the file size", high=1 << 50),
            "gzip" if packed == "gzip" else "",
            reading.number(
                item.attribute("chunkSize"), item, "the size of the pieces", low=1, high=1 << 50
            ),
        )
    return tuple(found.values())


def _default_of(key: str, defaults: Mapping[str, str]) -> str:
    """A property's default: by its full key, else by the key without class and instance where only
    one property has it. '' for none.
    """
    if key in defaults:
        return defaults[key]
    found = [value for full, value in defaults.items() if full.endswith(f".{key}")]
    return found[0] if len(found) == 1 else ""


def _disks(
    root: Element, files: set[str], defaults: Mapping[str, str], reading: Reading
) -> tuple[Disk, ...]:
    found: dict[str, Disk] = {}
    for section in root.all("DiskSection", "SharedDiskSection"):
        for item in section.all("Disk", "SharedDisk"):
            ident = item.attribute("diskId") or ""
            if ident and ident not in found:
                shared = section.name == "SharedDiskSection"
                found[ident] = _DiskReading(item, reading, ident).disk(files, defaults, shared)
            else:
                why = f"two disks share the id “{ident[:60]}”" if ident else "a disk has no id"
                reading.notice("blocker", "ovf-disk", why, item, "9.1")
    _chains(found, reading)
    return tuple(found.values())


@dataclass(frozen=True)
class _Capacity:
    """In bytes, 0 when it is not known; `key`: the property that asks for it, '' none."""

    size_bytes: int
    key: str = ""


@dataclass(frozen=True)
class _DiskReading:
    """One disk of the disk section (DSP0243 clause 9.1)."""

    item: Element
    reading: Reading
    ident: str

    def disk(self, files: set[str], defaults: Mapping[str, str], shared: bool) -> Disk:
        """The disk; what is wrong with it is noted."""
        item = self.item
        capacity = self._capacity(defaults)
        populated = self._populated(capacity.size_bytes)
        file_id = item.attribute("fileRef") or ""
        if file_id and file_id not in files:
            self._notice("blocker", "", f"refers to file “{file_id[:60]}”, which is not listed")
            file_id = ""
        # an empty disk has no file whose format could be named
        if item.attribute("format") is None and file_id:
            self._notice("caution", "-format", "does not name its format")
        return Disk(
            self.ident,
            file_id,
            capacity.size_bytes,
            populated,
            item.attribute("format") or "",
            item.attribute("parentRef") or "",
            shared or self.reading.flag(item, "shared"),
            capacity.key,
        )

    def _notice(self, severity: Severity, code: str, text: str) -> None:
        self.reading.notice(
            severity, f"ovf-disk{code}", f"disk “{self.ident[:60]}” {text}", self.item, "9.1"
        )

    def _unit(self) -> int:
        text = self.item.attribute("capacityAllocationUnits") or ""
        unit = units.bytes_per(text) if text.strip() else 1
        if unit is None:
            self.reading.notice(
                "blocker",
                "ovf-unit",
                f"the unit “{text[:40]}” is not understood",
                self.item,
                "9.1",
            )
        return unit or 1

    def _capacity(self, defaults: Mapping[str, str]) -> _Capacity:
        unit = self._unit()
        text, key = self.item.attribute("capacity") or "", ""
        if text.startswith("${") and text.endswith("}"):
            key = text[2:-1]
            text = _default_of(key, defaults)
            if not text:
                self.reading.notice(
                    "caution",
                    "ovf-disk-capacity",
                    f"the size of disk “{self.ident[:60]}” is asked for by property “{key[:60]}”,"
                    " which has no default",
                    self.item,
                    "9.1",
                )
        elif not text:
            self._notice("blocker", "", "has no capacity")
        number = self.reading.number(text, self.item, "the disk capacity", low=1) or 0
        if number * unit > MAX_CAPACITY:
            self._notice(
                "blocker", "", f"claims {number * unit} bytes; at most 64 TiB are believed"
            )
            return _Capacity(0, key)
        return _Capacity(number * unit, key)

    def _populated(self, capacity: int) -> int | None:
        populated = self.reading.number(
            self.item.attribute("populatedSize"), self.item, "populatedSize", severity="caution"
        )
        if populated and capacity and populated > capacity:
            self._notice(
                "caution",
                "-populated",
                f"says it holds {populated} bytes, more than its {capacity}",
            )
        return populated


def _chains(found: Mapping[str, Disk], reading: Reading) -> None:
    """Disks that build on others: each parent is described, and none builds on itself."""
    for disk in found.values():
        seen, at = {disk.id}, disk
        while at.parent:
            if at.parent not in found or at.parent in seen:
                turns = at.parent in seen
                why = "builds on it in turn" if turns else "is not described"
                reading.notice(
                    "blocker",
                    "ovf-disk-parent",
                    f"disk “{at.id[:60]}” builds on disk “{at.parent[:60]}”, which {why}",
                    None,
                    "9.1",
                )
                break
            seen.add(at.parent)
            at = found[at.parent]


def _networks(root: Element, reading: Reading) -> tuple[NetworkRequest, ...]:
    found: dict[str, NetworkRequest] = {}
    for item in (item for section in root.all("NetworkSection") for item in section.all("Network")):
        name = item.attribute("name") or ""
        if not name or name in found:
            reading.notice(
                "caution",
                "ovf-network",
                f"network “{name[:60]}” is there twice" if name else "a network has no name",
                item,
                "9.2",
            )
            continue
        found[name] = NetworkRequest(name, reading.child(item, "Description"))
    return tuple(found.values())


def _options(root: Element, reading: Reading) -> tuple[Option, ...]:
    found: dict[str, Option] = {}
    for item in (
        item
        for section in root.all("DeploymentOptionSection")
        for item in section.all("Configuration")
    ):
        ident = item.attribute("id") or ""
        if not ident or ident in found:
            reading.notice(
                "caution",
                "ovf-option",
                f"option “{ident[:60]}” is there twice" if ident else "an option has no id",
                item,
                "9.8",
            )
            continue
        default = reading.flag(item, "default")
        if default and any(option.default for option in found.values()):
            reading.notice(
                "caution",
                "ovf-option",
                f"option “{ident[:60]}” is a second default; the first one counts",
                item,
                "9.8",
            )
            default = False
        found[ident] = Option(
            ident,
            reading.child(item, "Label") or ident,
            reading.child(item, "Description"),
            default,
        )
    listed = list(found.values())
    if listed and not any(option.default for option in listed):
        # §9.8: the first one is the default
        listed[0] = Option(listed[0].id, listed[0].label, listed[0].description, True)
    return tuple(listed)


def _contents(
    roots: list[Element], known: _Known, reading: Reading
) -> tuple[Collection | None, tuple[System, ...]]:
    systems: list[System] = []

    def collect(element: Element) -> Collection:
        _sections(element, _CONTENT, reading)
        collections = tuple(collect(child) for child in element.all("VirtualSystemCollection"))
        own = list(element.all("VirtualSystem"))
        for child in own:
            add(child)
        ids = [child.attribute("id") or "" for child in own]
        startup = _startup(element, {*ids, *(c.id for c in collections)}, reading)
        return Collection(
            element.attribute("id") or "",
            reading.child(element, "Name"),
            tuple(ids),
            collections,
            startup,
        )

    def add(element: Element) -> None:
        system = _system(element, known, reading)
        if any(other.id == system.id for other in systems):
            reading.notice(
                "blocker",
                "ovf-systems",
                f"two virtual systems share the id “{system.id[:60]}”",
                element,
                "7.2",
            )
        if len(systems) < MAX_SYSTEMS:
            systems.append(system)

    top = next((collect(root) for root in roots if root.name == "VirtualSystemCollection"), None)
    for root in roots:
        if root.name == "VirtualSystem":
            add(root)
    return top, tuple(systems)


def _startup(element: Element, members: set[str], reading: Reading) -> tuple[Startup, ...]:
    found = []
    for item in (item for section in element.all("StartupSection") for item in section.all("Item")):
        member = item.attribute("id") or ""
        if member not in members:
            reading.notice(
                "caution",
                "ovf-startup",
                f"the order of starting names “{member[:60]}”, which is not a member",
                item,
                "9.6",
            )
        found.append(
            Startup(
                member,
                reading.number(item.attribute("order"), item, "the order") or 0,
                reading.number(item.attribute("startDelay"), item, "the delay", high=86_400) or 0,
                reading.flag(item, "waitingForGuest"),
            )
        )
    return tuple(sorted(found, key=lambda entry: entry.order))


def _system(element: Element, known: _Known, reading: Reading) -> System:
    _sections(element, _CONTENT, reading)
    if not element.attribute("id"):
        reading.notice("caution", "ovf-system", "the virtual system has no id", element, "7.2")
    if element.first("Info") is None:
        reading.notice("caution", "ovf-info", "the virtual system has no Info", element, "7.2")
    sections = list(element.all("VirtualHardwareSection"))
    if not sections:
        reading.notice(
            "blocker",
            "ovf-missing",
            "the virtual system has no VirtualHardwareSection",
            element,
            "8.1",
        )
        sections = [Element("", "VirtualHardwareSection", {}, element.line, element.column)]
    if len(sections) > 1:
        reading.notice(
            "note",
            "ovf-hardware-choice",
            f"{len(sections)} descriptions of the hardware are offered; the first is used",
            sections[1],
            "8.1",
        )
    section = sections[0]
    families = tuple(
        word
        for s in sections
        for system in s.all("System")
        for word in system.child_text("VirtualSystemType").split()
        if word
    )
    if families:
        reading.notice(
            "note",
            "ovf-family",
            f"made for {', '.join(families)[:120]}; the VM gets this hypervisor's hardware instead",
            section,
            "8.2",
        )
    system_os = element.first("OperatingSystemSection")
    return System(
        id=element.attribute("id") or "",
        name=reading.child(element, "Name"),
        info=reading.child(element, "Info"),
        products=properties.products(element, reading),
        questions=properties.questions(element, reading, frozenset(known.options)),
        licences=tuple(_licences([element], Reading(reading.texts, reading.others))),
        annotation=reading.child(element.first("AnnotationSection"), "Annotation"),
        os=reading.child(system_os, "Description"),
        os_id=(system_os.attribute("id") or "") if system_os is not None else "",
        families=families,
        firmware=_firmware(section),
        transports=tuple((section.attribute("transport") or "").split()),
        hardware=hardware.read(
            section, known.options, known.disks, known.files, known.networks, reading
        ),
        install_boots=element.first("InstallSection") is not None,
    )


def _firmware(section: Element) -> Literal["", "bios", "efi"]:
    for config in section.all("Config"):
        if (config.attribute("key") or "").lower() == "firmware":
            word = (config.attribute("value") or "").lower()
            if "efi" in word:
                return "efi"
            return "bios" if "bios" in word else ""
    return ""


def _licences(elements: list[Element], reading: Reading) -> Iterator[str]:
    for element in elements:
        for section in element.all("EulaSection"):
            text = reading.child(section, "License")
            if text:
                yield text
            else:
                reading.notice(
                    "caution", "ovf-licence", "a licence section holds no text", section, "9.4"
                )
