"""Two versions of a package side by side: what changed in what an engineer must know before moving
from one to the other.
"""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.package import descriptor as ovf
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.package.model import Envelope, Hardware, Question
from nimble_stone.core.units import size_text

Group = Literal["sizes", "questions", "networks", "disks", "devices", "licence"]
MAX_LINES = 400
_KINDS: dict[str, Literal["added", "removed", "changed"]] = {
    "insert": "added",
    "delete": "removed",
}
"""What difflib calls a change, in our words; all else is changed."""


@dataclass(frozen=True)
class Change:
    """One difference. `before` or `after` is '' when the thing is new or gone."""

    group: Group
    kind: Literal["added", "removed", "changed"]
    what: str
    before: str
    after: str


def compare(old: Contents, new: Contents) -> list[Change]:
    """Changes from `old` to `new`, grouped, in a stable order. Bare disks and images compare by
    their disks only.
    """
    groups: tuple[tuple[Group, Mapping[str, str], Mapping[str, str]], ...] = (
        ("sizes", _sizes(old.envelope), _sizes(new.envelope)),
        ("questions", _questions(old.envelope), _questions(new.envelope)),
        ("networks", _networks(old.envelope), _networks(new.envelope)),
        ("disks", _disks(old), _disks(new)),
        ("devices", _devices(old.envelope), _devices(new.envelope)),
    )
    found = [change for group, before, after in groups for change in _changes(group, before, after)]
    return found + list(_licence(old.envelope, new.envelope))


def _changes(group: Group, before: Mapping[str, str], after: Mapping[str, str]) -> list[Change]:
    found = []
    for what in [*before, *(key for key in after if key not in before)]:
        if what not in after:
            found.append(Change(group, "removed", what, before[what], ""))
        elif what not in before:
            found.append(Change(group, "added", what, "", after[what]))
        elif before[what] != after[what]:
            found.append(Change(group, "changed", what, before[what], after[what]))
    return found


def _sizes(read: Envelope | None) -> dict[str, str]:
    if read is None:
        return {}
    return {
        size.label or size.id: (
            f"{size.vcpu} vCPU, {size_text(size.memory_bytes)}{', default' if size.default else ''}"
            + (f", {size.description}" if size.description else "")
        )
        for size in ovf.sizes(read)
    }


def _questions(read: Envelope | None) -> dict[str, str]:
    return {
        q.key: rule_of(q)
        for q in (
            [*read.questions, *(q for s in read.systems for q in s.questions)] if read else []
        )
    }


def rule_of(q: Question) -> str:
    """Type, bounds, choices and default of a question in one line."""
    parts = [q.type, *(["secret"] if q.secret else []), *([] if q.asked else ["not asked"])]
    if q.low is not None or q.high is not None:
        parts.append(
            f"{q.low if q.low is not None else '…'} to {q.high if q.high is not None else '…'}"
        )
    elif q.minimum is not None or q.maximum is not None:
        parts.append(
            f"{q.minimum or 0} to {q.maximum if q.maximum is not None else '…'} characters"
        )
    if q.choices:
        parts.append("one of " + ", ".join(q.choices[:12]))
    if q.given and not q.secret:
        parts.append(f"default “{q.default[:60]}”")
    return ", ".join(parts)


def _networks(read: Envelope | None) -> dict[str, str]:
    return {n.name: n.description or "no description" for n in read.networks} if read else {}


def _disks(contents: Contents) -> dict[str, str]:
    if contents.envelope is None:
        return {
            f"disk {n}": f"{disk.kind}, {size_text(disk.capacity_bytes or 0)}"
            for n, disk in enumerate(contents.disks, 1)
        }
    return {
        d.id: (
            size_text(d.capacity_bytes)
            + (", empty" if not d.file_id else "")
            + (f", on {d.parent}" if d.parent else "")
        )
        for d in contents.envelope.disks
    }


def _devices(read: Envelope | None) -> dict[str, str]:
    found: dict[str, str] = {}
    for system in read.systems if read else ():
        standard: Hardware = system.standard
        name = f"{system.id}: " if read and len(read.systems) > 1 else ""
        found |= {
            f"{name}interface {n}": f"{nic.kind or 'any kind'} to {nic.network or 'no network'}"
            for n, nic in enumerate(standard.nics, 1)
        }
        found |= {
            f"{name}controller {c.instance}": f"{c.kind} {c.model}".strip()
            for c in standard.controllers
        }
        found[f"{name}firmware"] = system.firmware or "not said"
        found[f"{name}how values reach it"] = ", ".join(system.transports) or "not said"
    return found


def _licence(old: Envelope | None, new: Envelope | None) -> list[Change]:
    before = [line for text in (old.licences if old else ()) for line in text.splitlines()]
    after = [line for text in (new.licences if new else ()) for line in text.splitlines()]
    found: list[Change] = []
    for tag, a, b, c, d in (
        difflib.SequenceMatcher(None, before, after, autojunk=False).get_opcodes()
        if len(before) + len(after) < 20_000
        else ()
    ):
        if tag != "equal" and len(found) < MAX_LINES:
            kind = _KINDS.get(tag, "changed")
            found.append(
                Change(
                    "licence",
                    kind,
                    f"line {(a if tag != 'insert' else c) + 1}",
                    "\n".join(before[a:b]),
                    "\n".join(after[c:d]),
                )
            )
    return found
