"""Name records of nodes and virtual addresses: what a rollout creates, and the mark it leaves
(RFC 1035, RFC 3596; underscored names by RFC 8552). Pure.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from ipaddress import ip_address

from nimble_stone.core.estate import Mark
from nimble_stone.core.plan.columns import CREATE_RECORDS, RECORDS, virtual_name
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make

MARK = "_nimble-stone"


@dataclass(frozen=True)
class Named:
    """A full name, without the dot at its end, and the addresses that it shall have."""

    name: str
    addresses: tuple[str, ...]
    ttl: int = 300

    @property
    def mark_name(self) -> str:
        """Where its mark stands, as text."""
        return f"{MARK}.{self.name}"


def kind_of(address: str) -> str:
    """A or AAAA, for an address."""
    return "A" if ip_address(address).version == 4 else "AAAA"


def reverse(address: str) -> str:
    """The name under which an address is looked up (RFC 1035 section 3.5, RFC 3596 section 2.5)."""
    return ip_address(address).reverse_pointer


def mark_text(mark: Mark) -> str:
    """What the mark of a record says."""
    return f"run={mark.run} plan={mark.plan} node={mark.node}"


def wanted(node: Node) -> bool:
    """Whether this node's records are created."""
    return node.value(RECORDS) == CREATE_RECORDS


def of_node(node: Node) -> Named:
    """The node's name with the addresses of its service network."""
    found = tuple(one for one in (node.value("address"), node.value("address6")) if one)
    return Named(f"{node.name}.{node.value('domain')}".rstrip("."), found)


def virtual_names(sheet: Sheet) -> Iterator[str]:
    """Ids of the virtual addresses that get records: those with a name."""
    first = sheet.nodes[0] if sheet.nodes else None
    if first is None or not wanted(first):
        return
    for one in sheet.kit.virtual:
        if first.value(virtual_name(one.id)) and first.value(f"virtual.{one.id}"):
            yield one.id


def of_virtual(node: Node, ident: str) -> Named:
    """A virtual address with its name, in the domain of a node."""
    name = f"{node.value(virtual_name(ident))}.{node.value('domain')}".rstrip(".")
    return Named(name, (node.value(f"virtual.{ident}"),))


NAMES_S = 2.0
"""How long the records of one name take."""


def in_sequence(sheet: Sheet, steps: list[Step], pace: float) -> list[Step]:
    """The steps with those that create name records: before a node starts, or, where its address
    comes by DHCP, once that is known and before its services are waited for.
    """
    made = [
        make(
            "names",
            f"names/virtual/{ident}",
            f"Name of {ident}",
            sheet.nodes[0],
            1,
            (),
            pace * NAMES_S,
            node="",
            detail={"virtual": ident, "by": sheet.nodes[0].id},
        )
        for ident in virtual_names(sheet)
    ]
    waiting: dict[str, str] = {}
    learned = {step.node for step in steps if step.kind == "learn"}
    for node in filter(wanted, sheet.nodes):
        key, by_dhcp = f"names/{node.id}", node.id in learned
        after = (f"learn/{node.id}",) if by_dhcp else ()
        waiting[node.id] = key
        made.append(make("names", key, "Name records", node, 1, after, pace * NAMES_S))
    kinds = {node.id: "services" if node.id in learned else "start" for node in sheet.nodes}
    return [
        *made,
        *(
            replace(step, after=(*step.after, waiting[step.node]))
            if step.node in waiting and _begins(step, kinds[step.node])
            else step
            for step in steps
        ),
    ]


def _begins(step: Step, kind: str) -> bool:
    """Whether a step is what waits for the name: the services, or the first start."""
    return step.kind == kind or (kind == "start" and step.kind in ("power-on", "medium-boot"))
