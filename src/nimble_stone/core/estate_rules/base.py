"""What a rule is, and what it looks at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Literal, NamedTuple, TypeVar

from nimble_stone.core.estate import Estate, Facts, Host, Machine, MachineFacts, Mark, RuleSetting
from nimble_stone.core.findings import Severity
from nimble_stone.core.preparation import Action

Group = Literal[
    "reach",
    "compute",
    "memory",
    "storage",
    "network",
    "time",
    "names",
    "security",
    "leftovers",
    "machines",
]
Key = TypeVar("Key", bound=Hashable)
Made = TypeVar("Made")


class Broken(NamedTuple):
    """What a rule found: how bad, what, what to do in words, and the groundwork that does it where
    there is one.
    """

    severity: Severity
    message: str
    remedy: str = ""
    action: Action | None = None


Found = Iterator[Broken]


class Ground:
    """What rules look at: the estate with facts, the time now (epoch seconds), the runs of ours
    that may have guests, which keyring entries are private keys, the nodes that live on bare
    machines (machine → node), and where nodes are by now whose VMs were left on a lost host (mark
    of the VM → host). Bays are gathered once, so that judging is linear in the hosts for
    most rules.
    """

    def __init__(
        self,
        estate: Estate,
        now: float,
        live_runs: Collection[str] = (),
        keys: Collection[str] = (),
        living: Mapping[str, str] = MappingProxyType({}),
        homes: Mapping[Mark, str] = MappingProxyType({}),
    ) -> None:
        self.estate, self.now, self.live_runs, self.keys = estate, now, live_runs, keys
        self.living, self.homes = living, homes
        self._bays: dict[tuple[str, str], list[Facts]] = {}
        for host in sorted(estate.hosts, key=lambda h: h.name):
            facts = estate.facts.get(host.name)
            if facts is not None and known(facts):
                self._bays.setdefault((host.site, host.bay), []).append(facts)
        self._racks: dict[tuple[str, str], list[MachineFacts]] = {}
        for machine in estate.machines:
            said = estate.machine_facts.get(machine.name)
            if said is not None and said.read_at:
                self._racks.setdefault((machine.site, machine.bay), []).append(said)
        self._settings = {(setting.bay, setting.rule): setting for setting in estate.settings}
        self._usual: dict[tuple[str, str, str], object] = {}
        self.hosts = {host.name: host for host in estate.hosts}
        self.hostnames = Counter(
            facts.hostname for facts in estate.facts.values() if facts.hostname
        )
        self.machine_ids = Counter(
            facts.machine_id for facts in estate.facts.values() if facts.machine_id
        )
        self.care = {care.place: care for care in estate.stores}

    def bay_of(self, host: Host) -> list[Facts]:
        """Facts of all hosts of the same bay and site that were read."""
        return self._bays.get((host.site, host.bay), [])

    def rack_of(self, machine: Machine) -> list[MachineFacts]:
        """Facts of all machines of the same bay and site that were read."""
        return self._racks.get((machine.site, machine.bay), [])

    def setting(self, bay: str, rule: str) -> RuleSetting | None:
        """What the bay decided about a rule."""
        return self._settings.get((bay, rule))

    def limit(self, host: Host, rule: str) -> float:
        """The limit that holds for a host: its bay's own, or the rule's."""
        setting = self.setting(host.bay, rule)
        return setting.limit if setting and setting.limit is not None else LIMITS[rule]

    def once(self, host: Host, what: str, make: Callable[[], Made]) -> Made:
        """Something about a bay, worked out once however many hosts ask for it."""
        key = (host.site, host.bay, what)
        if key not in self._usual:
            self._usual[key] = make()
        return self._usual[key]  # type: ignore[return-value]

    def usual(
        self, host: Host, what: str, values: Callable[[], Iterable[Key | None]]
    ) -> Key | None:
        """What most of a bay has; the greater of two that are equally common. Worked out once per
        bay.
        """
        key = (host.site, host.bay, what)
        if key not in self._usual:
            counted = Counter(value for value in values() if value)
            self._usual[key] = max(
                counted, key=lambda value: (counted[value], str(value)), default=None
            )
        return self._usual[key]  # type: ignore[return-value]


@dataclass(frozen=True)
class Violation:
    """What is wrong with one host or machine by one rule."""

    rule: str
    host: str
    severity: Severity
    message: str
    remedy: str = ""
    action: Action | None = None
    machine: bool = False


@dataclass(frozen=True)
class HostRule:
    """A rule: what it asks for, why, how it is measured, and the function that looks. `limit` with
    its unit where a bay may set it.
    """

    id: str
    group: Group
    title: str
    why: str
    measured: str
    look: Callable[[Ground, Host, Facts], Found]
    limit: float | None = None
    unit: str = ""


@dataclass(frozen=True)
class MachineRule:
    """The same about bare machines."""

    id: str
    title: str
    why: str
    measured: str
    look: Callable[[Ground, Machine, MachineFacts], Found]
    group: Group = "machines"
    limit: float | None = None
    unit: str = ""


LIMITS: dict[str, float] = {}
"""Rule → its own limit; filled where the rules are listed."""


def known(facts: Facts | None) -> bool:
    """Whether anything was read of a host."""
    return facts is not None and facts.memory_bytes > 0


def listed(names: list[str], most: int = 3) -> str:
    """A few names, and that there are more."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
