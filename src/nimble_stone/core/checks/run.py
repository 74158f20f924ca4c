"""All rules, and running them."""

from __future__ import annotations

from nimble_stone.core.checks import (
    addressing,
    built_hosts,
    carried,
    installers,
    keys,
    live,
    machines,
    names,
    redundancy,
    separate,
    stores,
    values,
    vms,
)
from nimble_stone.core.checks.situation import Rule, Situation
from nimble_stone.core.findings import Finding, ordered

RULES: tuple[Rule, ...] = (
    values.package_fits,
    values.extra_disks,
    values.licence,
    values.counts,
    carried.roles,
    values.choices,
    values.duplicates,
    values.addresses,
    values.gateways,
    values.unknown_columns,
    values.required,
    values.secrets,
    values.role_sizes,
    values.own_sizes,
    values.equal_sizes,
    addressing.dynamic,
    addressing.given,
    addressing.frames,
    keys.ssh_keys,
    keys.certificates,
    redundancy.laid,
    redundancy.enough,
    live.hosts_known,
    machines.known,
    machines.supported,
    machines.enough,
    machines.taken,
    machines.drives,
    machines.ports,
    machines.network_boot,
    machines.idle,
    built_hosts.names,
    installers.packages,
    live.memory,
    live.vcpus,
    live.avoided,
    live.survives,
    stores.known,
    stores.room,
    stores.protected,
    live.overlays,
    live.networks,
    live.apart,
    separate.separated,
    separate.together,
    live.names_taken,
    live.answering,
    live.unasked,
    live.outside,
    live.around,
    live.fences,
    vms.offered,
    names.creatable,
    names.answered,
)


def check(situation: Situation) -> list[Finding]:
    """All findings, blockers first. Cost: O(nodes × columns + guests)."""
    return ordered([finding for rule in RULES for finding in rule(situation)])
