"""What a stand-in host holds, and its knobs. Kept in one JSON file per host, volumes as plain
files.
"""

from __future__ import annotations

import json
import os
import uuid as uuids
from dataclasses import asdict, dataclass, field, fields
from pathlib import Path
from typing import Any

from nimble_stone.lab.hypervisor import ground
from nimble_stone.lab.hypervisor.ground import Ground
from nimble_stone.lab.scenario.demo import HostPlan


@dataclass
class Knobs:
    """How a host misbehaves. Seconds, bytes per second, bytes."""

    slow_s: float = 0.0
    rate: float = 12e6
    unreachable: bool = False
    login_refused: bool = False
    full: bool = False
    cut_after: int = 0
    new_host_key: bool = False
    emulation: bool = False
    slow_kvm_s: float = 0.0
    garbage: bool = False
    no_curl: bool = False
    pull_cut_after: int = 0
    clock_s: float = 0.0
    narrow: int = 0
    walled: bool = False
    flood_mib: int = 0
    hang: bool = False
    locale: str = ""
    deaf: bool = False
    """VMs do not hear their power button."""
    older: bool = False
    """Its processor is two generations older than those of others."""


@dataclass
class LabVolume:
    """A volume. `file` holds its bytes; capacity as announced; `backing` is the path of the volume
    it builds on.
    """

    capacity: int
    form: str
    file: str
    backing: str = ""
    mode: str = "0600"


@dataclass
class LabGuest:
    """A guest. `xml` as it runs, or was defined; `stored` as it is from its next start on, '' the
    same. Bedrock guests have none of our files behind them. `data` is what its disk would keep.
    """

    name: str
    uuid: str
    xml: str
    running: bool = False
    bedrock: bool = False
    autostart: bool = False
    data: dict[str, Any] = field(default_factory=dict)
    stored: str = ""
    paused: bool = False
    why_off: str = "unknown"


@dataclass
class LabHost:
    """One host."""

    plan: HostPlan
    folder: Path
    knobs: Knobs = field(default_factory=Knobs)
    guests: dict[str, LabGuest] = field(default_factory=dict)
    visible: dict[str, set[str]] = field(default_factory=dict)
    ground: Ground = field(default_factory=Ground)
    log: list[str] = field(default_factory=list)

    def save(self) -> None:
        """Write the state, whole or not at all."""
        data = {
            "knobs": asdict(self.knobs),
            "guests": [asdict(guest) for guest in self.guests.values()],
            "visible": {pool: sorted(names) for pool, names in self.visible.items()},
            "log": self.log,
            "ground": asdict(self.ground),
        }
        path = self.folder / f"{self.plan.name}.json"
        temporary = path.with_suffix(".new")
        temporary.write_text(json.dumps(data))
        os.replace(temporary, path)

    def note(self, text: str) -> None:
        """Remember that something was really made or removed."""
        self.log.append(text)
        self.save()


class Volumes:
    """Volumes of all datastores; shared ones are the same for all hosts that see them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._index: dict[str, dict[str, LabVolume]] = {}
        index = folder / "index.json"
        if index.exists():
            for place, items in json.loads(index.read_text()).items():
                self._index[place] = {name: LabVolume(**item) for name, item in items.items()}

    def of(self, place: str) -> dict[str, LabVolume]:
        """Volumes of a place (host:pool, or the export's name)."""
        return self._index.setdefault(place, {})

    def new_file(self) -> str:
        """A file for a new volume."""
        return str(self.folder / uuids.uuid4().hex)

    def save(self) -> None:
        """Write the index, whole or not at all."""
        data = {
            place: {name: asdict(item) for name, item in items.items()}
            for place, items in self._index.items()
        }
        temporary = self.folder / "index.new"
        temporary.write_text(json.dumps(data))
        os.replace(temporary, self.folder / "index.json")


def load(plan: HostPlan, folder: Path) -> LabHost:
    """A host as it was left, or new with its bedrock running."""
    host = LabHost(plan, folder, ground=ground.new(plan))
    path = folder / f"{plan.name}.json"
    if path.exists():
        data = json.loads(path.read_text())
        known = {item.name for item in fields(Knobs)}
        host.knobs = Knobs(**{key: value for key, value in data["knobs"].items() if key in known})
        host.guests = {item["name"]: LabGuest(**item) for item in data["guests"]}
        host.visible = {pool: set(names) for pool, names in data["visible"].items()}
        host.log = data["log"]
        host.ground = ground.load(data["ground"]) if "ground" in data else ground.new(plan)
        return host
    for item in plan.bedrock:
        ident = str(uuids.uuid5(uuids.NAMESPACE_DNS, f"{item.name}.{plan.name}"))
        xml = (
            f"<domain type='kvm'><name>{item.name}</name><uuid>{ident}</uuid><memory"
            f" unit='KiB'>{item.memory_bytes >> 10}</memory><vcpu>{item.vcpu}</vcpu><devices><disk"
            f" type='volume' device='disk'><source pool='{plan.stores[-1].name}'"
            f" volume='{item.name}.qcow2'/></disk><interface type='network'><source"
            f" network='{plan.networks[0]}'/></interface></devices></domain>"
        )
        host.guests[item.name] = LabGuest(item.name, ident, xml, running=True, bedrock=True)
    return host
