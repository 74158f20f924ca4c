"""The made-up products of the demonstration beside the Gauge Collector: their packages, and what
their stand-in guests say of themselves.
"""

from __future__ import annotations

import random
from dataclasses import dataclass
from xml.sax.saxutils import escape, quoteattr

from nimble_stone.lab.appliance import GRAIN, pack, vmdk
from nimble_stone.lab.label import labelled


@dataclass(frozen=True)
class Product:
    """A product: its sizes (id, label, description, vCPU, GiB), its networks in the order of its
    interfaces, what it asks (key, label, text, attributes).
    """

    id: str
    title: str
    version: str
    sizes: tuple[tuple[str, str, str, int, int], ...]
    networks: tuple[tuple[str, str], ...]
    asks: tuple[tuple[str, str, str, str], ...]
    disk_gib: int = 20


_SIX = (
    ("address6", "IPv6 address", "'' for none", 'ovf:value=""'),
    ("prefix6", "IPv6 prefix", "Length of the prefix", 'ovf:value=""'),
    ("gateway6", "IPv6 gateway", "Of the service interface", 'ovf:value=""'),
)
_SERVICE = ("Service", "Where clients and this tool come in")
PRODUCTS: dict[str, Product] = {
    product.id: product
    for product in (
        Product(
            "tidebook",
            "Tidebook",
            "7.1.0",
            (
                ("small", "Small", "Up to 200 writers", 2, 8),
                ("medium", "Medium", "Up to 900 writers", 4, 24),
                ("large", "Large", "Up to 3000 writers", 12, 64),
            ),
            (_SERVICE, ("Copying", "From the primary to the standby")),
            (
                ("ledger", "Ledger", "Name of the ledger", ""),
                ("copying", "Copying", "at once or later", 'ovf:value="at once"'),
                ("lag", "Longest lag", "Seconds", 'ovf:value="30"'),
                ("virtual", "Ledger address", "Shared by primary and standby", 'ovf:value=""'),
                (
                    "group",
                    "Address group",
                    "Number of the shared address, 1 to 255",
                    'ovf:value=""',
                ),
                (
                    "licence",
                    "Licence key",
                    "As printed on the receipt",
                    'ovf:password="true" ovf:value=""',
                ),
                ("copying_address", "Copying address", "Of this node", 'ovf:value=""'),
            ),
            40,
        ),
        Product(
            "skerry",
            "Skerry",
            "2.4.1",
            (
                ("small", "Small", "A trial", 2, 4),
                ("medium", "Medium", "40 programs a worker", 4, 16),
                ("large", "Large", "110 programs a worker", 8, 48),
            ),
            (_SERVICE,),
            (
                *_SIX,
                ("certificate", "Certificate", "PEM, with its chain", 'ovf:value=""'),
                ("key", "Certificate's key", "PEM", 'ovf:password="true" ovf:value=""'),
                ("authority", "Authority", "PEM; whom workers believe", 'ovf:value=""'),
                ("virtual", "Controller address", "Shared by the controllers", 'ovf:value=""'),
                ("inner", "Inner range", "Of the programs' own network", ""),
                ("seal", "Seal", "Whether what is kept is sealed", 'ovf:value="yes"'),
                (
                    "seal_key",
                    "Sealing key",
                    "At least sixteen characters",
                    'ovf:password="true" ovf:value=""',
                ),
            ),
        ),
        Product(
            "ballast",
            "Ballast",
            "1.9.2",
            (
                ("small", "Small", "Up to 4 data disks", 2, 8),
                ("medium", "Medium", "Up to 8 data disks", 4, 24),
                ("large", "Large", "Up to 12 data disks", 8, 48),
            ),
            (_SERVICE, ("Copying", "Between storage nodes")),
            (
                ("virtual", "Portal address", "Shared by all nodes", 'ovf:value=""'),
                ("copies", "Kept in", "2, 3, 2+1 or 4+2", 'ovf:value="2"'),
                ("sealing", "Disk encryption", "yes or no", 'ovf:value="no"'),
                ("copying_address", "Copying address", "Of this node", 'ovf:value=""'),
            ),
        ),
        Product(
            "breakwater",
            "Breakwater",
            "3.0.4",
            (
                ("small", "Small", "Up to 1 Gbit/s", 2, 2),
                ("medium", "Medium", "Up to 5 Gbit/s", 4, 4),
            ),
            (_SERVICE, ("Inner", "Guests of the host"), ("Crossing", "Between edges")),
            (
                *_SIX,
                ("keys", "Keys", "Whose SSH keys may log in", 'ovf:value=""'),
                ("letting", "Lets through", "nothing, known, everything", 'ovf:value="nothing"'),
                ("known", "Known senders", "Addresses", 'ovf:value=""'),
                ("crossing_address", "Crossing address", "Of this node", 'ovf:value=""'),
            ),
            8,
        ),
    )
}
PARTS: dict[str, Product] = {
    product.id: product
    for product in (
        Product(
            "transfer",
            "Tidebook Transfer",
            "2.2.0",
            (
                ("small", "Small", "Up to 6 parcels an hour", 1, 4),
                ("medium", "Medium", "Up to 60 parcels an hour", 2, 8),
            ),
            (_SERVICE,),
            (
                ("source", "Ledger address", "Where readings are taken from", ""),
                ("parcels", "Parcels an hour", "How often readings are handed on", 'ovf:value="4"'),
            ),
            8,
        ),
    )
}
"""Products that only some nodes of another one are made from."""
ALL = PRODUCTS | PARTS
_COMMON = (
    ("hostname", "Host name", "Short name of this node", ""),
    ("address", "Address", "IPv4 address of the service interface", ""),
    ("prefix", "Prefix", "Length of the network prefix", ""),
    ("gateway", "Gateway", "Default gateway", ""),
    ("dns", "DNS servers", "Separated by spaces", 'ovf:value=""'),
    ("domain", "Domain", "Search domain", 'ovf:value=""'),
    ("ntp", "Time server", "Name or address", 'ovf:value=""'),
    ("time_zone", "Time zone", "Such as UTC", 'ovf:value="UTC"'),
    ("role", "Role", "What this node does", ""),
    (
        "admin_password",
        "Administrator password",
        "At least twelve characters",
        'ovf:password="true" ovf:qualifiers="MinLen(12) MaxLen(64)"',
    ),
)
TITLES = {"gauge": ("Gauge Collector", "4.2.0")} | {
    product.id: (product.title, product.version) for product in ALL.values()
}
"""First part of a product's questions → what its guests call themselves."""


