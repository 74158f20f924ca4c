"""What hosts answer: read exactly when right, refused in words when wrong; and what we send cannot
be turned against the host.
"""

from __future__ import annotations

import io
import json
import shlex
from typing import Any

import pycdlib
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.core.package import environment
from nimble_stone.hosts import medium
from nimble_stone.hosts.api import VmAddress, VmDesign, VmDisk, VmMedium
from nimble_stone.hosts.kvm import commands, xml_in, xml_out

DESIGN = VmDesign(
    "western-lead",
    Mark(run="r1", node="lead-1", plan="western"),
    "kvm",
    2,
    8 << 30,
    (
        VmDisk("store", "ns-r1-disk0"),
        VmDisk("store", "ns-r1-disk1", target="vdb"),
    ),
    VmMedium("store", "ns-r1-config", "hda"),
    ("survey", "storage"),
    ("virtio", "e1000"),
)
POOL = """<pool type='{kind}'><name>p</name><capacity unit='bytes'>1000</capacity>
<available unit='KiB'>2</available><source><host name='filer'/><dir path='/export'/></source>
<target><path>/pool</path></target></pool>"""


def test_a_guest_we_define_is_read_back_as_designed() -> None:
    found = xml_in.domain(xml_out.domain(DESIGN))
    assert (found.name, found.vcpu, found.memory_bytes, found.disks, found.mark) == (
        "western-lead",
        2,
        8 << 30,
        2,
        DESIGN.mark,
    )
    root = etree.fromstring(xml_out.domain(DESIGN).encode())
    assert root.get("type") == "kvm"
    assert root.find("devices/disk[@device='cdrom']/target").get("bus") == "ide"  # type: ignore[union-attr]
    assert len(root.findall("devices/interface")) == 2


@given(st.text(st.characters(min_codepoint=32, max_codepoint=0xD7FF), max_size=40))
def test_no_name_breaks_out_of_the_xml_or_the_command(name: str) -> None:
    root = etree.fromstring(xml_out.volume(name, "qcow2", 5).encode())
    assert root.findtext("name") == name or not name
    assert shlex.split(commands.virsh("start", name))[-1] == name
    assert shlex.split(commands.digest(name))[-1] == name


def test_a_remote_pool_is_shared_and_a_local_one_is_not() -> None:
    shared, local = xml_in.pool(POOL.format(kind="netfs")), xml_in.pool(POOL.format(kind="dir"))
    assert (shared.shared, local.shared) == ("filer:/export", "")
    assert (shared.capacity_bytes, shared.free_bytes) == (1000, 2048)
    assert xml_in.datastore(local, True, 512).free_bytes == 512
    assert xml_in.datastore(local, True, None).free_bytes == 2048


def test_plain_answers_are_read_exactly() -> None:
    assert xml_in.names("a        \nb\n\n") == ["a", "b"]
    assert xml_in.memory_bytes("total  :             25165824 KiB\nfree   : 1 KiB") == 24 << 30
    assert (
        xml_in.key_values("Using API: QEMU 9.0.0\nRunning hypervisor: QEMU 7.2.22")[
            "Running hypervisor"
        ]
        == "QEMU 7.2.22"
    )
    assert xml_in.capabilities(
        "<c><host><cpu><model>M</model></cpu><topology><cells><cell><cpus"
        " num='4'/></cell><cell><cpus num='4'/></cell></cells></topology></host></c>"
    ) == ("M", 8)


def test_a_network_whose_bridge_is_missing_is_not_active() -> None:
    text = "<network><name>survey</name><bridge name='br9'/></network>"
    assert not xml_in.network(text, True, {"br0": 1500}).active
    assert xml_in.network(text, True, {"br9": 1500}).mtu == 1500


@pytest.mark.parametrize(
    "text",
    ["", "<a", "<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]><a>&b;</a>", "x" * (5 << 20)],
)
def test_garbage_is_refused_in_words(text: str) -> None:
    for read in (xml_in.domain, xml_in.volume, xml_in.pool, xml_in.capabilities):
        with pytest.raises(RemoteFailed, match="cannot be read"):
            read(text)


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_damaged_answers_give_a_value_or_a_refusal_and_nothing_else(data: st.DataObject) -> None:
    text = bytearray(xml_out.domain(DESIGN).encode())
    for _ in range(data.draw(st.integers(1, 4))):
        text[data.draw(st.integers(0, len(text) - 1))] = data.draw(st.integers(32, 126))
    try:
        found = xml_in.domain(text.decode("utf-8", "replace"))
    except RemoteFailed:
        return
    assert found.memory_bytes >= 0


@given(
    st.dictionaries(
        st.sampled_from(["gauge.a", "gauge.b", "gauge.c"]),
        st.text(st.characters(min_codepoint=32, max_codepoint=0xD7FF), max_size=40),
    )
)
def test_the_config_medium_carries_every_value_to_the_guest(values: dict[str, str]) -> None:
    network = {
        "name": "n",
        "address": "10.44.20.9",
        "prefix": "24",
        "gateway": "10.44.20.1",
        "dns": "10.44.0.5 10.45.0.5",
        "domain": "x.example",
    }
    iso = pycdlib.PyCdlib()
    iso.open_fp(io.BytesIO(medium.build("n", values, network)))
    out, seed = io.BytesIO(), io.BytesIO()
    iso.get_file_from_iso_fp(out, rr_path="/ovf-env.xml")
    iso.get_file_from_iso_fp(seed, rr_path="/network-config")
    iso.close()
    assert environment.parse(out.getvalue()) == values
    assert b'"10.44.20.9/24"' in seed.getvalue()


def seed_of(
    network: dict[str, str], further: dict[int, medium.Configured]
) -> dict[str, dict[str, object]]:
    found: dict[str, dict[str, object]] = whole_seed(network, further)["ethernets"]
    return found


