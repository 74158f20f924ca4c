"""Builds the quorum store as an appliance for hypervisors: an OVA that takes its values from a
config medium, keeps its data on a disk of its own, and finds out whether a cluster expects it.
"""

from __future__ import annotations

import shutil
from pathlib import Path

from inspection import ramdisk
from nimble_stone.lab.scenario import appliance as scene
from tests.hypervisor import appliance

HERE = Path(__file__).parent
PRODUCT = "Quorum Appliance"
VALUES = ("hostname", "address", "prefix", "gateway", "token", "peers", "cert", "key", "authority")
SIZES = {"small": 320, "large": 384}
"""Memory in MiB."""


def ramdisk_of(work: Path) -> Path:
    """Shared by all versions. A few seconds."""
    root = work / "root"
    version = ramdisk.version_of(ramdisk.kernel("cloud"))
    tools = ("/usr/bin/etcd", "/usr/sbin/mke2fs", "/usr/bin/curl")
    ramdisk.base(root, version, (*appliance.MODULES, "af_packet"), tools)
    shutil.copy(HERE / "vm-init", root / "init")
    (root / "init").chmod(0o755)
    ramdisk.pack(root, work / "initrd.gz")
    return work / "initrd.gz"


def build(work: Path, initrd: Path, version: str) -> Path:
    """The OVA of a version, which its system tells on the console. About 20 MB."""
    own = work / version
    own.mkdir(parents=True)
    menu = appliance.GRUB.replace("rdinit=/init", f"rdinit=/init quorum={version}")
    data = appliance.disk(own, initrd, menu, 48).read_bytes()
    capacity = (own / "disk.raw").stat().st_size
    target = own / "quorum.ova"
    text = _descriptor(version, capacity, len(data)).encode()
    target.write_bytes(scene.pack("quorum", {"quorum.ovf": text, "quorum.vmdk": data}))
    return target


def _descriptor(version: str, capacity: int, size: int) -> str:
    options = "".join(
        f'<Configuration ovf:id="{ident}"><Label>{ident}</Label>'
        f"<Description>{mib} MiB</Description></Configuration>"
        for ident, mib in SIZES.items()
    )
    memory = "".join(
        f'<Item ovf:configuration="{ident}"><rasd:AllocationUnits>byte * 2^20'
        "</rasd:AllocationUnits><rasd:ElementName>memory</rasd:ElementName>"
        "<rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType>"
        f"<rasd:VirtualQuantity>{mib}</rasd:VirtualQuantity></Item>"
        for ident, mib in SIZES.items()
    )
    properties = "".join(
        f'<Property ovf:key="{key}" ovf:type="string" ovf:userConfigurable="true"'
        f' ovf:value=""><Label>{key}</Label></Property>'
        for key in VALUES
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
 xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References><File ovf:id="file1" ovf:href="quorum.vmdk" ovf:size="{size}"/></References>
 <DiskSection><Info>Disks</Info>
  <Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="{capacity}"
  ovf:format="http://disk.holm.example/format/vmdk#streamOptimized"/></DiskSection>
 <NetworkSection><Info>Networks</Info><Network ovf:name="Store">
  <Description>Clients and members</Description></Network></NetworkSection>
 <DeploymentOptionSection><Info>Sizes</Info>{options}</DeploymentOptionSection>
 <VirtualSystem ovf:id="quorum"><Info>Quorum</Info><Name>Quorum</Name>
  <ProductSection ovf:class="quorum"><Info>Product</Info><Product>{PRODUCT}</Product>
   <Vendor>Holm Instruments</Vendor><Version>{version}</Version>{properties}</ProductSection>
  <VirtualHardwareSection ovf:transport="iso"><Info>Hardware</Info>
   <Item><rasd:ElementName>1 vCPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>
    <rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>1</rasd:VirtualQuantity></Item>
   {memory}
   <Item><rasd:ElementName>disk</rasd:ElementName>
    <rasd:HostResource>ovf:/disk/disk1</rasd:HostResource>
    <rasd:InstanceID>10</rasd:InstanceID><rasd:ResourceType>17</rasd:ResourceType></Item>
   <Item><rasd:Connection>Store</rasd:Connection><rasd:ElementName>eth0</rasd:ElementName>
    <rasd:InstanceID>11</rasd:InstanceID><rasd:ResourceSubType>virtio</rasd:ResourceSubType>
    <rasd:ResourceType>10</rasd:ResourceType></Item>
  </VirtualHardwareSection>
 </VirtualSystem>
</Envelope>
"""
