"""Is the ground fit? Rules over facts, each a small function: about one host, or about a bay as a whole. Pure; the clock is given.

A rule answers with what it found wrong, nothing when all is well. `measured` says what was looked at, so that a person can look too.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.estate import HOST_RESERVE, Estate, Facts, Host
from nimble_stone.core.findings import Severity
from nimble_stone.core.units import size_text, time_text

Group = Literal["reach", "compute", "memory", "storage", "network", "leftovers"]
OLD_S = 24 * 3600.0
WATERMARK = 0.85


@dataclass(frozen=True)
class Ground:
    """What rules look at: the estate with facts, the time now (epoch seconds), and the runs of ours that may have guests."""

    estate: Estate
    now: float
    live_runs: Collection[str] = ()

    def bay_of(self, host: Host) -> list[Facts]:
        """Facts of all hosts of the same bay that were read."""
        return [self.estate.facts[other.name] for other in self.estate.bay(host.bay) if known(self.estate.facts.get(other.name))]


@dataclass(frozen=True)
class Violation:
    """What is wrong with one host by one rule."""

    rule: str
    host: str
    severity: Severity
    message: str
    remedy: str = ""


@dataclass(frozen=True)
class HostRule:
    """A rule: what it asks for, why, how it is measured, and the function that looks."""

    id: str
    group: Group
    title: str
    why: str
    measured: str
    look: Callable[[Ground, Host, Facts], Iterator[tuple[Severity, str, str]]]


def known(facts: Facts | None) -> bool:
    """Whether anything was read of a host."""
    return facts is not None and facts.memory_bytes > 0


Found = Iterator[tuple[Severity, str, str]]


def _answers(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.trouble:
        yield "blocker", facts.trouble, "See whether it is up and the login is right, then read it again."


def _fresh(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and g.now - facts.read_at > OLD_S:
        yield "caution", f"it was read {time_text(g.now - facts.read_at)} ago", "Read it again."


def _identity(g: Ground, host: Host, facts: Facts) -> Found:
    same = [name for name, other in g.estate.facts.items() if name != host.name and facts.hostname and other.hostname == facts.hostname]
    if same:
        yield "blocker", f"it calls itself {facts.hostname}, and so does {same[0]}: one machine under two names, or a copy", "Retire one of them, or rename it."


def _named(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.hostname and facts.hostname.split(".")[0].lower() != host.name.split(".")[0]:
        yield "note", f"it calls itself {facts.hostname}", "Rename it here or there, so that people mean the same machine."


def _virtualizes(g: Ground, host: Host, facts: Facts) -> Found:
    if facts.domain_type == "qemu":
        yield "caution", f"guests run in software emulation: {facts.domain_reason}", "Switch hardware virtualization on in the firmware."


def _same_version(g: Ground, host: Host, facts: Facts) -> Found:
    versions = Counter(other.hypervisor for other in g.bay_of(host) if other.hypervisor)
    usual = max(versions, key=lambda version: (versions[version], version), default="")
    if facts.hypervisor and facts.hypervisor != usual:
        yield "caution", f"it runs {facts.hypervisor}, most of its bay {usual}", "Bring the bay to one version."


def _same_processor(g: Ground, host: Host, facts: Facts) -> Found:
    models = Counter(other.cpu_model for other in g.bay_of(host) if other.cpu_model)
    usual = max(models, key=lambda model: (models[model], model), default="")
    if facts.cpu_model and facts.cpu_model != usual:
        yield "note", f"its processor is {facts.cpu_model}, most of its bay have {usual}", ""


def _reserve(g: Ground, host: Host, facts: Facts) -> Found:
    most = int(facts.memory_bytes * (1 - HOST_RESERVE))
    if known(facts) and facts.used_memory_bytes > most:
        yield "blocker", f"guests were given {size_text(facts.used_memory_bytes)} of {size_text(facts.memory_bytes)}: the hypervisor itself has too little", \
            "Stop or move a guest."


def _one_lost(g: Ground, host: Host, facts: Facts) -> Found:
    others = [other for other in g.bay_of(host) if other.host != host.name]
    room = sum(max(0, int(other.memory_bytes * (1 - HOST_RESERVE)) - other.used_memory_bytes) for other in others)
    if known(facts) and others and facts.used_memory_bytes > room:
        yield "caution", f"if it is lost, its guests ({size_text(facts.used_memory_bytes)}) do not fit on the rest of the bay ({size_text(room)} free)", \
            "Add a host, or spread the guests over more bays."


def _stores_active(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        if not store.active:
            yield "caution", f"datastore {store.name} is defined but not started", f"Start it: virsh pool-start {store.name}"


def _has_store(g: Ground, host: Host, facts: Facts) -> Found:
    if known(facts) and not any(store.active for store in facts.datastores):
        yield "blocker", "it has no datastore that is started", "Make one."


def _watermark(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        if store.active and store.capacity_bytes and store.capacity_bytes - store.free_bytes > WATERMARK * store.capacity_bytes:
            yield "caution", f"datastore {store.name} is {round(100 * (1 - store.free_bytes / store.capacity_bytes))} % full", "Free space, or add a datastore."


def _shared_seen(g: Ground, host: Host, facts: Facts) -> Found:
    mine = {store.shared for store in facts.datastores if store.shared and store.active}
    for export, name in {store.shared: store.name for other in g.bay_of(host) for store in other.datastores if store.shared and store.active}.items():
        if known(facts) and export not in mine:
            yield "caution", f"it does not see the shared datastore {name} ({export}) that others of its bay use", "Mount the export on it and define the pool."


def _same_store_name(g: Ground, host: Host, facts: Facts) -> Found:
    for store in facts.datastores:
        for other in g.bay_of(host):
            there = other.datastore(store.name)
            if other.host != host.name and there and bool(there.shared) != bool(store.shared):
                kinds = ["shared" if one.shared else "local" for one in (store, there)]
                yield "blocker", f"datastore {store.name} is {kinds[0]} here and {kinds[1]} on {other.host}", "Give one of them another name."
                break


def _networks(g: Ground, host: Host, facts: Facts) -> Found:
    mine = {net.name for net in facts.networks if net.active}
    counted = Counter(net.name for other in g.bay_of(host) for net in other.networks if net.active)
    for name in sorted(counted):
        if known(facts) and name not in mine:
            yield "caution", f"it does not carry network {name}, which {counted[name]} of its bay carry", (
                "Give it the interface, or keep plans on that network off it.")


def _network_started(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        if not net.active:
            yield "caution", f"network {net.name} is defined but not started", f"Start it: virsh net-start {net.name}"


def _mtu(g: Ground, host: Host, facts: Facts) -> Found:
    for net in facts.networks:
        sizes = Counter(other_net.mtu for other in g.bay_of(host) for other_net in other.networks if other_net.name == net.name and other_net.mtu)
        usual = max(sizes, key=lambda size: (sizes[size], size), default=None)
        if net.mtu and usual and net.mtu != usual:
            yield "caution", f"network {net.name} has MTU {net.mtu} here and {usual} on most of its bay", (
                "Set one size everywhere; large packets get lost otherwise.")


def _described(g: Ground, host: Host, facts: Facts) -> Found:
    names = {network.name for network in g.estate.networks}
    for net in facts.networks:
        if names and net.active and net.name not in names:
            yield "note", f"it carries network {net.name}, which the estate does not describe", "Describe it, so that plans can use it."


def _leftovers(g: Ground, host: Host, facts: Facts) -> Found:
    for guest in facts.guests:
        if guest.mark and guest.mark.run not in g.live_runs:
            yield "caution", f"guest {guest.name} bears the mark of run {guest.mark.run}, which is not under way and does not stand", (
                "Take that run back, or remove the guest.")


def _stopped(g: Ground, host: Host, facts: Facts) -> Found:
    idle = [guest.name for guest in facts.guests if not guest.running]
    if idle:
        yield "note", f"{len(idle)} guests are defined but do not run: {', '.join(idle[:3])}{' …' if len(idle) > 3 else ''}", ""


RULES: tuple[HostRule, ...] = (
    HostRule("answers", "reach", "Answers, and the login works", "Nothing else can be known or done otherwise.", "the last reading", _answers),
    HostRule("fresh", "reach", "Was read within a day", "Old facts lead to plans that do not fit.", "the time of the last reading", _fresh),
    HostRule("identity", "reach", "Is one machine", "Two entries for one host promise its room twice.", "the host's own name", _identity),
    HostRule("named", "reach", "Is called what we call it", "People on the phone mean the same machine.", "the host's own name", _named),
    HostRule("virtualizes", "compute", "Runs guests with hardware support", "Emulation is many times slower.", "a firmware run under KVM", _virtualizes),
    HostRule("same-version", "compute", "Runs the bay's hypervisor version", "Guests behave alike, and moving them works.", "virsh version", _same_version),
    HostRule("same-processor", "compute", "Has the bay's processor", "Guests find the same features everywhere.", "virsh capabilities", _same_processor),
    HostRule("reserve", "memory", "Keeps memory for itself", "A hypervisor without memory stops its guests.", "virsh nodememstats and the guests' memory",
             _reserve),
    HostRule("one-lost", "memory", "Its guests fit elsewhere", "A lost host should cost a restart, not the service.", "memory of the bay's other hosts",
             _one_lost),
    HostRule("has-store", "storage", "Has a datastore", "A node's disk needs a place.", "virsh pool-list", _has_store),
    HostRule("stores-active", "storage", "Datastores are started", "What is not started cannot be written.", "virsh pool-list", _stores_active),
    HostRule("watermark", "storage", "Datastores keep below the watermark", "Thin disks grow.", "virsh pool-dumpxml and df", _watermark),
    HostRule("shared-seen", "storage", "Sees the bay's shared datastores", "A node can only move where its disk is seen.", "the pools' sources", _shared_seen),
    HostRule("store-names", "storage", "Datastore names mean one thing", "A plan names a datastore, not a place.", "the pools' sources", _same_store_name),
    HostRule("networks", "network", "Carries the bay's networks", "A guest without its network is defined, but does not start.", "virsh net-list", _networks),
    HostRule("networks-started", "network", "Networks are started", "What is not started carries nothing.", "virsh net-list", _network_started),
    HostRule("mtu", "network", "Has the bay's MTU", "Large packets get lost between unequal sizes.", "ip link", _mtu),
    HostRule("described", "network", "Carries networks we know", "Pools and checks need their addresses.", "the estate's networks", _described),
    HostRule("leftovers", "leftovers", "Holds no guests of ended runs", "They take room, names and addresses.", "our mark in the guests", _leftovers),
    HostRule("stopped", "leftovers", "Guests run", "What does not run may be forgotten.", "virsh domstats", _stopped),
)


def judge(ground: Ground, hosts: Collection[str] = ()) -> list[Violation]:
    """All violations of the named hosts, or of all. Cost: O(hosts × rules × size of the bay)."""
    found = []
    for host in ground.estate.hosts:
        if hosts and host.name not in hosts:
            continue
        facts = ground.estate.facts.get(host.name, Facts(host=host.name, trouble="it was never read"))
        for rule in RULES:
            found += [Violation(rule.id, host.name, severity, message, remedy) for severity, message, remedy in rule.look(ground, host, facts)]
    return found


def worst(violations: Collection[Violation]) -> Mapping[tuple[str, str], Severity]:
    """(host, rule) → the heaviest finding."""
    order = {"blocker": 0, "caution": 1, "note": 2}
    table: dict[tuple[str, str], Severity] = {}
    for item in violations:
        key = (item.host, item.rule)
        if key not in table or order[item.severity] < order[table[key]]:
            table[key] = item.severity
    return table


def reference() -> str:
    """The rules as a page of documentation (docs/host-rules.md)."""
    lines = ["# What hosts are judged by", "",
             "Generated from the rules themselves: `nimble-stone estate rules --reference`. Each looks at the facts that were last read.",
             "", "| rule | group | asks | why | measured by |", "| --- | --- | --- | --- | --- |"]
    lines += [f"| `{r.id}` | {r.group} | {r.title} | {r.why} | {r.measured} |" for r in RULES]
    return "\n".join(lines) + "\n"
