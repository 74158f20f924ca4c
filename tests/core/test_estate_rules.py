"""Rules about the ground: a sound estate breaks none of them, and each is broken by exactly what it is about."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from nimble_stone.core.estate import Carried, Datastore, Estate, Facts, Guest, Host, Mark, Network
from nimble_stone.core.estate_rules import RULES, Ground, judge, reference, worst
from nimble_stone.core.units import GIB, TIB

NOW = 1_000_000.0


def facts(name: str, **more: Any) -> Facts:
    base: dict[str, Any] = {"host": name, "read_at": NOW - 60, "hostname": f"{name}.holm.example", "hypervisor": "QEMU 7.2.22", "cpu_model": "Stone-1", "threads": 48,
                            "memory_bytes": 256 * GIB, "domain_type": "kvm", "guests": (Guest(name="old", running=True, memory_bytes=16 * GIB),),
                            "datastores": (Datastore(name="shared", path="/s", capacity_bytes=4 * TIB, free_bytes=3 * TIB, shared="filer:/x"),
                                           Datastore(name=f"{name}-local", path="/l", capacity_bytes=TIB, free_bytes=TIB)),
                            "networks": (Carried(name="survey", bridge="br0", mtu=1500),)}
    return Facts(**{**base, **more})


def ground(**changed: Any) -> Ground:
    """Three like hosts in one bay; `changed` are facts of gannet."""
    names = ("gannet", "fulmar", "skua")
    hosts = tuple(Host(name=name, address=f"10.44.1.{n}", credential="c", site="Kelda", bay="main") for n, name in enumerate(names, 1))
    return Ground(Estate(hosts=hosts, networks=(Network(name="survey", subnet="10.44.20.0/24", gateway="10.44.20.1"),),
                         facts={name: facts(name, **(changed if name == "gannet" else {})) for name in names}), NOW, {"r1"})


STORE = Datastore(name="shared", path="/s", capacity_bytes=4 * TIB, free_bytes=3 * TIB, shared="filer:/x")


@pytest.mark.parametrize(("rule", "changed"), [
    ("answers", {"trouble": "no route"}), ("fresh", {"read_at": NOW - 100_000}), ("identity", {"hostname": "fulmar.holm.example"}), ("named", {"hostname": "heron.holm.example"}),
    ("virtualizes", {"domain_type": "qemu"}), ("same-version", {"hypervisor": "QEMU 6.0"}), ("same-processor", {"cpu_model": "Stone-2"}),
    ("reserve", {"guests": (Guest(name="big", running=True, memory_bytes=250 * GIB),)}), ("one-lost", {"memory_bytes": 1024 * GIB, "guests": (Guest(name="b", running=True, memory_bytes=900 * GIB),)}),
    ("has-store", {"datastores": ()}), ("stores-active", {"datastores": (STORE, STORE.model_copy(update={"name": "x", "shared": "", "active": False}))}),
    ("watermark", {"datastores": (STORE, Datastore(name="l", path="/l", capacity_bytes=TIB, free_bytes=TIB // 10))}),
    ("shared-seen", {"datastores": (Datastore(name="l", path="/l", capacity_bytes=TIB, free_bytes=TIB),)}),
    ("store-names", {"datastores": (STORE.model_copy(update={"shared": ""}),)}),
    ("networks", {"networks": ()}), ("networks-started", {"networks": (Carried(name="survey", bridge="br0", mtu=1500), Carried(name="old", bridge="br9", active=False))}),
    ("mtu", {"networks": (Carried(name="survey", bridge="br0", mtu=9000),)}),
    ("described", {"networks": (Carried(name="survey", bridge="br0", mtu=1500), Carried(name="unknown", bridge="br9"))}),
    ("leftovers", {"guests": (Guest(name="left", running=True, memory_bytes=GIB, mark=Mark(run="gone", node="n")),)}),
    ("stopped", {"guests": (Guest(name="idle", running=False, memory_bytes=GIB),)})])
def test_each_rule_is_broken_by_what_it_is_about(rule: str, changed: dict[str, Any]) -> None:
    found = [v for v in judge(ground(**changed)) if v.host == "gannet"]
    assert rule in {v.rule for v in found}
    assert all(v.message for v in found)
    assert worst(found)["gannet", rule] in ("blocker", "caution", "note")


def test_a_sound_estate_breaks_no_rule_and_every_rule_says_why_and_how() -> None:
    assert judge(ground()) == []
    assert judge(ground(guests=(Guest(name="ours", running=True, memory_bytes=GIB, mark=Mark(run="r1", node="n")),))) == []
    assert len({rule.id for rule in RULES}) == len(RULES)
    assert all(rule.title and rule.why and rule.measured for rule in RULES)


def test_the_reference_is_that_of_the_rules() -> None:
    assert (Path(__file__).parents[2] / "docs/host-rules.md").read_text() == reference()


def test_a_host_that_was_never_read_breaks_one_rule_only_and_disturbs_nobody() -> None:
    whole = ground()
    estate = whole.estate.model_copy(update={"facts": {k: v for k, v in whole.estate.facts.items() if k != "gannet"}})
    assert [(v.host, v.rule) for v in judge(Ground(estate, NOW))] == [("gannet", "answers")]
    assert judge(Ground(estate, NOW), {"fulmar"}) == []
