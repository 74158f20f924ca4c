"""Which processor VMs get: one that every host of a bay can give them, so that they run on any.
Pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from nimble_stone.core.estate import Estate, Facts, Host

GENERATIONS = (
    *("Opteron_G1", "Opteron_G2", "Conroe", "Opteron_G3", "Penryn"),
    *("Nehalem", "Nehalem-IBRS", "Westmere", "Westmere-IBRS", "Opteron_G4"),
    *("SandyBridge", "SandyBridge-IBRS", "Opteron_G5", "IvyBridge", "IvyBridge-IBRS"),
    *("Haswell-noTSX", "Haswell-noTSX-IBRS", "Haswell", "Haswell-IBRS"),
    *("Broadwell-noTSX", "Broadwell-noTSX-IBRS", "Broadwell", "Broadwell-IBRS"),
    *("Skylake-Client", "Skylake-Client-noTSX-IBRS", "Skylake-Client-IBRS"),
    *("Skylake-Server", "Skylake-Server-noTSX-IBRS", "Skylake-Server-IBRS"),
    *("EPYC", "EPYC-IBPB", "Dhyana", "Cascadelake-Server-noTSX", "Cascadelake-Server"),
    *("Cooperlake", "EPYC-Rome", "Icelake-Client-noTSX", "Icelake-Client", "Snowridge"),
    *("Icelake-Server-noTSX", "Icelake-Server", "EPYC-Milan", "SapphireRapids", "EPYC-Genoa"),
    *("SierraForest", "GraniteRapids", "EPYC-Turin"),
)
"""The hypervisor's named models, the oldest first. Others are emulations or older still."""
_RANK = {name: number for number, name in enumerate(GENERATIONS)}
HOST_MODEL = ""
"""Each host's own model, as far as its hypervisor can offer it: all of them are the same."""


@dataclass(frozen=True)
class Choice:
    """What VMs of a bay get: a named `model`, or HOST_MODEL. `mixed`: its hosts differ, by their
    processors' names; `none`: they have no model in common.
    """

    model: str
    mixed: tuple[str, ...] = ()
    none: bool = False


def newest(models: Iterable[str]) -> str:
    """The newest of some named models; '' when none of them is known here."""
    return max((one for one in models if one in _RANK), key=_RANK.__getitem__, default="")


def choose(bay: Iterable[Facts]) -> Choice:
    """For the hosts of a bay that run VMs with hardware support; those that were not asked do not
    count. Cost: O(hosts × models).
    """
    known = [one for one in bay if one.domain_type == "kvm" and one.vm_processors]
    offered = {frozenset(one.vm_processors) for one in known}
    names = tuple(sorted({one.cpu_model for one in known}))
    if len(offered) <= 1 and len(names) <= 1:
        return Choice(HOST_MODEL)
    common = newest(frozenset.intersection(*offered))
    return Choice(common, names, none=not common)


def by_host(estate: Estate, names: Iterable[str]) -> Mapping[str, Choice]:
    """Host → what VMs get there. Each bay is looked at once."""
    found: dict[str, Choice] = {}
    bays: dict[tuple[str, str], Choice] = {}
    wanted = set(names)
    for host in (one for one in estate.hosts if one.name in wanted):
        bay = (host.site, host.bay)
        if bay not in bays:
            bays[bay] = choose(_facts(estate, host))
        found[host.name] = bays[bay]
    return found


def _facts(estate: Estate, host: Host) -> list[Facts]:
    near = [one.name for one in estate.bay(host.bay) if one.site == host.site]
    return [estate.facts[name] for name in near if name in estate.facts]
