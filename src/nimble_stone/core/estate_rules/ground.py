"""Rules about what carries guests: datastores and networks."""

from __future__ import annotations

from collections import Counter
from ipaddress import ip_interface

from nimble_stone.core.estate import Carried, Datastore, Facts, Host, Interface
from nimble_stone.core.estate_rules.base import Broken, Found, Ground, HostRule, known
from nimble_stone.core.preparation import (
    CarryNetwork,
    NfsStore,
    RenameStore,
    StartNetwork,
    StartStore,
    bridge_for,
)


def _has_store(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and not any(store.active for store in facts.datastores):
        yield Broken("blocker", "it has no datastore that is started", "Make one (Prepare).")


def _stores_active(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        if not store.active:
            yield Broken(
                "caution",
                f"datastore {store.name} is defined but not started",
                "Start it.",
                StartStore(host=host.name, name=store.name),
            )


def place_of(host: str, store: Datastore) -> str:
    """What identifies a datastore in the whole estate."""
    return store.shared or f"{host}/{store.name}"


def _watermark(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        care = g.care.get(place_of(host.name, store))
        most = care.watermark if care else g.limit(host, "watermark") / 100
        if (
            store.active
            and store.capacity_bytes
            and store.capacity_bytes - store.free_bytes > most * store.capacity_bytes
        ):
            yield Broken(
                "caution",
                f"datastore {store.name} is"
                f" {round(100 * (1 - store.free_bytes / store.capacity_bytes))} % full, usage limit"
                f" {most:.0%}",
                "Free space, or add a datastore.",
            )


def _shared_seen(g: Ground, host: Host, facts: Facts) -> Found:
    mine = {store.shared for store in facts.datastores if store.shared and store.active}
    exports = (
        g.usual(
            host,
            "exports",
            lambda: [
                tuple(
                    sorted(
                        {
                            (store.shared, store.name)
                            for other in g.bay_of(host)
                            for store in other.datastores
                            if store.shared and store.active
                        }
                    )
                )
            ],
        )
        or ()
    )
    for export, name in exports:
        if known(facts) and export not in mine:
            server, _, folder = export.partition(":")
            fits = folder.startswith("/") and facts.datastore(name) is None
            yield Broken(
                "caution",
                f"shared datastore {name} ({export}) is missing; other hosts of its bay have it",
                "Mount the export on it.",
                NfsStore(host=host.name, name=name, server=server, export=folder) if fits else None,
            )


def _same_store_name(g: Ground, host: Host, facts: Facts) -> Found:
    def first_of_each() -> dict[tuple[str, bool], str]:
        found: dict[tuple[str, bool], str] = {}
        for other in g.bay_of(host):
            for one in other.datastores:
                found.setdefault((one.name, bool(one.shared)), other.host)
        return found

    seen = g.once(host, "store kinds", first_of_each)
    for store in facts.datastores:
        there = seen.get((store.name, not store.shared))
        if there and there != host.name:
            kinds = ("shared", "local") if store.shared else ("local", "shared")
            yield Broken(
                "blocker",
                f"datastore {store.name} is {kinds[0]} here and {kinds[1]} on {there}",
                "Rename one of them.",
            )


def _store_named(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        if not store.shared and not store.name.startswith(f"{host.name}-"):
            users = any(
                disk.startswith(f"{store.name}/") for guest in facts.guests for disk in guest.disks
            )
            to = (
                f"{host.name}-{store.name}"
                if store.name not in ("default", "local")
                else f"{host.name}-local"
            )
            yield Broken(
                "note",
                f"its local datastore has the name {store.name}; in the bay it is {host.name}-…",
                "Keep it: VMs use this name." if users else "Rename it.",
                (
                    None
                    if users or facts.datastore(to)
                    else RenameStore(host=host.name, name=store.name, to=to)
                ),
            )


def _networks(g: Ground, host: Host, facts: Facts) -> Found:
    mine = {net.name for net in facts.networks if net.active}
    counted = (
        g.usual(
            host,
            "carried",
            lambda: [
                tuple(
                    sorted(
                        Counter(
                            net.name
                            for other in g.bay_of(host)
                            for net in other.networks
                            if net.active and not net.isolated
                        ).items()
                    )
                )
            ],
        )
        or ()
    )
    for name, count in counted:
        if (
            known(facts)
            and name not in mine
            and not any(net.name == name for net in facts.networks)
        ):
            yield Broken(
                "caution",
                f"network {name} is missing; {count} hosts of the bay have it",
                "Add a bridge on the trunk.",
                _bridge(g, host, facts, name),
            )


def _bridge(g: Ground, host: Host, facts: Facts, name: str) -> CarryNetwork | None:
    """How others of the bay carry it, tried on this host: the same kind of uplink, if it has one
    with a link.
    """
    network = g.estate.network(name)
    for other in g.bay_of(host):
        net = next((one for one in other.networks if one.name == name and one.active), None)
        port = next(
            (
                one
                for one in other.interfaces
                if net and one.master == net.bridge and one.kind == "vlan"
            ),
            None,
        )
        if net is None or port is None or not facts.network_setup:
            continue
        trunk = next(
            (one for one in facts.interfaces if one.name == port.parent and one.link), None
        ) or next(
            (
                one
                for one in facts.interfaces
                if one.kind in ("physical", "bond")
                and one.link
                and not one.master
                and not one.addresses
            ),
            None,
        )
        if trunk is None:
            return None
        return CarryNetwork(
            host=host.name,
            network=name,
            bridge=bridge_for(name),
            uplink=trunk.name,
            vlan=(network.vlan if network else None) or port.vlan,
            mtu=net.mtu or 1500,
            setup=facts.network_setup,
            uplink_config=trunk.config,
        )
    return None


def _network_started(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        if not net.active:
            bridge = any(one.name == net.bridge for one in facts.interfaces)
            yield Broken(
                "caution",
                f"network {net.name} is defined but not started",
                "Start it." if bridge else f"Create its bridge {net.bridge}, then start it.",
                StartNetwork(host=host.name, name=net.name) if bridge else None,
            )


def _mtu(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        described = g.estate.network(net.name)
        wanted = described.mtu if described else None
        usual = g.usual(
            host,
            f"mtu {net.name}",
            lambda name=net.name: (  # type: ignore[misc]
                one.mtu for other in g.bay_of(host) for one in other.networks if one.name == name
            ),
        )
        if net.mtu and wanted and net.mtu != wanted:
            yield Broken(
                "caution",
                f"network {net.name} has MTU {net.mtu} here; in the estate it has {wanted}",
                "Set one MTU everywhere; large packets are lost otherwise.",
            )
        elif net.mtu and usual and net.mtu != usual:
            yield Broken(
                "caution",
                f"network {net.name} has MTU {net.mtu} here and {usual} on most of its bay",
                "Set one MTU everywhere; large packets are lost otherwise.",
            )


def ports_of(facts: Facts, net: Carried) -> list[Interface]:
    """The interfaces that lead out of a network's bridge."""
    return [
        one
        for one in facts.interfaces
        if net.bridge and one.master == net.bridge and one.kind != "tap"
    ]


def _linked(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        ports = ports_of(facts, net)
        if net.active and ports and not any(port.link for port in ports):
            yield Broken(
                "blocker",
                f"network {net.name} has no uplink: {', '.join(port.name for port in ports)} has no"
                " link",
                "Check the cable and the switch port.",
            )
        elif net.active and net.bridge and not ports and not net.isolated and facts.interfaces:
            yield Broken(
                "caution",
                f"network {net.name} has no uplink: bridge {net.bridge} has no interface",
                "Add an interface to the bridge.",
            )


def _tagged(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        described = g.estate.network(net.name)
        for port in ports_of(facts, net):
            if described and described.vlan and port.vlan and port.vlan != described.vlan:
                yield Broken(
                    "blocker",
                    f"network {net.name} is VLAN {described.vlan} in the estate, but {port.name} is"
                    f" tagged {port.vlan}",
                    "Correct the tag; its VMs are in the wrong network.",
                )


def _address(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        described = g.estate.network(net.name)
        if described is None or not net.active:
            continue
        having = g.usual(
            host,
            f"address {net.name}",
            lambda name=net.name, subnet=described.subnet: [  # type: ignore[misc]
                (
                    sum(_addressed(other, name, subnet) for other in g.bay_of(host)),
                    len(g.bay_of(host)),
                )
            ],
        )
        if (
            having
            and 2 * having[0] > having[1]
            and not _addressed(facts, net.name, described.subnet)
        ):
            yield Broken(
                "caution",
                f"address in network {net.name} ({described.subnet}) is missing; {having[0]} other"
                " hosts of its bay have one",
                "Add an address to its bridge; storage and VM migration need it.",
            )


def _addressed(facts: Facts, name: str, subnet: object) -> bool:
    bridge = next((net.bridge for net in facts.networks if net.name == name), "")
    return any(
        ip_interface(address).ip in subnet  # type: ignore[operator]
        for one in facts.interfaces
        if one.name == bridge
        for address in one.addresses
    )


def _described(g: Ground, host: Host, facts: Facts) -> Found:
    names = {network.name for network in g.estate.networks}
    for net in facts.networks:
        if names and net.active and not net.isolated and net.name not in names:
            yield Broken(
                "note",
                f"it has network {net.name}, which is not in the estate",
                "Add the network to the estate, so that plans can use it.",
            )


def _path(g: Ground, host: Host, facts: Facts) -> Found:
    for path in facts.paths:
        if not path.passes:
            over = f"over network {path.network} " if path.network else ""
            yield Broken(
                "caution",
                f"packets of {path.mtu} bytes do not reach {path.peer} ({path.address})"
                f" {over}in one piece: {path.words}",
                "Set the same MTU on every interface and switch of the path.",
            )


RULES: tuple[HostRule, ...] = (
    HostRule(
        "has-store",
        "storage",
        "Has a datastore",
        "VM disks need one.",
        "the list of datastores",
        _has_store,
    ),
    HostRule(
        "stores-active",
        "storage",
        "All datastores are started",
        "A stopped datastore accepts no disks.",
        "the list of datastores",
        _stores_active,
    ),
    HostRule(
        "watermark",
        "storage",
        "Datastores are below their usage limit",
        "Thin disks grow; a full datastore stops VMs.",
        "each datastore, df",
        _watermark,
        85,
        "% full",
    ),
    HostRule(
        "shared-seen",
        "storage",
        "Has the bay's shared datastores",
        "VMs can start and move anywhere.",
        "each datastore, findmnt",
        _shared_seen,
    ),
    HostRule(
        "store-names",
        "storage",
        "Names mean the same datastore",
        "A plan would use a local datastore as a shared one.",
        "each datastore",
        _same_store_name,
    ),
    HostRule(
        "store-named",
        "storage",
        "Local datastores have the host's name",
        "A name that tells the host prevents wrong choices.",
        "the list of datastores",
        _store_named,
    ),
    HostRule(
        "networks",
        "network",
        "Has the bay's networks",
        "A VM can run on any host.",
        "the list of networks",
        _networks,
    ),
    HostRule(
        "networks-started",
        "network",
        "All networks are started",
        "VMs on a stopped network do not start.",
        "the list of networks",
        _network_started,
    ),
    HostRule(
        "linked",
        "network",
        "Networks have an uplink",
        "A bridge without a link has no connection.",
        "ip -j -d addr",
        _linked,
    ),
    HostRule(
        "tagged",
        "network",
        "Networks have the right VLAN",
        "A wrong tag is another network.",
        "ip -j -d addr",
        _tagged,
    ),
    HostRule(
        "mtu",
        "network",
        "Has the network's MTU",
        "Large packets are lost between different sizes.",
        "ip -j -d addr",
        _mtu,
    ),
    HostRule(
        "path",
        "network",
        "Packets of full size reach the next host",
        "A switch between them can have a smaller MTU.",
        "ping -M do at full size, in a ring",
        _path,
    ),
    HostRule(
        "address",
        "network",
        "Has an address in the bay's networks",
        "Otherwise storage traffic uses another network.",
        "ip -j -d addr",
        _address,
    ),
    HostRule(
        "described",
        "network",
        "Its networks are in the estate",
        "Plans can use only networks of the estate.",
        "the list of networks",
        _described,
    ),
)
