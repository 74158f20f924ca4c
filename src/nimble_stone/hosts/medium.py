"""The config medium: a CD-ROM image (ISO 9660, Rock Ridge and Joliet) with an OVF environment
document and a NoCloud seed.
"""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pycdlib

from nimble_stone.core.package import environment


@dataclass(frozen=True)
class Configured:
    """How an interface beyond the first is set up: its addresses with prefix length, whether it
    asks by DHCP, and on a bare machine the MAC address of its port.
    """

    addresses: tuple[str, ...] = ()
    dhcp: bool = False
    mtu: str = ""
    port: str = ""


def build(
    node: str,
    values: dict[str, str],
    network: dict[str, str],
    further: Mapping[int, Configured] | None = None,
) -> bytes:
    """The image. `values`: environment keys; `network`: name, address, prefix, gateway, dns,
    domain, addressing and the like for the NoCloud seed;
    `further`: interfaces beyond the first, by index from 1."""
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, joliet=3, rock_ridge="1.09", vol_ident="CIDATA")
    files = {
        "ovf-env.xml": environment.build(node, values),
        "meta-data": _meta(node, network),
        "user-data": _user(network),
        "network-config": _network(network, further or {}),
        "mark.json": json.dumps({"made-by": "nimble-stone", "node": node}).encode(),
    }
    for number, (name, data) in enumerate(files.items()):
        iso.add_fp(
            io.BytesIO(data), len(data), f"/FILE{number}.;1", rr_name=name, joliet_path=f"/{name}"
        )
    out = io.BytesIO()
    iso.write_fp(out)
    iso.close()
    return out.getvalue()


def _meta(node: str, network: dict[str, str]) -> bytes:
    return (
        f"instance-id: {json.dumps(node)}\nlocal-hostname: {json.dumps(network['name'])}\n".encode()
    )


def _user(network: dict[str, str]) -> bytes:
    return (
        f"#cloud-config\nhostname: {json.dumps(network['name'])}\nfqdn:"
        f" {json.dumps(network['name'] + '.' + network['domain'])}\n".encode()
    )


def _network(network: dict[str, str], further: Mapping[int, Configured]) -> bytes:
    """NoCloud network config version 2; JSON is YAML."""
    names = {
        "addresses": network["dns"].split(),
        "search": (
            network.get("search", "").split() or ([network["domain"]] if network["domain"] else [])
        ),
    }
    interface: dict[str, Any] = {"nameservers": names} | _frames(network.get("mtu", ""))
    interface |= _match(network.get("port", ""), "eth0")
    if network.get("addressing") == "dhcp":
        interface |= {"dhcp4": True}
    else:
        interface |= {
            "addresses": [f"{network['address']}/{network['prefix']}"],
            "gateway4": network["gateway"],
        }
    if network.get("address6"):
        interface.setdefault("addresses", []).append(f"{network['address6']}/{network['prefix6']}")
        interface |= {"gateway6": network["gateway6"]} if network.get("gateway6") else {}
    more = {
        f"eth{index}": (
            ({"addresses": list(one.addresses)} if one.addresses else {})
            | ({"dhcp4": True} if one.dhcp else {})
            | _frames(one.mtu)
            | _match(one.port, f"eth{index}")
        )
        for index, one in sorted(further.items())
    }
    return json.dumps({"version": 2, "ethernets": {"eth0": interface} | more}).encode()


def _match(port: str, name: str) -> dict[str, Any]:
    """The port by its MAC address, and the name it gets: machines number ports as they like."""
    return {"match": {"macaddress": port}, "set-name": name} if port else {}


def _frames(mtu: str) -> dict[str, int]:
    return {"mtu": int(mtu)} if mtu.isascii() and mtu.isdigit() else {}