def whole_seed(network: dict[str, str], further: dict[int, medium.Configured]) -> dict[str, Any]:
    iso, out = pycdlib.PyCdlib(), io.BytesIO()
    iso.open_fp(io.BytesIO(medium.build("n", {}, network, further)))
    iso.get_file_from_iso_fp(out, rr_path="/network-config")
    iso.close()
    found: dict[str, Any] = json.loads(out.getvalue())
    return found


def test_the_seed_says_how_each_interface_is_addressed() -> None:
    network = {
        "name": "n",
        "address": "",
        "prefix": "24",
        "gateway": "10.44.20.1",
        "dns": "",
        "domain": "",
        "addressing": "dhcp",
        "address6": "fd44::9",
        "prefix6": "64",
        "gateway6": "fd44::1",
        "search": "a.example b.example",
        "mtu": "9000",
    }
    found = seed_of(
        network,
        {
            1: medium.Configured(("10.44.60.9/24", "fd60::9/64"), mtu="1500"),
            2: medium.Configured((), True),
        },
    )
    assert found["eth0"] == {
        "nameservers": {"addresses": [], "search": ["a.example", "b.example"]},
        "mtu": 9000,
        "dhcp4": True,
        "addresses": ["fd44::9/64"],
        "gateway6": "fd44::1",
    }
    assert found["eth1"] == {"addresses": ["10.44.60.9/24", "fd60::9/64"], "mtu": 1500}
    assert found["eth2"] == {"dhcp4": True}


def test_addresses_of_interfaces_are_read_and_odd_ones_passed_over() -> None:
    table = """ vnet0      52:54:00:44:00:01    ipv4         10.44.20.80/23
 -          -                    ipv6         fd44::1/64
 lo         00:00:00:00:00:00    ipv4         127.0.0.1/8
 vnet0      52:54:00:44:00:01    ipv4         169.254.7.7/16
 vnet1      52:54:00:44:00:02    ipv4         10.44.20.81/0
 vnet1      52:54:00:44:00:02    ipv4         300.1.1.1/8
 vnet1      52:54:00:44:00:02    ipv4
"""
    assert xml_in.interface_addresses(table) == {
        "52:54:00:44:00:01": [VmAddress("10.44.20.80", "23")],
        "52:54:00:44:00:02": [VmAddress("10.44.20.81", "")],
    }


@given(st.text(max_size=400))
def test_no_answer_about_addresses_breaks_the_reading(text: str) -> None:
    assert all(found for found in xml_in.interface_addresses(text).values())


@given(st.text(max_size=60))
def test_no_name_of_a_place_becomes_anything_but_a_place(name: str) -> None:
    try:
        command = commands.reach(name, 443)
    except ValueError:
        return
    assert shlex.split(command)[-2:] == ["-c", f": < /dev/tcp/{name}/443"]
    assert not set(name) & set(" ;&|$`<>()\n'\"/\\")


def test_each_port_of_bonds_and_vlans_is_named_once() -> None:
    """A bond of two, a network on a port of its own, and one that shares the bond by its VLAN."""
    one, two, three = (f"52:54:00:00:00:0{n}" for n in (1, 2, 3))
    network = {
        "name": "n",
        "address": "10.0.0.2",
        "prefix": "24",
        "gateway": "10.0.0.1",
        "dns": "",
        "domain": "",
        "port": f"{one}, {two}",
        "bond": "active-backup",
    }
    further = {
        1: medium.Configured(("10.1.0.2/24",), port=three),
        2: medium.Configured(("10.2.0.2/24",), port=f"{one}, {two}", vlan="7"),
    }
    found = whole_seed(network, further)
    macs = {name: each["match"]["macaddress"] for name, each in found["ethernets"].items()}
    assert sorted(macs.values()) == [one, two, three]
    assert [macs[name] for name in found["bonds"]["bond0"]["interfaces"]] == [one, two]
    assert found["bonds"]["bond0"]["addresses"] == ["10.0.0.2/24"]
    own = next(each for each in found["ethernets"].values() if "addresses" in each)
    assert (own["match"]["macaddress"], own["addresses"]) == (three, ["10.1.0.2/24"])
    [tagged] = found["vlans"].values()
    assert (tagged["id"], tagged["link"], tagged["addresses"]) == (7, "bond0", ["10.2.0.2/24"])


def test_an_interface_beyond_the_first_leads_where_the_plan_says() -> None:
    network = {
        "name": "n",
        "address": "10.44.20.9",
        "prefix": "24",
        "gateway": "10.44.20.1",
        "dns": "10.44.0.5",
        "domain": "",
        "routes": "10.47.0.0/16 via 10.44.20.3",
    }
    further = {
        1: medium.Configured(
            ("10.44.60.9/24",),
            gateway="10.44.60.1",
            dns="10.44.60.5, 10.44.60.6",
            routes="10.46.0.0/16 via 10.44.60.2, 10.48.0.0/16 via 10.44.60.3",
        )
    }
    found = seed_of(network, further)
    assert found["eth0"]["routes"] == [{"to": "10.47.0.0/16", "via": "10.44.20.3"}]
    # the first interface's gateway stays the usual way out
    assert found["eth0"]["gateway4"] == "10.44.20.1"
    assert found["eth1"]["routes"] == [
        {"to": "10.46.0.0/16", "via": "10.44.60.2"},
        {"to": "10.48.0.0/16", "via": "10.44.60.3"},
        {"to": "0.0.0.0/0", "via": "10.44.60.1", "metric": 201},
    ]
    assert found["eth1"]["nameservers"] == {"addresses": ["10.44.60.5", "10.44.60.6"]}
