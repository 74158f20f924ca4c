"""Rules about the ground: a sound estate breaks none of them, and each is broken by exactly what it
is about.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from nimble_stone.core.estate import (
    BlockDevice,
    Carried,
    Datastore,
    Drive,
    Estate,
    Facts,
    Firmware,
    Guest,
    Host,
    Interface,
    Machine,
    MachineFacts,
    Mark,
    MediaSlot,
    Network,
    Nic,
    RuleSetting,
    StoreCare,
    TimeSync,
)
from nimble_stone.core.estate import (
    Path as Way,
)
from nimble_stone.core.estate_rules import MACHINE_RULES, RULES, Ground, judge, reference, worst
from nimble_stone.core.inspection.report import InsideDisk, Inspection, Signature
from nimble_stone.core.preparation import AddNames, CarryNetwork, NfsStore, TimeSource, WipeDisk
from nimble_stone.core.units import GIB, TIB

NOW = 1_000_000.0


LINKS = (
    Interface(name="eno2", link=True, mtu=9000),
    Interface(name="br0", kind="bridge", link=True, mtu=1500, addresses=("10.44.20.5/24",)),
    Interface(
        name="eno2.420", kind="vlan", parent="eno2", vlan=420, master="br0", link=True, mtu=1500
    ),
)


def facts(name: str, **more: Any) -> Facts:
    base: dict[str, Any] = {
        "host": name,
        "read_at": NOW - 60,
        "hostname": f"{name}.holm.example",
        "hypervisor": "QEMU 7.2.22",
        "cpu_model": "Stone-1",
        "threads": 48,
        "memory_bytes": 256 * GIB,
        "domain_type": "kvm",
        "guests": (Guest(name="old", running=True, memory_bytes=16 * GIB),),
        "datastores": (
            Datastore(
                name="shared",
                path="/s",
                capacity_bytes=4 * TIB,
                free_bytes=3 * TIB,
                shared="filer:/x",
            ),
            Datastore(name=f"{name}-local", path="/l", capacity_bytes=TIB, free_bytes=TIB),
        ),
        "networks": (Carried(name="survey", bridge="br0", mtu=1500),),
        "sockets": 2,
        "virtualization": "VT-x",
        "kernel": "6.1.0-26",
        "load": 1.0,
        "interfaces": LINKS,
        "time": TimeSync(source="10.44.0.5"),
        "resolves": {"gannet": "10.44.1.1", "fulmar": "10.44.1.2", "skua": "10.44.1.3"},
        "resolvers": ("10.44.0.5",),
        "password_login": False,
        "network_setup": "networkd",
        "machine_id": f"id-{name}",
        "paths": (Way(network="survey", peer="x", address="10.44.20.9", mtu=1500, passes=True),),
        "disks": (BlockDevice(name="sdb", path="/dev/sdb", size_bytes=TIB, use="free"),),
    }
    return Facts(**{**base, **more})


def ground(**changed: Any) -> Ground:
    """Three like hosts in one bay; `changed` are facts of gannet."""
    names = ("gannet", "fulmar", "skua")
    hosts = tuple(
        Host(name=name, address=f"10.44.1.{n}", credential="key", site="Kelda", bay="main")
        for n, name in enumerate(names, 1)
    )
    return Ground(
        Estate(
            hosts=hosts,
            networks=(
                Network(name="survey", subnet="10.44.20.0/24", gateway="10.44.20.1", vlan=420),
            ),
            facts={name: facts(name, **(changed if name == "gannet" else {})) for name in names},
        ),
        NOW,
        {"r1"},
        {"key"},
    )


def without(name: str) -> tuple[Interface, ...]:
    return tuple(link for link in LINKS if link.name != name)


def link(name: str, **changed: Any) -> tuple[Interface, ...]:
    return tuple(one.model_copy(update=changed) if one.name == name else one for one in LINKS)


STORE = Datastore(
    name="shared", path="/s", capacity_bytes=4 * TIB, free_bytes=3 * TIB, shared="filer:/x"
)


@pytest.mark.parametrize(
    ("rule", "changed"),
    [
        ("answers", {"trouble": "no route"}),
        ("fresh", {"read_at": NOW - 100_000}),
        ("identity", {"hostname": "fulmar.holm.example"}),
        ("named", {"hostname": "heron.holm.example"}),
        ("virtualizes", {"domain_type": "qemu"}),
        ("same-version", {"hypervisor": "QEMU 6.0"}),
        ("same-processor", {"cpu_model": "Stone-2"}),
        ("reserve", {"guests": (Guest(name="big", running=True, memory_bytes=250 * GIB),)}),
        (
            "one-lost",
            {
                "memory_bytes": 1024 * GIB,
                "guests": (Guest(name="b", running=True, memory_bytes=900 * GIB),),
            },
        ),
        ("has-store", {"datastores": ()}),
        (
            "stores-active",
            {
                "datastores": (
                    STORE,
                    STORE.model_copy(update={"name": "x", "shared": "", "active": False}),
                )
            },
        ),
        (
            "watermark",
            {
                "datastores": (
                    STORE,
                    Datastore(name="gannet-l", path="/l", capacity_bytes=TIB, free_bytes=TIB // 10),
                )
            },
        ),
        (
            "shared-seen",
            {"datastores": (Datastore(name="l", path="/l", capacity_bytes=TIB, free_bytes=TIB),)},
        ),
        ("store-names", {"datastores": (STORE.model_copy(update={"shared": ""}),)}),
        ("networks", {"networks": ()}),
        (
            "networks-started",
            {
                "networks": (
                    Carried(name="survey", bridge="br0", mtu=1500),
                    Carried(name="old", bridge="br9", active=False),
                )
            },
        ),
        ("mtu", {"networks": (Carried(name="survey", bridge="br0", mtu=9000),)}),
        (
            "described",
            {
                "networks": (
                    Carried(name="survey", bridge="br0", mtu=1500),
                    Carried(name="unknown", bridge="br9"),
                )
            },
        ),
        (
            "leftovers",
            {
                "guests": (
                    Guest(
                        name="left", running=True, memory_bytes=GIB, mark=Mark(run="gone", node="n")
                    ),
                )
            },
        ),
        ("stopped", {"guests": (Guest(name="idle", running=False, memory_bytes=GIB),)}),
        ("identity", {"machine_id": "id-fulmar"}),
        ("rights", {"unread": ("disks: Permission denied",)}),
        ("virtualization", {"virtualization": ""}),
        ("recent", {"hypervisor": "QEMU 4.2.1"}),
        ("same-kernel", {"kernel": "5.10"}),
        ("overcommit", {"guests": (Guest(name="v", running=True, vcpu=400),)}),
        ("load", {"load": 90.0}),
        ("swap", {"swap_used_bytes": GIB}),
        ("time-source", {"time": TimeSync(source="")}),
        ("clock", {"time": TimeSync(source="10.44.0.5", offset_s=-4.0, uncertain_s=0.2)}),
        ("same-time", {"time": TimeSync(source="10.45.0.5")}),
        ("resolves", {"resolves": {"fulmar": "", "skua": "10.44.1.3"}}),
        ("resolves", {"resolves": {"fulmar": "10.9.9.9", "skua": "10.44.1.3"}}),
        ("same-resolvers", {"resolvers": ("10.45.0.5",)}),
        ("passwords", {"password_login": True}),
        (
            "remains",
            {
                "disks": (
                    BlockDevice(
                        name="sdc",
                        path="/dev/sdc",
                        size_bytes=TIB,
                        use="remains",
                        why="remains of a RAID",
                    ),
                )
            },
        ),
        (
            "store-named",
            {
                "datastores": (
                    STORE,
                    Datastore(name="default", path="/l", capacity_bytes=TIB, free_bytes=TIB),
                )
            },
        ),
        ("linked", {"interfaces": link("eno2.420", link=False)}),
        ("linked", {"interfaces": without("eno2.420")}),
        ("tagged", {"interfaces": link("eno2.420", vlan=421)}),
        ("address", {"interfaces": link("br0", addresses=())}),
        (
            "path",
            {
                "paths": (
                    Way(
                        network="survey",
                        peer="fulmar",
                        address="10.44.20.6",
                        mtu=1500,
                        passes=False,
                        words="no answer",
                    ),
                )
            },
        ),
    ],
)
def test_each_rule_is_broken_by_what_it_is_about(rule: str, changed: dict[str, Any]) -> None:
    found = [v for v in judge(ground(**changed)) if v.host == "gannet"]
    assert rule in {v.rule for v in found}
    assert all(v.message for v in found)
    assert worst(found)["gannet", rule] in ("blocker", "caution", "note")


def test_a_sound_estate_breaks_no_rule_and_every_rule_says_why_and_how() -> None:
    assert judge(ground()) == []
    assert (
        judge(
            ground(
                guests=(
                    Guest(
                        name="ours", running=True, memory_bytes=GIB, mark=Mark(run="r1", node="n")
                    ),
                )
            )
        )
        == []
    )
    assert (
        len({rule.id for rule in (*RULES, *MACHINE_RULES)}) == len(RULES) + len(MACHINE_RULES) >= 25
    )
    assert all(rule.title and rule.why and rule.measured for rule in RULES)


def test_the_reference_is_that_of_the_rules() -> None:
    assert (Path(__file__).parents[2] / "docs/host-rules.md").read_text() == reference()


def test_a_host_that_was_never_read_breaks_one_rule_only_and_disturbs_nobody() -> None:
    whole = ground()
    estate = whole.estate.model_copy(
        update={"facts": {k: v for k, v in whole.estate.facts.items() if k != "gannet"}}
    )
    assert [(v.host, v.rule) for v in judge(Ground(estate, NOW, keys={"key"}))] == [
        ("gannet", "answers")
    ]
    assert judge(Ground(estate, NOW, keys={"key"}), {"fulmar"}) == []
    assert {v.rule for v in judge(Ground(whole.estate, NOW))} == {"by-key"}


def only(found: list[Any], rule: str) -> Any:
    [one] = [v for v in found if v.rule == rule and v.host == "gannet"]
    return one


def test_a_remedy_says_exactly_what_would_be_done() -> None:
    names = only(judge(ground(resolves={"fulmar": "", "skua": "10.44.1.3"})), "resolves").action
    assert isinstance(names, AddNames)
    assert [(str(r.address), r.names) for r in names.records] == [
        ("10.44.1.2", ("fulmar.holm.example", "fulmar"))
    ]
    assert only(judge(ground(time=TimeSync(source=""))), "time-source").action == TimeSource(
        host="gannet", server="10.44.0.5"
    )
    carry = only(judge(ground(networks=())), "networks").action
    assert carry == CarryNetwork(
        host="gannet",
        network="survey",
        bridge="br-survey",
        uplink="eno2",
        vlan=420,
        mtu=1500,
        setup="networkd",
    )
    nfs = only(
        judge(
            ground(
                datastores=(
                    Datastore(name="gannet-local", path="/l", capacity_bytes=TIB, free_bytes=TIB),
                )
            )
        ),
        "shared-seen",
    ).action
    assert nfs == NfsStore(host="gannet", name="shared", server="filer", export="/x")
    disk = BlockDevice(
        name="sdc",
        path="/dev/sdc",
        size_bytes=TIB,
        serial="S1",
        use="remains",
        why="remains of a RAID",
        parts=("/dev/sdc1",),
    )
    wipe = only(judge(ground(disks=(disk,))), "remains").action
    assert wipe == WipeDisk(
        host="gannet",
        device="/dev/sdc",
        serial="S1",
        size_bytes=TIB,
        content="remains of a RAID",
        parts=("/dev/sdc1",),
    )


def test_a_bay_switches_a_rule_off_or_sets_its_limit() -> None:
    swapping = ground(swap_used_bytes=GIB).estate
    off = swapping.model_copy(
        update={
            "settings": (RuleSetting(bay="main", rule="swap", off=True, reason="an old database"),)
        }
    )
    assert "swap" not in {v.rule for v in judge(Ground(off, NOW))}
    high = swapping.model_copy(
        update={"settings": (RuleSetting(bay="main", rule="swap", limit=2048, reason="small"),)}
    )
    assert "swap" not in {v.rule for v in judge(Ground(high, NOW))}
    other = swapping.model_copy(
        update={"settings": (RuleSetting(bay="elsewhere", rule="swap", off=True, reason="x"),)}
    )
    assert "swap" in {v.rule for v in judge(Ground(other, NOW))}
    full = ground(
        datastores=(
            STORE,
            Datastore(name="gannet-local", path="/l", capacity_bytes=TIB, free_bytes=TIB // 10),
        )
    ).estate
    watched = full.model_copy(
        update={"stores": (StoreCare(place="gannet/gannet-local", watermark=0.95),)}
    )
    assert "watermark" in {v.rule for v in judge(Ground(full, NOW))}
    assert "watermark" not in {v.rule for v in judge(Ground(watched, NOW))}


def machine(name: str, **more: Any) -> MachineFacts:
    base: dict[str, Any] = {
        "machine": name,
        "read_at": NOW,
        "health": "OK",
        "memory_bytes": 256 * GIB,
        "drives": (Drive(name="d1", size_bytes=TIB, health="OK"),),
        "model": "HS-2",
        "firmware": (Firmware(name="BIOS", version="2.4"),),
        "media": (MediaSlot(id="CD1", kinds=("CD",)),),
        "nics": (Nic(name="p1", link=True),),
    }
    return MachineFacts(**{**base, **more})


@pytest.mark.parametrize(
    ("rule", "changed"),
    [
        ("bmc-answers", {"trouble": "no route"}),
        ("bmc-health", {"health": "Warning"}),
        ("bmc-health", {"drives": (Drive(name="d1", health="Critical"),)}),
        ("bmc-firmware", {"firmware": (Firmware(name="BIOS", version="2.1"),)}),
        ("bmc-alike", {"memory_bytes": 128 * GIB}),
        ("bmc-certificate", {"certificate": "expired on 2026-01-01"}),
        ("bmc-media", {"media": ()}),
        ("bmc-wired", {"nics": (Nic(name="p1", link=False),)}),
    ],
)
def test_machines_are_judged_too(rule: str, changed: dict[str, Any]) -> None:
    names = ("basalt", "flint", "gneiss")
    machines = tuple(
        Machine(name=name, address=f"10.44.9.{n}", credential="bmc", site="Kelda", bay="rack")
        for n, name in enumerate(names, 1)
    )
    sound = Estate(machines=machines, machine_facts={name: machine(name) for name in names})
    assert judge(Ground(sound, NOW)) == []
    hurt = sound.model_copy(
        update={"machine_facts": sound.machine_facts | {"basalt": machine("basalt", **changed)}}
    )
    assert {(v.rule, v.host, v.machine) for v in judge(Ground(hurt, NOW))} == {
        (rule, "basalt", True)
    }


def test_a_machine_that_boots_from_the_network_needs_no_media_and_keeps_what_a_node_needs() -> None:
    held = InsideDisk(
        device="vda",
        serial="s",
        size_bytes=TIB,
        kind="ssd",
        holds=(Signature(device="vda", kind="dos"),),
    )
    facts = machine("basalt", media=(), inside=Inspection(machine="basalt", disks=(held,)))
    one = Machine(name="basalt", address="10.44.9.1", credential="bmc", site="Kelda", bay="rack")
    where = Estate(machines=(one,), machine_facts={"basalt": facts})
    said = {v.rule for v in judge(Ground(where, NOW))}
    assert "bmc-media" in said
    net = where.model_copy(update={"machines": (one.model_copy(update={"boots": "network"}),)})
    assert "bmc-media" not in {v.rule for v in judge(Ground(net, NOW))}
    remedies = [v.remedy for v in judge(Ground(where, NOW))]
    assert "Wipe it if it is no longer needed." in remedies
    with_node = judge(Ground(where, NOW, living={"basalt": "keel-1"}))
    assert "Wipe it if it is no longer needed." not in [v.remedy for v in with_node]
