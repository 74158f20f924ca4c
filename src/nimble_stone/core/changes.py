"""What differs between two readings of the same thing, in words. Pure; O(things). Figures that
always move (uptime, load, free bytes) are left out.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nimble_stone.core.estate import Change, Facts, MachineFacts
from nimble_stone.core.units import size_text

MOST = 60


def of_host(old: Facts, new: Facts) -> tuple[Change, ...]:
    """What changed on a host since the reading before; at most 60 things."""
    return tuple(_host(old, new))[:MOST]


def of_machine(old: MachineFacts, new: MachineFacts) -> tuple[Change, ...]:
    """What changed on a machine since the reading before."""
    return tuple(_machine(old, new))[:MOST]


def _host(old: Facts, new: Facts) -> Iterator[Change]:
    for what in (
        "hostname",
        "hypervisor",
        "kernel",
        "os",
        "cpu_model",
        "threads",
        "domain_type",
        "machine_id",
    ):
        if getattr(old, what) and getattr(old, what) != getattr(new, what):
            yield Change(
                what=what.replace("_", " "),
                was=str(getattr(old, what)),
                now=str(getattr(new, what)),
            )
    if old.memory_bytes and old.memory_bytes != new.memory_bytes:
        yield Change(
            what="memory", was=size_text(old.memory_bytes), now=size_text(new.memory_bytes)
        )
    if old.uptime_s and new.uptime_s and new.uptime_s < old.uptime_s:
        yield Change(what="it was restarted", was="", now="")
    yield from _named(
        "guest",
        {g.name: "runs" if g.running else "does not run" for g in old.guests},
        {g.name: "runs" if g.running else "does not run" for g in new.guests},
    )
    yield from _named(
        "datastore",
        {s.name: "started" if s.active else "not started" for s in old.datastores},
        {s.name: "started" if s.active else "not started" for s in new.datastores},
    )
    yield from _named(
        "network",
        {n.name: f"MTU {n.mtu}" if n.active else "not started" for n in old.networks},
        {n.name: f"MTU {n.mtu}" if n.active else "not started" for n in new.networks},
    )
    if old.interfaces and new.interfaces:
        yield from _named(
            "interface",
            {i.name: "link" if i.link else "no link" for i in old.interfaces if i.kind != "tap"},
            {i.name: "link" if i.link else "no link" for i in new.interfaces if i.kind != "tap"},
        )
    if old.disks and new.disks:
        yield from _named(
            "disk",
            {d.name: d.why or d.use for d in old.disks},
            {d.name: d.why or d.use for d in new.disks},
        )


def _machine(old: MachineFacts, new: MachineFacts) -> Iterator[Change]:
    for what in ("model", "serial", "power", "health", "boot_now"):
        if getattr(old, what) and getattr(old, what) != getattr(new, what):
            yield Change(
                what=what.replace("_", " "),
                was=str(getattr(old, what)),
                now=str(getattr(new, what)),
            )
    if old.memory_bytes and new.memory_bytes and old.memory_bytes != new.memory_bytes:
        yield Change(
            what="memory", was=size_text(old.memory_bytes), now=size_text(new.memory_bytes)
        )
    yield from _named(
        "drive", {d.name: d.health for d in old.drives}, {d.name: d.health for d in new.drives}
    )
    yield from _named(
        "firmware",
        {f.name: f.version for f in old.firmware},
        {f.name: f.version for f in new.firmware},
    )


def _named(kind: str, old: Mapping[str, str], new: Mapping[str, str]) -> Iterator[Change]:
    for name in sorted({*old, *new}):
        was, now = old.get(name), new.get(name)
        if was != now:
            yield Change(
                what=f"{kind} {name}",
                was="not there" if was is None else was,
                now="gone" if now is None else now,
            )
