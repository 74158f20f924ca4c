"""What VMs of a kit want beyond the usual, and whether their hosts can give it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.estate import Facts
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.kit.model import VmOptions


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
