"""The made-up products of the demonstration beside the Gauge Collector: their packages, and what
their stand-in guests say of themselves.
"""

from __future__ import annotations

import random
from importlib.resources import files
from xml.sax.saxutils import escape, quoteattr

from ruamel.yaml import YAML

from nimble_stone.core.models import Fixed
from nimble_stone.lab.guests.label import labelled
from nimble_stone.lab.scenario import keelson
from nimble_stone.lab.scenario.appliance import GRAIN, pack, vmdk


class Size(Fixed):
    """A size that a package offers."""

    id: str
    label: str
    text: str
    vcpu: int
    memory_gib: int


class Network(Fixed):
    """A network of a package."""

    name: str
    text: str


class Ask(Fixed):
    """A question of a package (an OVF property). No value: it must be answered."""

    key: str
    label: str
    text: str
    value: str | None = None
    secret: bool = False
    qualifiers: str = ""

    @property
    def attributes(self) -> str:
        """What stands in its XML element beside key and type."""
        found = []
        if self.secret:
            found.append('ovf:password="true"')
        if self.value is not None:
            found.append(f"ovf:value={quoteattr(self.value)}")
        if self.qualifiers:
            found.append(f"ovf:qualifiers={quoteattr(self.qualifiers)}")
        return " ".join(found)


class Product(Fixed):
    """A product: its sizes, its networks in the order of its interfaces, what it asks."""

    id: str
    title: str
    version: str
    disk_gib: int
    sizes: tuple[Size, ...]
    networks: tuple[Network, ...]
    asks: tuple[Ask, ...]


class _Products(Fixed):
    """The file products.yaml."""

    common: tuple[Ask, ...]
    products: tuple[Product, ...]
    parts: tuple[Product, ...]


_READ = _Products.model_validate(
    YAML(typ="safe", pure=True).load(
        files(__package__).joinpath("products.yaml").read_text(encoding="utf-8")
    )
)
PRODUCTS = {product.id: product for product in _READ.products}
PARTS = {product.id: product for product in _READ.parts}
"""Products that only some nodes of another one are made from."""
ALL = PRODUCTS | PARTS
TITLES = {
    "gauge": ("Gauge Collector", "4.2.0"),
    keelson.ID: ("Keelson", keelson.VERSION),
} | {product.id: (product.title, product.version) for product in ALL.values()}
"""First part of a product's questions → what its guests call themselves."""

_DEFAULT = ' ovf:default="true"'


def descriptor(product: Product, disk_size: int) -> str:
    """The OVF 1.1 descriptor."""
    options = "".join(
        f'<Configuration ovf:id="{size.id}"{_DEFAULT if size is product.sizes[0] else ""}>'
        f"<Label>{size.label}</Label><Description>{size.text}</Description></Configuration>"
        for size in product.sizes
    )
    items = "".join(
        f'<Item ovf:configuration="{size.id}"><rasd:ElementName>{size.vcpu} '
        "vCPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>"
        "<rasd:ResourceType>3</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{size.vcpu}</rasd:VirtualQuantity></Item>"
        f'<Item ovf:configuration="{size.id}"><rasd:AllocationUnits>byte * '
        "2^20</rasd:AllocationUnits><rasd:ElementName>memory</rasd:ElementName>"
        "<rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{size.memory_gib * 1024}</rasd:VirtualQuantity></Item>"
        for size in product.sizes
    )
    networks = "".join(
        f"<Network ovf:name={quoteattr(one.name)}><Description>{escape(one.text)}</Description>"
        "</Network>"
        for one in product.networks
    )
    nics = "".join(
        f"<Item><rasd:Connection>{one.name}</rasd:Connection>"
        f"<rasd:ElementName>eth{number}</rasd:ElementName>"
        f"<rasd:InstanceID>{11 + number}</rasd:InstanceID>"
        "<rasd:ResourceSubType>virtio</rasd:ResourceSubType>"
        "<rasd:ResourceType>10</rasd:ResourceType></Item>"
        for number, one in enumerate(product.networks)
    )
    asks = "".join(
        f'<Property ovf:key="{ask.key}" ovf:type="string" ovf:userConfigurable="true" '
        f"{ask.attributes}><Label>{escape(ask.label)}</Label>"
        f"<Description>{escape(ask.text)}</Description></Property>"
        for ask in (*_READ.common, *product.asks)
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