def descriptor(product: Product, disk_size: int) -> str:
    """The OVF 1.1 descriptor."""
    options = "".join(
        "<Configuration"
        f' ovf:id="{ident}"{" ovf:default=" + quoteattr("true") if number == 0 else ""}>'
        f"<Label>{label}</Label><Description>{text}</Description></Configuration>"
        for number, (ident, label, text, _, _) in enumerate(product.sizes)
    )
    items = "".join(
        f'<Item ovf:configuration="{ident}"><rasd:ElementName>{cpu} '
        "vCPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>"
        "<rasd:ResourceType>3</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{cpu}</rasd:VirtualQuantity></Item>"
        f'<Item ovf:configuration="{ident}"><rasd:AllocationUnits>byte * '
        "2^20</rasd:AllocationUnits><rasd:ElementName>memory</rasd:ElementName>"
        "<rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{gib * 1024}</rasd:VirtualQuantity></Item>"
        for ident, _, _, cpu, gib in product.sizes
    )
    networks = "".join(
        f"<Network ovf:name={quoteattr(name)}><Description>{escape(text)}</Description></Network>"
        for name, text in product.networks
    )
    nics = "".join(
        f"<Item><rasd:Connection>{name}</rasd:Connection>"
        f"<rasd:ElementName>eth{number}</rasd:ElementName>"
        f"<rasd:InstanceID>{11 + number}</rasd:InstanceID>"
        "<rasd:ResourceSubType>virtio</rasd:ResourceSubType>"
        "<rasd:ResourceType>10</rasd:ResourceType></Item>"
        for number, (name, _) in enumerate(product.networks)
    )
    asks = "".join(
        f'<Property ovf:key="{key}" ovf:type="string" ovf:userConfigurable="true" '
        f"{more}><Label>{escape(label)}</Label><Description>{escape(text)}</Description></Property>"
        for key, label, text, more in (*_COMMON, *product.asks)
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References>
  <File ovf:id="file1" ovf:href="{product.id}-disk1.vmdk" ovf:size="{disk_size}"/></References>
 <DiskSection><Info>Disks</Info>
  <Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="{product.disk_gib << 30}"
  ovf:format="http://disk.holm.example/format/vmdk#streamOptimized"/></DiskSection>
 <NetworkSection><Info>Networks</Info>{networks}</NetworkSection>
 <DeploymentOptionSection><Info>Sizes</Info>{options}</DeploymentOptionSection>
 <VirtualSystem ovf:id="{product.id}"><Info>{product.title}</Info><Name>{product.title}</Name>
  <ProductSection ovf:class="{product.id}"><Info>Product</Info><Product>{product.title}</Product>
   <Vendor>Holm Instruments</Vendor><Version>{product.version}</Version>{asks}</ProductSection>
  <VirtualHardwareSection ovf:transport="iso"><Info>Hardware</Info>{items}
   <Item><rasd:ElementName>disk</rasd:ElementName>
    <rasd:HostResource>ovf:/disk/disk1</rasd:HostResource>
    <rasd:InstanceID>10</rasd:InstanceID><rasd:ResourceType>17</rasd:ResourceType></Item>
   {nics}
  </VirtualHardwareSection>
 </VirtualSystem>
</Envelope>
"""


def ova(product: Product, *, mib: int = 4) -> bytes:
    """The product as a package: about `mib` MiB of content, scattered over its disk."""
    rng = random.Random(product.id)
    total, count = (product.disk_gib << 30) // GRAIN, (mib << 20) // GRAIN
    grains = {
        index: rng.randbytes(GRAIN)
        for index in sorted({0, *rng.sample(range(total), max(1, count - 1))})
    }
    grains[0] = labelled(grains[0], product.title, product.version)
    disk = vmdk(product.disk_gib << 30, grains)
    return pack(
        product.id,
        {
            f"{product.id}.ovf": descriptor(product, len(disk)).encode(),
            f"{product.id}-disk1.vmdk": disk,
        },
    )
