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

NO_BOND = "none"
METRIC = 200


@dataclass(frozen=True)
class Configured:
    """How an interface beyond the first is set up: its addresses with prefix length, whether it
    asks by DHCP; the MAC addresses of its ports where they are known, how they form a bond, and its
    VLAN; its gateway, DNS servers, and routes such as “10.46.0.0/16 via 10.44.60.1”.
    """

    addresses: tuple[str, ...] = ()
    dhcp: bool = False
    mtu: str = ""
    port: str = ""
    bond: str = NO_BOND
    vlan: str = ""
    gateway: str = ""
    dns: str = ""
    routes: str = ""


def build(
    node: str,
    values: dict[str, str],
    network: dict[str, str],
    further: Mapping[int, Configured] | None = None,
    user_data: str = "",
) -> bytes:
    """The image. `values`: environment keys; `network`: name, address, prefix, gateway, dns,
    domain, addressing and the like for the NoCloud seed;
    `further`: interfaces beyond the first, by index from 1; `user_data`: what the kit says, ''
    for name and domain only."""
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, joliet=3, rock_ridge="1.09", vol_ident="CIDATA")
    files = {
        "ovf-env.xml": environment.build(node, values),
        "meta-data": _meta(node, network),
        "user-data": user_data.encode() or _user(network),
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
    if routes := _routes(network.get("routes", "")):
        interface["routes"] = routes
    wires = _Wires()
    wires.put(0, network.get("port", ""), network.get("bond", NO_BOND), "", interface)
    for index, one in sorted(further.items()):
        settings = (
            ({"addresses": list(one.addresses)} if one.addresses else {})
            | ({"dhcp4": True} if one.dhcp else {})
            | _frames(one.mtu)
            | _ways(index, one)
        )
        wires.put(index, one.port, one.bond, one.vlan, settings)
    return json.dumps(wires.written()).encode()


def _routes(text: str) -> list[dict[str, Any]]:
    """Routes as the sheet has them, as netplan does."""
    found = [one.split() for one in text.split(",") if one.strip()]
    return [{"to": to, "via": via} for to, _, via in found]


def _ways(index: int, one: Configured) -> dict[str, Any]:
    """Where an interface beyond the first leads. Its gateway comes after that of the first one,
    which stays the way to everywhere else.
    """
    routes = _routes(one.routes)
    if one.gateway:
        routes.append({"to": "0.0.0.0/0", "via": one.gateway, "metric": METRIC + index})
    servers = one.dns.replace(",", " ").split()
    return ({"routes": routes} if routes else {}) | (
        {"nameservers": {"addresses": servers}} if servers else {}
    )


class _Wires:
    """Interfaces, bonds and VLANs; each port is named once."""

    def __init__(self) -> None:
        self.ethernets: dict[str, Any] = {}
        self.bonds: dict[str, Any] = {}
        self.vlans: dict[str, Any] = {}
        self._below: dict[str, str] = {}
        self._ports = 0

    def put(self, index: int, port: str, bond: str, vlan: str, settings: dict[str, Any]) -> None:
        """A network's settings, on its port, bond or VLAN."""
        macs = port.lower().replace(",", " ").split()
        if not macs:
            self.ethernets[f"eth{index}"] = settings
            return
        below = self._below.get(macs[0]) or self._lay(index, macs, bond, settings, vlan)
        if vlan:
            self.vlans[f"{below}.{vlan}"] = {"id": int(vlan), "link": below} | settings

    def _lay(
        self, index: int, macs: list[str], bond: str, settings: dict[str, Any], vlan: str
    ) -> str:
        """The port or bond itself; its name. Machines number ports as they like."""
        own = {} if vlan else settings
        bonded = bond not in ("", NO_BOND)
        # interfaces keep their numbers, unless a bond before them has taken these
        first = self._ports if bonded else max(index, self._ports)
        names = [f"eth{first + n}" for n in range(len(macs) if bonded else 1)]
        self._ports = first + len(names)
        for name, mac in zip(names, macs, strict=False):
            match = {"match": {"macaddress": mac}, "set-name": name}
            self.ethernets[name] = match if bonded else match | own
        below = names[0]
        if bonded:
            below = f"bond{index}"
            settings_of = {"mode": bond, "mii-monitor-interval": 100}
            self.bonds[below] = {"interfaces": names, "parameters": settings_of} | own
        self._below |= dict.fromkeys(macs, below)
        return below

    def written(self) -> dict[str, Any]:
        """The document."""
        more = {"bonds": self.bonds, "vlans": self.vlans}
        return {"version": 2, "ethernets": self.ethernets} | {k: v for k, v in more.items() if v}


def _frames(mtu: str) -> dict[str, int]:
    return {"mtu": int(mtu)} if mtu.isascii() and mtu.isdigit() else {}
