"""What VMs of a kit want beyond the usual, and whether their hosts can give it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.estate import Facts
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.kit.roles import VmOptions
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.processors import Choice, by_host


@dataclass(frozen=True)
class _Wish:
    """`able`: whether the host can give it, None where it was not asked."""

    what: str
    able: bool | None
    remedy: str


def _wishes(options: VmOptions, facts: Facts) -> Iterator[_Wish]:
    if options.tpm:
        yield _Wish("a TPM", facts.tpm, "Install swtpm on it")
    if options.secure_boot:
        yield _Wish("secure boot", facts.secure_boot, "Install OVMF on it")


def offered(s: Situation) -> Iterator[Finding]:
    """Hosts that were asked and cannot give a TPM, or firmware for signed systems only."""
    told: set[str] = set()
    for node in s.sheet.nodes:
        role, facts = s.sheet.kit.role(node.role), s.facts(node.value("host"))
        if role is None or facts is None or node.on_machine:
            continue
        for wish in _wishes(role.vm, facts):
            what = f"{facts.host} {wish.what}"
            if wish.able is not False or what in told:
                continue
            told.add(what)
            yield Finding(
                severity="blocker",
                code="host-cannot-give",
                node=node.id,
                column="host",
                host=facts.host,
                message=f"{facts.host} cannot give VMs {wish.what}.",
                consequence=f"{node.name} could not be started there.",
                remedy=Remedy(label=f"{wish.remedy}, read it again, or choose another host"),
            )


def processors(s: Situation) -> Iterator[Finding]:
    """Bays whose hosts differ: which processor VMs get there, once for each bay."""
    hosts = {node.value("host"): node for node in s.sheet.nodes if not node.on_machine}
    bays = {host.name: host.bay for host in s.estate.hosts}
    told: set[str] = set()
    for name, choice in by_host(s.estate, hosts).items():
        if not choice.mixed or bays[name] in told:
            continue
        told.add(bays[name])
        node = hosts[name]
        have = ", ".join(choice.mixed[:4])
        if choice.none or _own_processor(s, node):
            yield Finding(
                severity="caution",
                code="processor-differs",
                node=node.id,
                column="host",
                host=name,
                message=f"Hosts of {bays[name]} have different processors: {have}.",
                consequence=_why(choice),
                remedy=Remedy(label="Choose hosts with the same processor"),
            )
        else:
            yield Finding(
                severity="note",
                code="processor-common",
                node=node.id,
                column="host",
                host=name,
                message=f"Hosts of {bays[name]} have different processors: {have}. VMs get"
                f" {choice.model}, which all of them have.",
                consequence="Newer instructions are not used.",
            )


def _why(choice: Choice) -> str:
    if choice.none:
        return "They have no model in common; VMs may not run on another host."
    return "VMs get that of their host; they may not run on another host."


def _own_processor(s: Situation, node: Node) -> bool:
    role = s.sheet.kit.role(node.role)
    return role is not None and role.vm.cpu == "host"
