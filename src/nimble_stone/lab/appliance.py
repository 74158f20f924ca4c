"""Making an appliance package with made-up content: a stream-optimized VMDK, a descriptor, a manifest, packed as an OVA."""

from __future__ import annotations

import hashlib
import io
import random
import struct
import tarfile
import zlib

SECTOR, GRAIN = 512, 1 << 16


def vmdk(capacity: int, grains: dict[int, bytes]) -> bytes:
    """A stream-optimized VMDK (version 3, directory announced by a footer). `grains`: index → 64 KiB of data."""
    out = io.BytesIO()
    count = -(-capacity // GRAIN)
    tables = -(-count // 512)

    def header(directory: int) -> bytes:
        fields = struct.pack("<4sIIQQQQIQQQB4sH", b"KDMV", 3, 0x30001, capacity // SECTOR, GRAIN // SECTOR, 1, 1, 512, 0, directory, 128, 0,
                             b"\n \r\n", 1)
        return fields.ljust(SECTOR, b"\0")

    def pad() -> int:
        out.write(bytes(-out.tell() % SECTOR))
        return out.tell() // SECTOR
    out.write(header(0xFFFF_FFFF_FFFF_FFFF))
    out.write(b"# Disk DescriptorFile\nversion=1\ncreateType=\"streamOptimized\"\n".ljust(SECTOR, b"\0"))
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


def descriptor(capacity: int, disk_size: int, *, version: str = "4.2.0", disk_name: str = "gauge-collector-disk1.vmdk", scale: int = 1) -> str:
    """The OVF 1.1 descriptor. `scale` divides the memory of every size, for small real hosts."""
    def memory(gib: int) -> str:
        return str(gib * 1024 // scale)
    sizes = (("small", "Small", "Up to 40 gauges", 2, 8), ("medium", "Medium", "Up to 140 gauges", 4, 32), ("large", "Large", "Up to 600 gauges", 8, 64))
    options = "".join(f'<Configuration ovf:id="{i}"{" ovf:default=" + chr(34) + "true" + chr(34) if i == "small" else ""}><Label>{label}</Label>'
                      f"<Description>{text}</Description></Configuration>" for i, label, text, _, _ in sizes)
    items = "".join(
        f'<Item ovf:configuration="{i}"><rasd:ElementName>{cpu} vCPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>'
        f"<rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>{cpu if scale == 1 else 1}</rasd:VirtualQuantity></Item>"
        f'<Item ovf:configuration="{i}"><rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits><rasd:ElementName>memory</rasd:ElementName>'
        f"<rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>{memory(gib)}</rasd:VirtualQuantity></Item>"
        for i, _, _, cpu, gib in sizes)

    def prop(key: str, label: str, text: str, *, kind: str = "string", more: str = "") -> str:
        return (f'<Property ovf:key="{key}" ovf:type="{kind}" ovf:userConfigurable="true" {more}><Label>{label}</Label>'
                f"<Description>{text}</Description></Property>")
    properties = "".join((
        "<Category>Network</Category>",
        prop("hostname", "Host name", "Short name of this node"), prop("address", "Address", "IPv4 address of the service interface"),
        prop("prefix", "Prefix", "Length of the network prefix", kind="uint8"), prop("gateway", "Gateway", "Default gateway"),
        prop("dns", "DNS servers", "Separated by spaces", more='ovf:value=""'), prop("domain", "Domain", "Search domain"),
        prop("ntp", "Time server", "Name or address"), prop("time_zone", "Time zone", "Such as UTC", more='ovf:value="UTC"'),
        "<Category>Service</Category>",
        prop("role", "Role", "lead or archive", more="ovf:qualifiers='ValueMap{\"lead\",\"archive\"}'"),
        prop("station", "Station group", "Which gauges this cluster serves", more='ovf:qualifiers="MinLen(2) MaxLen(40)"'),
        prop("admin_password", "Administrator password", "At least ten characters", more='ovf:password="true" ovf:qualifiers="MinLen(10) MaxLen(64)"')))
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References><File ovf:id="file1" ovf:href="{disk_name}" ovf:size="{disk_size}"/></References>
 <DiskSection><Info>Disks</Info><Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="{capacity}"
  ovf:format="http://disk.holm.example/format/vmdk#streamOptimized"/></DiskSection>
 <NetworkSection><Info>Networks</Info><Network ovf:name="Service">
  <Description>Where readings arrive and people look at them</Description></Network></NetworkSection>
 <DeploymentOptionSection><Info>Sizes</Info>{options}</DeploymentOptionSection>
 <VirtualSystem ovf:id="gauge-collector"><Info>Gauge Collector</Info><Name>Gauge Collector</Name>
  <ProductSection ovf:class="gauge"><Info>Product</Info><Product>Gauge Collector</Product><Vendor>Holm Instruments</Vendor>
   <Version>{version}</Version>{properties}</ProductSection>
  <EulaSection><Info>Licence</Info><License>{LICENCE}</License></EulaSection>
  <VirtualHardwareSection ovf:transport="iso"><Info>Hardware</Info>{items}
   <Item><rasd:ElementName>disk</rasd:ElementName><rasd:HostResource>ovf:/disk/disk1</rasd:HostResource><rasd:InstanceID>10</rasd:InstanceID><rasd:ResourceType>17</rasd:ResourceType></Item>
   <Item><rasd:Connection>Service</rasd:Connection><rasd:ElementName>eth0</rasd:ElementName><rasd:InstanceID>11</rasd:InstanceID><rasd:ResourceSubType>virtio</rasd:ResourceSubType><rasd:ResourceType>10</rasd:ResourceType></Item>
  </VirtualHardwareSection>
 </VirtualSystem>
</Envelope>
"""


def pack(name: str, files: dict[str, bytes]) -> bytes:
    """An OVA (ustar): the descriptor first, then the manifest over all files, then the rest."""
    listed = "".join(f"SHA256({file})= {hashlib.sha256(data).hexdigest()}\n" for file, data in files.items())
    ordered = dict(list(files.items())[:1]) | {f"{name}.mf": listed.encode()} | dict(list(files.items())[1:])
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for file, data in ordered.items():
            info = tarfile.TarInfo(file)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


def ova(*, version: str = "4.2.0", mib: int = 24, capacity_gib: int = 40, seed: int = 44) -> bytes:
    """The Gauge Collector as a package: about `mib` MiB of content that does not compress, scattered over a disk of `capacity_gib` GiB."""
    rng = random.Random(seed)
    total = capacity_gib * (1 << 30) // GRAIN
    count = mib * (1 << 20) // GRAIN
    grains = {index: rng.randbytes(GRAIN) for index in sorted({0, *rng.sample(range(total), max(1, count - 1))})}
    disk = vmdk(capacity_gib << 30, grains)
    return pack("gauge-collector", {"gauge-collector.ovf": descriptor(capacity_gib << 30, len(disk), version=version).encode(),
                                    "gauge-collector-disk1.vmdk": disk})
