"""Plans whose nodes live on bare machines: chosen machines, drives and ports, what is said of them,
and the sequence.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import checks, drive_choice, sequence, storage_layout
from nimble_stone.core.change_sequence import of_change, wiped_drives
from nimble_stone.core.checks import Claim, Situation
from nimble_stone.core.deployment import Part, Wanted, built, changes
from nimble_stone.core.estate import (
    Drive,
    Estate,
    Machine,
    MachineFacts,
    MediaSlot,
    Processor,
)
from nimble_stone.core.findings import Finding
from nimble_stone.core.inspection.report import InsideDisk, InsideNic, Inspection, Signature
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.marks import drive_mark
from nimble_stone.core.plan import machine_places, redundancy
from nimble_stone.core.plan.columns import SYSTEM_DRIVE, data_drives
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import PackageView, Sheet, resolve
from nimble_stone.core.units import GIB
from tests.core.test_resolution import ESTATE, KITS, PACKAGES

BAY = "iron"
PACKAGE = replace(PACKAGES["ballast"], sha256="b" * 64)
SECOND = replace(PACKAGE.descriptor.disks[0], id="second")


def disk(serial: str, gib: int = 1000, kind: str = "ssd", holds: str = "") -> InsideDisk:
    signs = (Signature(device=serial, kind=holds),) if holds else ()
    return InsideDisk(device=serial, serial=serial, size_bytes=gib * GIB, kind=kind, holds=signs)


def machine(name: str, *disks: InsideDisk, **more: Any) -> MachineFacts:
    nics = tuple(
        InsideNic(name=f"ens{n}", mac=f"52:54:00:00:{abs(hash(name)) % 90:02d}:{n:02d}", link=n < 3)
        for n in range(1, 4)
    )
    values: dict[str, Any] = {
        "read_at": 1.0,
        "power": "Off",
        "memory_bytes": 64 * GIB,
        "media": (MediaSlot(id="1", kinds=("CD",)),),
        "inside": Inspection(machine=name, threads=16, disks=disks, nics=nics),
    }
    return MachineFacts(machine=name, **(values | more))


def estate(*facts: MachineFacts) -> Estate:
    machines = tuple(
        Machine(name=one.machine, address="10.44.3.1", credential="c", site="Kelda", bay=BAY)
        for one in facts
    )
    return ESTATE.model_copy(
        update={"machines": machines, "machine_facts": {one.machine: one for one in facts}}
    )


def sheet(
    where: Estate,
    *,
    kit: Kit = KITS["ballast"],
    package: PackageView = PACKAGE,
    **changes: Any,
) -> Sheet:
    values = {"on": "machines", "pool": "kelda-survey", "net.copying.pool": "kelda-storage"}
    document = {"nimble-stone": "plan/1", "name": "keel", "kit": "ballast", "bay": BAY} | changes
    document["values"] = values | changes.get("values", {})
    return resolve(Plan.model_validate(document), kit, package, where)


def told(found: Sheet, where: Estate, **more: Any) -> dict[str, Finding]:
    return {one.code: one for one in checks.check(Situation(found, where, **more))}


def three(*extra: InsideDisk, **more: Any) -> Estate:
    return estate(
        *(
            machine(name, disk(f"{name}-s", 200), disk(f"{name}-1"), disk(f"{name}-2"), *extra)
            for name in ("basalt", "chert")
        ),
        machine("slate", disk("slate-s", 200), disk("slate-1"), disk("slate-2"), **more),
    )


def racked(**racks: str) -> Estate:
    """Machines of a kind, by name, in these racks."""
    found = estate(*(machine(name, disk(f"{name}-s", 200), disk(f"{name}-1")) for name in racks))
    machines = tuple(one.model_copy(update={"rack": racks[one.name]}) for one in found.machines)
    return found.model_copy(update={"machines": machines})


RACKS = {"basalt": "K1", "chert": "K1", "flint": "K2", "schist": "", "slate": "K3"}


@pytest.mark.parametrize("must", [True, False])
def test_machines_are_chosen_by_their_racks(must: bool) -> None:
    rule = {"separate": [{"roles": ["storage"], "by": "rack", "must": must}]}
    by = {"placement": rule, "roles": {"storage": {"count": 3}}}
    where = racked(**RACKS)
    found = sheet(where, **by)
    assert [node.value("host") for node in found.nodes] == ["basalt", "flint", "slate"]
    assert not {"separate", "separate-wish"} & set(told(found, where))
    # without a rule: in the order of their names
    plain = [node.value("host") for node in sheet(where, roles=by["roles"]).nodes]
    assert plain == ["basalt", "chert", "flint"]
    # what a person chose counts, also for a later node; so does where one stands already
    last = found.nodes[2].id
    given = sheet(where, **by, nodes={last: {"host": "flint"}})
    assert [node.value("host") for node in given.nodes] == ["basalt", "slate", "flint"]
    kit, plan = found.kit, found.plan
    stands = resolve(plan, kit, PACKAGE, where, prefer={last: "chert"})
    assert [node.value("host") for node in stands.nodes] == ["flint", "slate", "chert"]
    # a machine whose rack nobody knows comes after those that are apart, and before none
    few = racked(**{name: rack for name, rack in RACKS.items() if rack != "K3"})
    short = sheet(few, **by)
    assert {node.value("host") for node in short.nodes} == {"basalt", "chert", "flint"}


def test_each_node_gets_a_machine_its_drives_and_ports() -> None:
    where = three()
    found = sheet(where)
    assert [node.value("host") for node in found.nodes] == ["basalt", "chert", "slate"]
    first = found.nodes[0]
    assert first.on_machine
    assert first.value(SYSTEM_DRIVE) == "basalt-s"
    assert first.value(data_drives("data")) == "basalt-1, basalt-2"
    assert (first.value("disk.data"), first.value("disk.data.count")) == ("1000", "2")
    assert first.value("port") != first.value("net.copying.port")
    assert {first.cells[c].origin for c in ("datastore", "provisioning")} == {"unused"}
    assert first.by_store == {}
    codes = set(told(found, where))
    assert not {code for code in codes if code.startswith(("machine", "drive", "port", "host"))}
    # what is stored is computed from exactly these drives
    layout = redundancy.current(found)
    assert layout is not None
    assert layout.raw_bytes == 3 * 2 * 1000 * GIB


def test_a_drive_that_holds_something_is_never_chosen_silently() -> None:
    where = estate(machine("basalt", disk("old", 100, holds="ext4"), disk("new", 200)))
    found = sheet(where)
    assert found.nodes[0].value(SYSTEM_DRIVE) == "new"
    typed = sheet(where, nodes={"storage-1": {"system.drive": "old"}})
    message = told(typed, where)["drive-holds"]
    assert message.severity == "blocker"
    assert message.message == "Drive old of basalt holds old ext4."


def test_what_stands_in_the_way_is_told() -> None:
    where = three(power="On")
    assert told(sheet(where), where)["machine-on"].message == "slate is on."
    where = three(inside=None)
    assert sheet(where).unplaced == {
        "storage-3": "slate does not tell its memory, threads or drives: inspect it"
    }
    listed = (Drive(name="Bay 1", size_bytes=200 * GIB, kind="SSD", serial="S1"),)
    processors = (Processor(threads=16),)
    where = three(inside=None, drives=listed, processors=processors)
    assert told(sheet(where), where)["machine-not-inspected"].message == "Not inspected: slate."
    where = three(memory_bytes=2 * GIB)
    # it is not chosen; named, it is told
    assert sheet(where).unplaced.keys() == {"storage-3"}
    named = sheet(where, nodes={"storage-3": {"host": "slate"}})
    assert "2 GiB of 8 GiB memory" in told(named, where)["machine-small"].message
    where = three(trouble="it does not answer")
    assert told(sheet(where), where)["machine-silent"].message == "slate: it does not answer."
    where = three()
    wrong = sheet(where, values={"disk.data.rule": "both floppies"})
    assert told(wrong, where)["drive-rule"].remedy is not None
    twice = sheet(
        where, nodes={"storage-1": {"system.drive": "basalt-1", "disk.data.drives": "basalt-1"}}
    )
    assert "for two purposes" in told(twice, where)["drive-twice"].message
    gone = sheet(where, nodes={"storage-1": {"host": "basalt", "system.drive": "nowhere"}})
    assert told(gone, where)["drive-unknown"].node == "storage-1"
    port = sheet(where, nodes={"storage-1": {"port": "52:54:00:ff:ff:ff"}})
    assert told(port, where)["port-unknown"].column == "port"
    same = sheet(where, nodes={f"storage-{n}": {"host": "basalt"} for n in (1, 2)})
    assert "are both on basalt" in told(same, where)["machine-twice"].message


def test_what_cannot_be_done_on_machines_is_told_before_anything_is_written() -> None:
    where = three()
    survive = sheet(where, placement={"survive": 1})
    assert told(survive, where)["machine-stays"].severity == "caution"
    two = replace(PACKAGE.descriptor, disks=(*PACKAGE.descriptor.disks, SECOND))
    two = replace(two, disk_order=(*two.disk_order, SECOND.id))
    found = sheet(where, package=replace(PACKAGE, descriptor=two))
    assert "has 2 disks with content" in told(found, where)["machine-image"].message
    kit = KITS["ballast"].model_copy(update={"takes": ("dhcp",)})
    leased = sheet(where, kit=kit, values={"addressing": "dhcp"})
    assert told(leased, where)["machine-dhcp"].severity == "blocker"
    codes = set(told(sheet(where), where))
    assert not codes & {"machine-stays", "machine-image", "machine-dhcp"}


def test_every_machine_is_told_as_a_place_for_a_node() -> None:
    where = estate(
        machine("basalt", disk("b-1"), memory_bytes=2 * GIB),
        machine("chert", disk("c-1")),
        machine("flint", disk("f-1"), media=()),
        machine("slate", disk("s-1")),
        machine("tuff", disk("t-1", holds="ext4")),
    )
    found = sheet(where, roles={"storage": {"count": 2}})
    told_of = {
        one.host: (one.fits, one.here, one.reason)
        for one in machine_places.places(found, where, found.nodes[0])
    }
    assert told_of == {
        "chert": (True, True, ""),
        "basalt": (False, False, "has 2 GiB of memory, 8 GiB needed"),
        "flint": (False, False, "has no virtual media"),
        "slate": (False, False, "carries keel-sto-2"),
        "tuff": (False, False, "has no empty drive for the system"),
    }
    # one on each that an image can be brought to
    assert len(sheet(where).nodes) == 4
    # a rule that only one of them keeps leads there
    where = estate(machine("basalt", disk("b", kind="hdd")), machine("slate", disk("s")))
    ruled = sheet(where, roles={"storage": {"count": 1}}, values={"system.rule": "ssd"})
    assert ruled.nodes[0].value("host") == "slate"


def test_two_plans_do_not_have_one_machine() -> None:
    where = three()
    found = sheet(where, nodes={"storage-1": {"host": "slate"}})
    stands = (Claim("r1", "other", "x-1", host="slate"),)
    planned = (Claim("", "other", "x-1", host="slate"),)
    assert told(found, where, claims=stands)["machine-taken"].severity == "blocker"
    assert told(found, where, claims=planned)["machine-taken"].severity == "caution"


def test_idle_drives_are_seen_and_offered() -> None:
    where = three()
    found = sheet(where, values={"disk.data.rule": "1 ssd"})
    idle = told(found, where)["drives-idle"]
    assert idle.message == "basalt and 2 more machines: 3 empty drives unused."
    assert idle.remedy is not None
    assert idle.remedy.edit is not None
    assert (idle.remedy.edit.path, idle.remedy.edit.value) == (("values", "disk.data.rule"), "all")
    assert "drives-idle" not in told(sheet(where), where)


def test_the_sequence_unpacks_once_and_each_machine_boots_twice() -> None:
    where = three()
    steps = sequence.build(sheet(where), where)
    kinds = [step.kind for step in steps if step.node in ("", "storage-1")]
    assert kinds[:10] == [
        "unpack",
        "insert",
        "medium-boot",
        "write",
        "eject",
        "seed",
        "power-on",
        "boot",
        "services",
        "unseed",
    ]
    assert sum(step.kind == "unpack" for step in steps) == 1
    assert not {step.kind for step in steps} & {"carry", "clone", "define", "start"}
    known = {step.key for step in steps}
    assert all(set(step.after) <= known for step in steps)


MACHINES = st.lists(
    st.lists(
        st.tuples(st.integers(1, 9), st.sampled_from(("ssd", "hdd", "nvme")), st.booleans()),
        max_size=6,
    ),
    min_size=1,
    max_size=5,
)


@settings(max_examples=60, deadline=None)
@given(
    MACHINES,
    st.sampled_from(("all", "1", "2 ssd", "3 largest", "2 smallest hdd", "all from 300 GiB")),
    st.integers(1, 6),
)
def test_whatever_the_machines_have_no_drive_serves_twice(
    drives: list[list[tuple[int, str, bool]]], rule: str, count: int
) -> None:
    facts = [
        machine(
            f"m{m}",
            *(
                disk(f"m{m}d{d}", size * 100, kind, "ext4" if held else "")
                for d, (size, kind, held) in enumerate(own)
            ),
        )
        for m, own in enumerate(drives)
    ]
    where = estate(*facts)
    found = sheet(where, values={"disk.data.rule": rule}, roles={"storage": {"count": count}})
    placed = [node for node in found.nodes if node.value("host")]
    assert len({node.value("host") for node in placed}) == len(placed)
    assert len(placed) + len(found.unplaced) == count
    raw = 0
    for node in placed:
        there = {
            d.serial: d for d in drive_choice.drives_of(where.machine_facts[node.value("host")])
        }
        data = drive_choice.serials(node.value(data_drives("data")))
        used = [node.value(SYSTEM_DRIVE), *data]
        assert len(set(used)) == len(used)
        assert all(there[serial].free for serial in used if serial)
        sizes = [there[serial].size_bytes for serial in data]
        assert int(node.value("disk.data.count") or 0) == len(data)
        assert int(node.value("disk.data")) * GIB == min(sizes, default=0)
        raw += len(data) * min(sizes, default=0)
    layout = redundancy.current(found)
    assert (layout.raw_bytes if layout else 0) == raw
    scheme = layout.scheme if layout else storage_layout.Scheme(1, 1)
    assert scheme.width == 2


def wired(name: str, ports: int) -> MachineFacts:
    nics = tuple(
        InsideNic(name=f"ens{n}", mac=f"52:54:00:0a:00:0{n}", link=True)
        for n in range(1, ports + 1)
    )
    disks = (disk(f"{name}-s", 200), disk(f"{name}-1"))
    return machine(name, inside=Inspection(machine=name, threads=16, disks=disks, nics=nics))


def test_a_bond_takes_two_ports_and_a_vlan_shares_them() -> None:
    where = estate(wired("basalt", 2))
    bonded = {"bond": "active-backup", "net.copying.vlan": "112", "net.copying.bond": "none"}
    found = sheet(where, values=bonded)
    both = "52:54:00:0a:00:01, 52:54:00:0a:00:02"
    assert found.nodes[0].value("port") == both
    assert found.nodes[0].value("net.copying.port") == both
    assert found.nodes[0].value("net.copying.bond") == "active-backup"
    assert not {code for code in told(found, where) if code.startswith(("port", "bond"))}
    # with ports enough each network has its own
    rich = estate(wired("basalt", 4))
    own = sheet(rich, values={"bond": "802.3ad", "net.copying.bond": "802.3ad"})
    assert own.nodes[0].value("net.copying.port") == "52:54:00:0a:00:03, 52:54:00:0a:00:04"


def test_ports_that_do_not_go_together_are_told() -> None:
    where = estate(wired("basalt", 3))
    one, two = "52:54:00:0a:00:01", "52:54:00:0a:00:02"
    cases = {
        "bond-short": {"port": one, "bond": "802.3ad"},
        "bond-missing": {"port": f"{one}, {two}"},
        "port-twice": {"port": one, "net.copying.port": one},
        "port-unknown": {"port": "52:54:00:0a:00:09"},
    }
    for code, values in cases.items():
        found = told(sheet(where, nodes={"storage-1": values}), where)
        assert found[code].severity == "blocker", code
    apart = {"port": one, "net.copying.port": one, "net.copying.vlan": "7"}
    assert "port-twice" not in told(sheet(where, nodes={"storage-1": apart}), where)


def test_a_machine_that_boots_from_the_network_needs_a_server_that_answers() -> None:
    where = estate(machine("basalt", disk("b-s", 200), disk("b-1")))
    net = tuple(one.model_copy(update={"boots": "network"}) for one in where.machines)
    where = where.model_copy(update={"machines": net})
    found = sheet(where, nodes={"storage-1": {"host": "basalt"}})
    assert "network-boot" not in told(found, where)
    message = told(found, where, no_network_boot="it does not answer there")["network-boot"]
    assert message.message == "basalt cannot boot from the network: it does not answer there."
    assert message.severity == "blocker"


def test_a_drive_that_was_installed_from_here_says_as_what() -> None:
    for node, words in (
        ("storage-1", "installed as keel-sto-1"),
        ("storage-9", "installed here for another node"),
    ):
        old = InsideDisk(
            device="sda",
            serial="old",
            size_bytes=100 * GIB,
            kind="ssd",
            holds=(Signature(device="sda2", kind="ext4", label=drive_mark("keel", node)),),
        )
        where = estate(machine("basalt", old, disk("new", 200)))
        found = sheet(where, nodes={"storage-1": {"system.drive": "old"}})
        assert words in told(found, where)["drive-holds"].message


def drives(node: str, where: Estate, wanted: Wanted, **planned: Any) -> tuple[str, ...]:
    """What a change of three nodes wipes of one of them, whatever it holds."""
    stands = built([Part("r1", sheet(where).nodes, frozenset(STORAGE))])
    here = sheet(where, **planned)
    found = changes(here, stands, wanted)
    sizes = drive_choice.sizes(where.machine_facts.values())
    steps = of_change(here, found, sequence.build(here, where), drives=sizes)
    return wiped_drives(steps).get(node, ())


STORAGE = ("storage-1", "storage-2", "storage-3")


def test_a_node_made_again_wipes_its_own_drives_and_no_others() -> None:
    """One more drive was put into its machine since."""
    where = three(disk("late", 100, holds="ext4"))
    own = sheet(where).by_id["storage-2"]
    wiped = drives("storage-2", where, Wanted(remade=("storage-2",)))
    assert wiped == (own.value(SYSTEM_DRIVE), *own.extra_places)
    assert "late" not in wiped
    assert drives("storage-1", where, Wanted(remade=("storage-2",))) == ()


def test_on_another_machine_nothing_is_wiped_unseen() -> None:
    where = estate(
        *three().machine_facts.values(),
        machine("tuff", disk("tuff-s", 200), disk("tuff-1"), disk("tuff-2")),
    )
    stands = built([Part("r1", sheet(where).nodes, frozenset(STORAGE))])
    nodes = {ident: {"host": stands[ident].node.value("host")} for ident in STORAGE}
    planned = {"nodes": nodes | {"storage-2": {"host": "tuff"}}}
    assert drives("storage-2", where, Wanted(), **planned) == ()
    found = changes(sheet(where, **planned), stands)
    assert found.remade == ("storage-2",)
    assert found.differs == ()


def test_another_version_is_written_to_the_system_drive_only() -> None:
    """The node stays in its cluster, so nobody is told that it leaves."""
    where = three()
    before = sheet(where)
    packages = before.packages
    newer = sheet(where, package=replace(PACKAGE, sha256="c" * 64))
    stands = built([Part("r1", before.nodes, frozenset(STORAGE), packages=packages)])
    found = changes(newer, stands)
    assert {one.way for one in found.upgrades} == {"drive"}
    assert set(found.rewritten) == set(found.remade) == set(STORAGE)
    sizes = drive_choice.sizes(where.machine_facts.values())
    steps = of_change(newer, found, sequence.build(newer, where), drives=sizes)
    assert not [step for step in steps if step.kind == "leave"]
    assert wiped_drives(steps) == {node.id: (node.value(SYSTEM_DRIVE),) for node in before.nodes}
    told = {one.code for one in checks.check(Situation(newer, where, changes=found))}
    assert "leaving-unknown" not in told


def test_another_version_on_another_machine_begins_anew() -> None:
    """Its data drives stay where they are, so the node leaves its cluster like any other."""
    where = estate(
        *three().machine_facts.values(),
        machine("tuff", disk("tuff-s", 200), disk("tuff-1"), disk("tuff-2")),
    )
    before = sheet(where)
    stands = built([Part("r1", before.nodes, frozenset(STORAGE), packages=before.packages)])
    nodes = {ident: {"host": stands[ident].node.value("host")} for ident in STORAGE}
    planned = {"nodes": nodes | {"storage-2": {"host": "tuff"}}}
    newer = sheet(where, package=replace(PACKAGE, sha256="c" * 64), **planned)
    found = changes(newer, stands)
    ways = {one.node: one.way for one in found.upgrades}
    assert ways == {"storage-1": "drive", "storage-2": "again", "storage-3": "drive"}
    steps = of_change(newer, found, sequence.build(newer, where))
    assert [step.node for step in steps if step.kind == "leave"] == ["storage-2"]


def test_what_a_lost_machine_carried_is_given_up_by_its_own_plan_first() -> None:
    where = three()
    here = sheet(where)
    stands = built([Part("r1", here.nodes, frozenset(STORAGE))])
    node = stands["storage-2"].node

    def said(wanted: Wanted, *claims: Claim) -> list[str]:
        found = changes(here, stands, wanted)
        on_built = {node.name: ("by-hand",)}
        situation = Situation(here, where, claims, changes=found, on_built=on_built)
        told = [one for one in checks.check(situation) if one.code == "host-carries"]
        return [f"{one.message} {one.remedy.label}" for one in told if one.remedy]

    again, lost = Wanted(remade=("storage-2",)), Wanted(lost=(node.value("host"),))
    other = Claim("r9", "mast", "mast-1", host=node.name)
    assert said(again) == [
        f"{node.name} is a host of the estate and has by-hand."
        f" Empty host {node.name} first, then refresh it"
    ]
    assert said(lost) == []
    assert said(lost, other) == [
        f"{node.name} is a host of the estate and has mast-1."
        f" Give {node.name} up as lost in the plans of these VMs first"
    ]
