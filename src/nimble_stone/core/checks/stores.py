"""Rules about room on datastores: for this plan, beside what other plans and runs take there."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field

from nimble_stone.core.checks.situation import Claim, Situation, plans_text
from nimble_stone.core.estate import Datastore, StoreCare
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.units import size_text

WATERMARK = 0.9
"""A share of a datastore: fuller is worth a word, where nobody set a limit of its own."""
ELSEWHERE = Remedy(label="Choose another datastore for some nodes")


@dataclass
class _Lying:
    """What of the plan lies on one datastore. Bytes at first, and when full."""

    place: str
    store: Datastore
    host: str
    nodes: dict[str, Node] = field(default_factory=dict)
    thin: int = 0
    full: int = 0

    @property
    def where(self) -> str:
        """“gannet-local on gannet”, “kelda-shared (shared)”."""
        return f"{self.store.name} on {self.host}" if self.host else f"{self.store.name} (shared)"

    @property
    def last(self) -> Node:
        """The node that is told."""
        return list(self.nodes.values())[-1]


@dataclass(frozen=True)
class _Others:
    """What others still take on a datastore: runs that stand or are under way, and plans that may
    never be run. Bytes at first, and when their disks fill.
    """

    thin: int
    grows: int
    planned: int
    plans: tuple[Claim, ...]


def known(s: Situation) -> Iterator[Finding]:
    """Each datastore is there on that very host, and started."""
    columns = ["datastore", *(f"disk.{disk.id}.datastore" for disk in s.sheet.kit.extra_disks)]
    for node in s.sheet.nodes:
        facts = s.facts(node.value("host"))
        if facts is None or not facts.memory_bytes:
            continue
        for name in node.by_store:
            store = facts.datastore(name)
            if store is not None and store.active:
                continue
            column = next((one for one in columns if node.value(one) == name), "datastore")
            have = ", ".join(one.name for one in facts.datastores if one.active) or "none"
            what = "is not started" if store else "does not exist"
            yield Finding(
                severity="blocker",
                code="datastore-missing",
                node=node.id,
                column=column,
                host=facts.host,
                message=f"Datastore “{name or '(none)'}” {what} on {facts.host}; it has {have}.",
                consequence="The disk cannot be created.",
                remedy=Remedy(
                    label="Let placement choose", edit=Edit(path=("nodes", node.id, column))
                ),
            )


def room(s: Situation) -> Iterator[Finding]:
    """Each datastore holds all nodes together: thin (must) and full (caution), beside what others
    take there. Cost: O(nodes + claims).
    """
    care = {one.place: one for one in s.estate.stores}
    claims = _claimed(s)
    for lying in _lying(s).values():
        others = _others(s, claims.get(lying.place, []))
        yield from _fits(lying, others, care.get(lying.place))


def protected(s: Situation) -> Iterator[Finding]:
    """What keeps state does not lie on a datastore that the team called disposable."""
    care = {one.place: one.protection for one in s.estate.stores}
    keeping = {role.id for role in s.sheet.kit.roles if role.keeps == "state"}
    for lying in _lying(s).values():
        nodes = [node for node in lying.nodes.values() if node.role in keeping]
        if care.get(lying.place) != "disposable" or not nodes:
            continue
        many = f" and {len(nodes) - 1} more" if len(nodes) > 1 else ""
        yield Finding(
            severity="caution",
            code="store-disposable",
            node=nodes[0].id,
            column="datastore",
            host=lying.host,
            message=f"{nodes[0].name}{many} {'keep' if many else 'keeps'} data on {lying.where},"
            " which is marked disposable.",
            consequence="What is there is not protected.",
            remedy=Remedy(label="Choose another datastore, or change its protection on the host"),
        )


def _fits(lying: _Lying, others: _Others, care: StoreCare | None) -> Iterator[Finding]:
    store, where = lying.store, lying.where
    beside = f", and other runs still need {size_text(others.thin)}" if others.thin else ""
    if lying.thin + others.thin > store.free_bytes:
        yield _told(
            lying,
            "blocker",
            "room-thin",
            f"{where} has {size_text(store.free_bytes)} free; all {len(lying.nodes)} nodes"
            f" together need {size_text(lying.thin)} at once{beside}.",
            "The disk would fill up in the middle of the run.",
        )
        return
    full = lying.full + others.thin + others.grows
    if full > store.free_bytes:
        beside = (
            f"; disks of other runs there may grow by {size_text(others.thin + others.grows)}"
            if others.thin + others.grows
            else ""
        )
        yield _told(
            lying,
            "caution",
            "room-full",
            f"{where} holds the nodes thin ({size_text(lying.thin)}), but not when their disks"
            f" fill ({size_text(lying.full)} of {size_text(store.free_bytes)} free){beside}.",
            "VMs will pause with I/O errors when disks fill.",
        )
    elif full + others.planned > store.free_bytes:
        names = plans_text(others.plans)
        verb = "were" if len({one.plan for one in others.plans}) > 1 else "was"
        yield _told(
            lying,
            "caution",
            "room-planned",
            f"{where} would be full if {names} {verb} rolled out too:"
            f" {size_text(full + others.planned)} of {size_text(store.free_bytes)} free.",
            "Only one of the plans can fill its disks.",
        )
    else:
        yield from _marked(lying, full, care)


def _marked(lying: _Lying, full: int, care: StoreCare | None) -> Iterator[Finding]:
    """Beyond its own limit, or nearly full."""
    store = lying.store
    used = store.capacity_bytes - store.free_bytes + full
    limit = care.watermark if care else WATERMARK
    if not store.capacity_bytes or used <= limit * store.capacity_bytes:
        return
    percent = round(100 * used / store.capacity_bytes)
    own = f"; its limit is {care.watermark:.0%}" if care else ""
    yield _told(
        lying,
        "caution" if care else "note",
        "watermark",
        f"{lying.where} would be {percent} % full when disks fill{own.replace('%', ' %')}.",
        "Little free space remains.",
        remedy=ELSEWHERE if care else None,
    )


def _told(
    lying: _Lying,
    severity: str,
    code: str,
    message: str,
    consequence: str,
    *,
    remedy: Remedy | None = ELSEWHERE,
) -> Finding:
    return Finding.model_validate(
        {
            "severity": severity,
            "code": code,
            "node": lying.last.id,
            "column": "datastore",
            "host": lying.host,
            "message": message,
            "consequence": consequence,
            "remedy": remedy,
        }
    )


def place_in(s: Situation, host: str, name: str) -> tuple[str, Datastore] | None:
    """A datastore that a host names, and what identifies it in the whole estate."""
    facts = s.facts(host)
    store = facts.datastore(name) if facts else None
    return (store.shared or f"{host}/{name}", store) if store else None


def _lying(s: Situation) -> dict[str, _Lying]:
    """What lies where, by the datastore's place; with the copies that nodes' disks are made from,
    one of each package.
    """
    found: dict[str, _Lying] = {}
    for node in s.sheet.nodes:
        host = node.value("host")
        for name, (thin, full) in node.by_store.items():
            known = place_in(s, host, name)
            if known is None or not known[1].active:
                continue
            place, store = known
            lying = found.setdefault(place, _Lying(place, store, "" if store.shared else host))
            lying.nodes[node.id] = node
            lying.thin += thin
            lying.full += full
    for lying, thin, full in _replaced(s, found):
        lying.thin += thin
        lying.full += full
    for lying in found.values():
        name = lying.store.name
        lying.thin += sum(
            package.thin_bytes
            for package in s.sheet.packages.each(
                node.role for node in lying.nodes.values() if node.value("datastore") == name
            )
        )
    return found


def _replaced(s: Situation, found: dict[str, _Lying]) -> Iterator[tuple[_Lying, int, int]]:
    """What nodes need twice: their former system disk stays beside the new one."""
    for ident in s.changes.in_place if s.changes else ():
        node = s.sheet.by_id[ident]
        known = place_in(s, node.value("host"), node.value("datastore"))
        if known is not None and known[0] in found:
            further = sum(disk.capacity_bytes for disk in node.extra)
            whole = node.value("provisioning") == "full"
            full = max(0, node.full_bytes - further)
            yield found[known[0]], full if whole else node.thin_bytes, full


def _claimed(s: Situation) -> dict[str, list[tuple[Claim, int, int]]]:
    """By place: a claim, and what it takes there at first and when full."""
    found: dict[str, list[tuple[Claim, int, int]]] = defaultdict(list)
    for claim in s.claims:
        for name, (thin, full) in claim.stores.items():
            known = place_in(s, claim.host, name)
            if known is not None:
                found[known[0]].append((claim, thin, full))
    return found


def _others(s: Situation, claims: list[tuple[Claim, int, int]]) -> _Others:
    """What is there already counts only by what it may still grow."""
    thin = grows = planned = 0
    plans = []
    for claim, first, full in claims:
        facts = s.facts(claim.host)
        there = facts is not None and any(guest.name == claim.name for guest in facts.guests)
        if there:
            grows += max(0, full - first)
        elif claim.run:
            thin, grows = thin + first, grows + max(0, full - first)
        else:
            planned += full
            plans.append(claim)
    return _Others(thin, grows, planned, tuple(plans))
