"""Definitions of VMs, held against libvirt's own schema; and what a hypervisor says it offers."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from lxml import etree

from nimble_stone.core.estate import Mark
from nimble_stone.hosts.api import KernelStart, VmDesign, VmDisk, VmLimits, VmMedium
from nimble_stone.hosts.kvm import xml_in, xml_out

SCHEMA = "/usr/share/libvirt/schemas/domain.rng"
PLAIN = VmDesign(
    name="western-lead-1",
    mark=Mark(run="r1", node="lead-1", plan="western"),
    domain_type="qemu",
    vcpu=2,
    memory_bytes=1 << 30,
    disks=(VmDisk("store", "ns-r1-disk0"), VmDisk("store", "ns-r1-disk1", "scsi", "sda")),
    medium=VmMedium("store", "ns-r1-config", "hda"),
    networks=("survey", "storage"),
    nics=("virtio", "e1000e"),
    scsi=("virtio-scsi",),
    macs=("52:54:00:aa:00:01",),
)
INSTALLER = (VmMedium("store", "ns-r1-installer", "hdc"),)
LIMITS = VmLimits(cpu_shares=512, cpu_percent=50, disk_mib_s=80, disk_iops=900, net_mbit=400)
DESIGNS: dict[str, dict[str, Any]] = {
    "plain": {},
    "kvm": {"domain_type": "kvm", "host_cpu": True},
    "common processor": {"domain_type": "kvm", "processor": "Broadwell-noTSX"},
    "agent": {"agent": True, "watchdog": "reset", "autostart": True},
    "uefi": {"firmware": "efi"},
    "signed": {"firmware": "efi", "machine": "q35", "secure_boot": True, "tpm": True},
    "q35": {"machine": "q35", "scsi": (), "disks": PLAIN.disks[:1]},
    "limits": {"limits": LIMITS},
    "kernel": {"kernel": KernelStart("/pool/kernel", "/pool/ramdisk", "console=ttyS0 a='<&>'")},
    "no ramdisk": {"kernel": KernelStart("/pool/kernel", "", "quiet")},
    "installs": {"installs": INSTALLER, "boots_media": True},
    "installs on q35": {"machine": "q35", "installs": INSTALLER, "boots_media": True},
    "one medium": {"boots_media": True},
    "fence": {"shared": (VmDisk("store", "fence", "virtio", "vdb"),)},
}


@pytest.fixture(scope="module")
def schema() -> etree.RelaxNG:
    return etree.RelaxNG(file=SCHEMA)


@pytest.mark.parametrize("name", DESIGNS)
def test_libvirts_own_schema_takes_every_design(name: str, schema: etree.RelaxNG) -> None:
    text = xml_out.domain(replace(PLAIN, **DESIGNS[name]), "/pool/console.log")
    document = etree.fromstring(text)
    assert schema.validate(document), schema.error_log
    # no two devices have one name, and no two drives one place
    targets = [str(one.get("dev")) for one in document.iterfind("devices/disk/target")]
    assert len(set(targets)) == len(targets)
    places = [dict(one.attrib) for one in document.iterfind("devices/disk/address")]
    assert all(places.count(one) == 1 for one in places)


def test_limits_are_what_was_asked_for() -> None:
    document = etree.fromstring(xml_out.domain(replace(PLAIN, limits=LIMITS)))
    assert document.findtext("cputune/quota") == "50000"
    assert document.findtext("cputune/shares") == "512"
    assert document.findtext("devices/disk/iotune/total_bytes_sec") == str(80 << 20)
    inbound = document.find("devices/interface/bandwidth/inbound")
    assert inbound is not None
    # 400 Mbit/s are 50,000 kilobytes a second
    assert inbound.get("average") == "50000"


def test_a_named_processor_is_given_exactly_and_never_to_an_emulated_vm() -> None:
    wanted = replace(PLAIN, domain_type="kvm", processor="Haswell-noTSX")
    cpu = etree.fromstring(xml_out.domain(wanted)).find("cpu")
    assert cpu is not None
    assert (cpu.get("mode"), cpu.findtext("model")) == ("custom", "Haswell-noTSX")
    assert cpu.find("model[@fallback='forbid']") is not None
    emulated = etree.fromstring(xml_out.domain(replace(wanted, domain_type="qemu")))
    assert emulated.find("cpu/model") is None


def test_what_a_hypervisor_offers_is_read() -> None:
    text = (
        "<domainCapabilities><os supported='yes'><loader supported='yes'><enum name='secure'>"
        "<value>no</value></enum></loader></os><cpu><mode name='custom' supported='yes'>"
        "<model usable='no' vendor='AMD'>EPYC</model>"
        "<model usable='yes' vendor='Intel'>Nehalem</model></mode></cpu><devices>"
        "<tpm supported='yes'>"
        "<enum name='backendModel'><value>passthrough</value></enum></tpm></devices>"
        "</domainCapabilities>"
    )
    assert xml_in.offers(text) == xml_in.Offers(
        tpm=False, secure_boot=False, processors=("Nehalem",)
    )
    assert xml_in.offers("") == xml_in.Offers()


def defined(**changes: Any) -> etree._Element:
    return etree.fromstring(xml_out.domain(replace(PLAIN, **changes)).encode())


def boots(root: etree._Element) -> str:
    return xml_in.domain(etree.tostring(root).decode()).boots


@pytest.mark.parametrize("name", DESIGNS)
def test_every_design_is_read_as_it_starts(name: str) -> None:
    wanted = "kernel" if DESIGNS[name].get("kernel") else "disk"
    assert boots(defined(**DESIGNS[name])) == wanted


def test_another_boot_order_is_read_from_the_machine_or_from_its_devices() -> None:
    root = defined()
    boot = root.find("os/boot")
    assert boot is not None
    for device, words in (("network", "network"), ("cdrom", "cdrom"), ("x", "")):
        boot.set("dev", device)
        assert boots(root) == words
    # where devices have an order, it counts, and the lowest is first
    second = root.findall("devices/disk[@device='disk']")[1]
    etree.SubElement(second, "boot", order="2")
    assert boots(root) == "disk sda"
    etree.SubElement(root.findall("devices/interface")[0], "boot", order="1")
    assert boots(root) == "network"


def test_media_and_the_mode_of_a_volumes_file_are_read() -> None:
    found = xml_in.domain(xml_out.domain(replace(PLAIN, installs=INSTALLER, boots_media=True)))
    assert set(found.media) == {"store/ns-r1-config", "store/ns-r1-installer"}
    document = (
        "<volume type='file'><name>a</name><capacity unit='bytes'>512</capacity><target>"
        "<path>/p/a</path><permissions><mode>{}</mode></permissions></target></volume>"
    )
    for mode, read in (("0640", "0640"), ("08", ""), ("rw", ""), ("", "")):
        assert xml_in.volume(document.format(mode)).mode == read
