"""The demonstration scene as values, for tests of the core: no file, no socket."""

from __future__ import annotations

import hashlib
from typing import Any

from nimble_stone.app.kits import load_kits
from nimble_stone.core import checks, sequence, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.estate import Carried, Datastore, Estate, Facts, Guest
from nimble_stone.core.findings import Finding
from nimble_stone.core.package import descriptor
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import PackageView, Sheet, resolve
from nimble_stone.lab.scenario import appliance, demo

KIT = load_kits()["gauge-collector"]
DESCRIPTOR = descriptor.parse(appliance.descriptor(40 << 30, 1000).encode())
PACKAGE = PackageView("a" * 64, DESCRIPTOR, 30 << 20)
LICENCE = hashlib.sha256(DESCRIPTOR.licences[0].encode()).hexdigest()


def facts_of(host: demo.HostPlan) -> Facts:
    return Facts(
        host=host.name,
        read_at=1.0,
        hostname=host.name,
        threads=host.threads,
        memory_bytes=host.memory_bytes,
        domain_type="kvm",
        datastores=tuple(
            Datastore(
                name=s.name,
                path=f"/{s.name}",
                capacity_bytes=s.capacity_bytes,
                free_bytes=s.free_bytes,
                shared=s.shared,
            )
            for s in host.stores
        ),
        networks=tuple(Carried(name=name, bridge=f"br-{name}") for name in host.networks),
        guests=tuple(
            Guest(name=g.name, running=True, vcpu=g.vcpu, memory_bytes=g.memory_bytes)
            for g in host.bedrock
        ),
    )


def estate(more: int = 0) -> Estate:
    lab = demo.plan(more)
    return Estate(
        **dict(demo.estate_file(lab)), facts={host.name: facts_of(host) for host in lab.hosts}
    )


def plan(**changes: Any) -> Plan:
    text = demo.PLAN + f"licence: {{by: mira, at: 2026-11-23T10:00:00Z, text: {LICENCE}}}\n"
    text = yaml_text.edit(text, ("values", "admin_password"), "keyring:p")
    for path, value in changes.items():
        text = yaml_text.edit(text, tuple(path.split("__")), value)
    return yaml_text.read(text, Plan, "the plan")


def sheet(where: Estate | None = None, **changes: Any) -> Sheet:
    return resolve(plan(**changes), KIT, PACKAGE, where or estate())


def situation(
    where: Estate | None = None, *, more: dict[str, Any] | None = None, **changes: Any
) -> Situation:
    where = where or estate()
    values: dict[str, Any] = {"verdicts": {"keyring:p": ()}, "licence_sha256": LICENCE} | (
        more or {}
    )
    return Situation(sheet(where, **changes), where, **values)


def findings(
    where: Estate | None = None, *, more: dict[str, Any] | None = None, **changes: Any
) -> list[Finding]:
    return checks.check(situation(where, more=more, **changes))


def codes(*args: Any, **kwargs: Any) -> set[str]:
    return {finding.code for finding in findings(*args, **kwargs)}


def with_facts(where: Estate, host: str, **changes: Any) -> Estate:
    return where.model_copy(
        update={"facts": where.facts | {host: where.facts[host].model_copy(update=changes)}}
    )


__all__ = [
    "DESCRIPTOR",
    "KIT",
    "LICENCE",
    "PACKAGE",
    "codes",
    "estate",
    "findings",
    "plan",
    "sequence",
    "sheet",
    "situation",
    "with_facts",
]
