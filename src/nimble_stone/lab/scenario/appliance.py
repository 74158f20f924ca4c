"""Making an appliance package with made-up content: a stream-optimized VMDK, a descriptor, a
manifest, packed as an OVA.
"""

from __future__ import annotations

import hashlib
import io
import random
import struct
import tarfile
import zlib
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import padding, rsa

from nimble_stone.lab.guests.label import labelled

SECTOR, GRAIN = 512, 1 << 16


def vmdk(capacity: int, grains: dict[int, bytes]) -> bytes:
    """A stream-optimized VMDK (version 3, directory announced by a footer). `grains`: index → 64
    KiB of data.
    """
    out = io.BytesIO()
    count = -(-capacity // GRAIN)
    tables = -(-count // 512)

    def header(directory: int) -> bytes:
        fields = struct.pack(
            "<4sIIQQQQIQQQB4sH",
            b"KDMV",
            3,
            0x30001,
            capacity // SECTOR,
            GRAIN // SECTOR,
            1,
            1,
            512,
            0,
            directory,
            128,
            0,
            b"\n \r\n",
            1,
        )
        return fields.ljust(SECTOR, b"\0")

    def pad() -> int:
        out.write(bytes(-out.tell() % SECTOR))
        return out.tell() // SECTOR

    out.write(header(0xFFFF_FFFF_FFFF_FFFF))
    text = (
        "# Disk DescriptorFile\nversion=1\nCID=48544853\nparentCID=ffffffff\n"
        'createType="streamOptimized"\n\n# Extent description\n'
        f'RW {capacity // SECTOR} SPARSE "disk.vmdk"\n\n'
        '# The Disk Data Base\nddb.adapterType = "ide"\n'
    )
    out.write(text.encode().ljust(SECTOR, b"\0"))
    out.write(bytes(128 * SECTOR - out.tell()))
    entries: dict[int, int] = {}
    for index in sorted(grains):
        entries[index] = out.tell() // SECTOR
        packed = zlib.compress(grains[index].ljust(GRAIN, b"\0"), 1)
        out.write(struct.pack("<QI", index * GRAIN // SECTOR, len(packed)) + packed)
        pad()
    directory = []
    for table in range(tables):
        own = [entries.get(table * 512 + i, 0) for i in range(512)]
        if any(own):
            out.write(struct.pack("<QII", 4, 0, 1).ljust(SECTOR, b"\0"))
            directory.append(out.tell() // SECTOR)
            out.write(struct.pack("<512I", *own))
        else:
            directory.append(0)
    out.write(struct.pack("<QII", -(-tables * 4 // SECTOR), 0, 2).ljust(SECTOR, b"\0"))
    at = out.tell() // SECTOR
    out.write(struct.pack(f"<{tables}I", *directory))
    pad()
    out.write(struct.pack("<QII", 1, 0, 3).ljust(SECTOR, b"\0") + header(at) + bytes(SECTOR))
    return out.getvalue()


LICENCE = """Gauge Collector licence, edition 4

1. The Holm Tidal Survey may run this appliance on its own hosts, in any number.
2. Readings kept by it belong to whoever measured them.
3. It comes without warranty. It must not be used as the only warning of a flood.
4. Accepting is recorded with name and time."""


LICENCE_5 = (
    LICENCE.replace("edition 4", "edition 5").replace(
        "in any number.", "in any number, also of other surveys."
    )
    + """
5. Faults of the relays are to be told to Holm Instruments within a month."""
)
_GERMAN = {
    "size.small": "Bis zu 60 Pegel",
    "size.medium": "Bis zu 200 Pegel",
    "size.large": "Bis zu 600 Pegel",
    "size.huge": "Bis zu 2000 Pegel",
    "q.hostname": "Rechnername",
    "q.role": "Rolle",
    "q.station": "Pegelgruppe",
    "q.keep": "Aufbewahrung in Tagen",
}


def descriptor(
    capacity: int,
    disk_size: int,
    *,
    version: str = "4.2.0",
    disk_name: str = "gauge-collector-disk1.vmdk",
    scale: int = 1,
    edition: int = 4,
) -> str:
    """The OVF 1.1 descriptor. `scale` divides the memory of every size, for small real hosts;
    edition 5 offers and asks more, also in German.
    """

    def memory(gib: int) -> str:
        return str(gib * 1024 // scale)

    sizes: tuple[tuple[str, str, str, int, int], ...] = (
        ("small", "Small", "Up to 40 gauges", 2, 8),
        ("medium", "Medium", "Up to 140 gauges", 4, 32),
        ("large", "Large", "Up to 600 gauges", 8, 64),
    )
    if edition > 4:
        sizes = (
            ("small", "Small", "Up to 60 gauges", 2, 8),
            ("medium", "Medium", "Up to 200 gauges", 4, 32),
            ("large", "Large", "Up to 600 gauges", 8, 48),
            ("huge", "Huge", "Up to 2000 gauges", 16, 96),
        )

    def said(ident: str) -> str:
        return f' ovf:msgid="{ident}"' if edition > 4 and ident in _GERMAN else ""

    first = ' ovf:default="true"'
    options = "".join(
        f'<Configuration ovf:id="{i}"{first if i == "small" else ""}><Label>{label}</Label>'
        f"<Description{said(f'size.{i}')}>{text}</Description></Configuration>"
        for i, label, text, _, _ in sizes
    )
    items = "".join(
        f'<Item ovf:configuration="{i}"><rasd:ElementName>{cpu}'
        " vCPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>"
        "<rasd:ResourceType>3</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{cpu if scale == 1 else 1}</rasd:VirtualQuantity></Item>"
        f'<Item ovf:configuration="{i}"><rasd:AllocationUnits>byte *'
        " 2^20</rasd:AllocationUnits><rasd:ElementName>memory</rasd:ElementName>"
        "<rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{memory(gib)}</rasd:VirtualQuantity></Item>"
        for i, _, _, cpu, gib in sizes
    )

    def prop(key: str, label: str, text: str, *, kind: str = "string", more: str = "") -> str:
        return (
            f'<Property ovf:key="{key}" ovf:type="{kind}" ovf:userConfigurable="true"'
            f" {more}><Label{said(f'q.{key}')}>{label}</Label>"
            f"<Description>{text}</Description></Property>"
        )

    properties = "".join(
        (
            "<Category>Network</Category>",
            prop("hostname", "Host name", "Short name of this node"),
            prop("address", "Address", "IPv4 address of the service interface"),
            prop("prefix", "Prefix", "Length of the network prefix", kind="uint8"),
            prop("gateway", "Gateway", "Default gateway"),
            prop("dns", "DNS servers", "Separated by spaces", more='ovf:value=""'),
            prop("domain", "Domain", "Search domain"),
            prop("ntp", "Time server", "Name or address"),
            prop("time_zone", "Time zone", "Such as UTC", more='ovf:value="UTC"'),
            "<Category>Service</Category>",
            prop(
                "role",
                "Role",
                "lead, archive or relay",
                more='ovf:qualifiers=\'ValueMap{"lead","archive","relay"}\'',
            ),
            prop(
                "station",
                "Station group",
                "Which gauges this cluster serves",
                more='ovf:qualifiers="MinLen(2) MaxLen(40)"',
            ),
            prop(
                "admin_password",
                "Administrator password",
                "At least ten characters",
                more='ovf:password="true" ovf:qualifiers="MinLen(10) MaxLen(64)"',
            ),
        )
    )
    if edition > 4:
        properties += prop(
            "keep",
            "Days readings are kept",
            "Older ones are thinned out",
            kind="uint16",
            more="ovf:value=\"400\" ovf:qualifiers='MinValue(30) MaxValue(4000)'",
        )
    strings = "".join(f'<Msg ovf:msgid="{key}">{text}</Msg>' for key, text in _GERMAN.items())
    strings = f'<Strings xml:lang="de">{strings}</Strings>' if edition > 4 else ""
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References><File ovf:id="file1" ovf:href="{disk_name}" ovf:size="{disk_size}"/></References>
 <DiskSection><Info>Disks</Info>
  <Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="{capacity}"
  ovf:format="http://disk.holm.example/format/vmdk#streamOptimized"/></DiskSection>
 <NetworkSection><Info>Networks</Info><Network ovf:name="Service">
  <Description>Where readings arrive and people look at them</Description></Network>
 </NetworkSection>
 <DeploymentOptionSection><Info>Sizes</Info>{options}</DeploymentOptionSection>
 <VirtualSystem ovf:id="gauge-collector"><Info>Gauge Collector</Info><Name>Gauge Collector</Name>
  <ProductSection ovf:class="gauge"><Info>Product</Info><Product>Gauge Collector</Product>
   <Vendor>Holm Instruments</Vendor><Version>{version}</Version>{properties}</ProductSection>
  <EulaSection><Info>Licence</Info>
   <License>{LICENCE if edition == 4 else LICENCE_5}</License></EulaSection>
  <VirtualHardwareSection ovf:transport="iso"><Info>Hardware</Info>{items}
   <Item><rasd:ElementName>disk</rasd:ElementName>
    <rasd:HostResource>ovf:/disk/disk1</rasd:HostResource>
    <rasd:InstanceID>10</rasd:InstanceID><rasd:ResourceType>17</rasd:ResourceType></Item>
   <Item><rasd:Connection>Service</rasd:Connection><rasd:ElementName>eth0</rasd:ElementName>
    <rasd:InstanceID>11</rasd:InstanceID><rasd:ResourceSubType>virtio</rasd:ResourceSubType>
    <rasd:ResourceType>10</rasd:ResourceType></Item>
  </VirtualHardwareSection>
 </VirtualSystem>
 {strings}
</Envelope>
"""


@dataclass(frozen=True)
class Publisher:
    """A made-up publisher: its authority's certificate (PEM), and what it signs with."""

    authority: bytes
    certificate: bytes
    key: rsa.RSAPrivateKey


def publisher(
    name: str = "Holm Instruments", now: datetime | None = None, days: int = 3650
) -> Publisher:
    """A publisher with an authority of its own, valid from a day before `now`."""
    start = (now or datetime.now(UTC)) - timedelta(days=1)
    root_key, key = (rsa.generate_private_key(65537, 2048) for _ in range(2))
    root_name = x509.Name(
        [
            x509.NameAttribute(x509.NameOID.ORGANIZATION_NAME, name),
            x509.NameAttribute(x509.NameOID.COMMON_NAME, f"{name} authority"),
        ]
    )
    own_name = x509.Name(
        [
            x509.NameAttribute(x509.NameOID.ORGANIZATION_NAME, name),
            x509.NameAttribute(x509.NameOID.COMMON_NAME, f"{name} releases"),
        ]
    )

    def made(subject: x509.Name, public: rsa.RSAPublicKey, ca: bool) -> bytes:
        built = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(root_name)
            .public_key(public)
            .serial_number(x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(start + timedelta(days=days))
            .add_extension(x509.BasicConstraints(ca=ca, path_length=None), critical=True)
        )
        return built.sign(root_key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)

    return Publisher(
        made(root_name, root_key.public_key(), True), made(own_name, key.public_key(), False), key
    )


def sign(manifest_name: str, manifest: bytes, by: Publisher) -> bytes:
    """The certificate file for a manifest."""
    signature = by.key.sign(manifest, padding.PKCS1v15(), hashes.SHA256())
    return f"SHA256({manifest_name})= {signature.hex()}\n".encode() + by.certificate


def pack(name: str, files: dict[str, bytes], by: Publisher | None = None) -> bytes:
    """An OVA (ustar): the descriptor first, then the manifest over all files (and its signature),
    then the rest.
    """
    listed = "".join(
        f"SHA256({file})= {hashlib.sha256(data).hexdigest()}\n" for file, data in files.items()
    )
    signed = {f"{name}.cert": sign(f"{name}.mf", listed.encode(), by)} if by else {}
    ordered = (
        dict(list(files.items())[:1])
        | {f"{name}.mf": listed.encode()}
        | signed
        | dict(list(files.items())[1:])
    )
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for file, data in ordered.items():
            info = tarfile.TarInfo(file)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def ova(
    *,
    version: str = "4.2.0",
    mib: int = 24,
    capacity_gib: int = 40,
    seed: int = 44,
    edition: int = 4,
    by: Publisher | None = None,
) -> bytes:
    """The Gauge Collector as a package: about `mib` MiB of content that does not compress,
    scattered over a disk of `capacity_gib` GiB.
    """
    rng = random.Random(seed)
    total = capacity_gib * (1 << 30) // GRAIN
    count = mib * (1 << 20) // GRAIN
    grains = {
        index: rng.randbytes(GRAIN)
        for index in sorted({0, *rng.sample(range(total), max(1, count - 1))})
    }
    grains[0] = labelled(grains[0], "Gauge Collector", version)
    disk = vmdk(capacity_gib << 30, grains)
    return pack(
        "gauge-collector",
        {
            "gauge-collector.ovf": (
                descriptor(capacity_gib << 30, len(disk), version=version, edition=edition).encode()
            ),
            "gauge-collector-disk1.vmdk": disk,
        },
        by,
    )
