"""Chances of a run's length, the evenness of a placement against its bound, and the answers of the
command line: laws and examples.
"""

from __future__ import annotations

import itertools
import random
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import answers, checks, placement, sequence
from nimble_stone.core.chances import chances
from nimble_stone.core.checks import Situation
from nimble_stone.core.placement import Demand, Supply, fluid, place, spread
from nimble_stone.core.plan.sheet import resolve
from nimble_stone.core.sequence import Limits, forecast
from nimble_stone.core.step import Step
from tests.core import scene

GIB = 1 << 30


def step(
    key: str,
    after: tuple[str, ...] = (),
    *,
    host: str = "gannet",
    expected: float = 10.0,
    waits: bool = False,
) -> Step:
    return Step(
        key, "boot" if waits else "define", key, "", host, "", 1, after, expected, 1000.0, waits
    )


def test_the_same_seed_gives_the_same_chances_and_nine_in_ten_take_longer_than_half() -> None:
    steps = [step("a"), step("b", ("a",)), step("c", ("b",), waits=True)]
    found = chances(steps)
    assert found == chances(steps)
    assert found != chances(steps, seed=45)
    assert 20 < found.p50_seconds < found.p90_seconds < 100
    assert found.critical_path == ("a", "b", "c")
    assert chances([]).p90_seconds == 0.0


def test_limits_and_measured_rates_count() -> None:
    many = [step(f"s{n}") for n in range(12)]
    one, four = chances(many, Limits(per_host=1)), chances(many, Limits(per_host=4))
    assert one.p50_seconds > 2.5 * four.p50_seconds
    assert chances(many, measured={"define": 2.0}).p50_seconds == pytest.approx(
        2 * chances(many).p50_seconds, rel=0.01
    )
    waiting = [replace(one, waits=True) for one in many]
    # waits hold no lane
    assert chances(waiting).p50_seconds < chances(many).p50_seconds


@given(st.integers(0, 10_000))
@settings(max_examples=25)
def test_a_longer_chain_never_ends_sooner(seed: int) -> None:
    chain = [step(f"s{n}", (f"s{n - 1}",) if n else ()) for n in range(6)]
    shorter, longer = chances(chain[:4], seed=seed), chances(chain, seed=seed)
    assert longer.p50_seconds > shorter.p50_seconds
    assert longer.p90_seconds > shorter.p90_seconds


HOSTS = st.dictionaries(
    st.sampled_from([f"h{n}" for n in range(8)]),
    st.integers(16, 512).flatmap(
        lambda whole: st.tuples(
            st.just(whole * GIB), st.integers(0, whole).map(lambda used: used * GIB)
        )
    ),
    min_size=1,
    max_size=8,
)


@given(HOSTS, st.integers(0, 2000))
def test_water_stands_at_one_level_and_none_is_lost(
    hosts: dict[str, tuple[int, int]], gib: int
) -> None:
    total = gib * GIB
    level = fluid(hosts, total)
    poured = sum(max(0.0, level * whole - used) for whole, used in hosts.values())
    assert poured == pytest.approx(total, abs=1 << 20)


@given(
    HOSTS,
    st.lists(
        st.tuples(
            st.sampled_from([f"h{n}" for n in range(8)]), st.integers(1, 64).map(lambda g: g * GIB)
        ),
        max_size=20,
    ),
)
def test_no_placement_is_evener_than_the_bound(
    hosts: dict[str, tuple[int, int]], demands: list[tuple[str, int]]
) -> None:
    found = spread(hosts, demands)
    assert found.worst_load >= found.bound - 1e-6
    assert found.gap >= -1e-6


def test_a_thousand_nodes_are_placed_within_two_per_cent_of_the_bound() -> None:
    chance = random.Random(7)
    supplies = [
        Supply(
            f"h{n:03}",
            (whole := chance.choice((192, 256, 384, 512)) * GIB),
            int(whole * 0.95) - chance.randrange(int(whole * 0.35)),
            frozenset({"s"}),
        )
        for n in range(200)
    ]
    demands = [
        Demand(f"n{n:04}", chance.choice((4, 8, 16, 24, 32)) * GIB, f"role{n % 60}", "", ("s",))
        for n in range(1000)
    ]
    placed = place(demands, supplies)
    assert not placed.reasons
    found = spread(
        {s.host: (s.capacity_bytes, s.capacity_bytes - s.room_bytes) for s in supplies},
        [(placed.hosts[d.node], d.memory_bytes) for d in demands],
    )
    assert found.gap < 0.02
    groups = {(d.apart, placed.hosts[d.node]) for d in demands}
    # no two of a role on one host
    assert len(groups) == len(demands)


def test_the_answers_have_the_shape_that_others_rely_on() -> None:
    estate = scene.estate(8)
    from nimble_stone.core import yaml_text
    from nimble_stone.core.plan.model import Plan
    from nimble_stone.lab.scenario import demo

    sheet = resolve(yaml_text.read(demo.PLAN, Plan, "the plan"), scene.KIT, scene.PACKAGE, estate)
    steps = sequence.build(sheet, estate)
    found = answers.check(sheet, estate, checks.check(Situation(sheet, estate)), steps)
    assert set(found) == {"findings", "nodes", "capacity", "forecast"}
    assert all(
        set(f) == {"severity", "code", "message", "where", "remedy"} for f in found["findings"]
    )
    assert all(
        set(n)
        == {
            "name",
            "role",
            "host",
            "datastore",
            "vcpu",
            "memory_bytes",
            "disk_thin_bytes",
            "disk_full_bytes",
            "addresses",
        }
        for n in found["nodes"]
    )
    assert {c["host"] for c in found["capacity"]} == {n["host"] for n in found["nodes"]}
    for line in found["capacity"]:
        assert line["memory_free_bytes"] - line["memory_after_bytes"] == sum(
            n["memory_bytes"] for n in found["nodes"] if n["host"] == line["host"]
        )
    assert set(found["forecast"]) == {
        "expected_seconds",
        "p50_seconds",
        "p90_seconds",
        "critical_path",
    }
    assert set(found["forecast"]["critical_path"]) <= {s.key for s in steps}
    placed = answers.place(sheet, estate)
    assert set(placed) == {"assignments", "spread", "reasons"}
    assert set(placed["spread"]) == {"worst_load", "bound", "gap"}
    assert {name: one["host"] for name, one in placed["assignments"].items()} == {
        n["name"]: n["host"] for n in found["nodes"]
    }
    assert placement.spread({}, []).worst_load == 0.0


@pytest.mark.parametrize("seed", range(40))
def test_a_small_plan_is_as_even_as_any_placement_there_is(seed: int) -> None:
    """Held against every placement there is."""
    chance = random.Random(seed)
    supplies = [
        Supply(
            f"h{n}",
            (whole := chance.choice((192, 256, 384)) * GIB),
            int(whole * 0.95) - chance.randrange(int(whole * 0.35)),
        )
        for n in range(chance.randint(2, 3))
    ]
    demands = [
        Demand(f"n{n}", chance.choice((4, 8, 16, 32, 64)) * GIB)
        for n in range(chance.randint(4, 6))
    ]
    hosts = {s.host: (s.capacity_bytes, s.capacity_bytes - s.room_bytes) for s in supplies}
    least = min(
        spread(
            hosts, [(host, d.memory_bytes) for d, host in zip(demands, chosen, strict=True)]
        ).worst_load
        for chosen in itertools.product(hosts, repeat=len(demands))
        if all(
            sum(d.memory_bytes for d, host in zip(demands, chosen, strict=True) if host == s.host)
            <= s.room_bytes
            for s in supplies
        )
    )
    placed = place(demands, supplies)
    assert not placed.reasons
    assert (
        spread(hosts, [(placed.hosts[d.node], d.memory_bytes) for d in demands]).worst_load
        <= least * 1.005
    )
    assert place(demands, supplies) == placed


def test_hosts_without_hardware_virtualization_are_given_time() -> None:
    where = scene.estate()
    sheet = scene.sheet(where)
    lead = sheet.nodes[0].value("host")
    slow = {
        step.key: step
        for step in sequence.build(sheet, scene.with_facts(where, lead, domain_type="qemu"))
    }
    quick = {step.key: step for step in sequence.build(sheet, where)}
    for key in ("boot/lead-1", "services/lead-1"):
        assert slow[key].deadline_s == 3 * quick[key].deadline_s
        assert slow[key].expected_s == 3 * quick[key].expected_s
    assert slow["boot/archive-1"] == quick["boot/archive-1"]


def test_nodes_without_a_host_do_not_wait_for_each_other_as_if_on_one() -> None:
    """Two lanes a host: forty steps of one second on no host yet take what forty hosts would take,
    not twenty seconds.
    """

    def steps(host: str) -> list[Step]:
        return [
            Step(f"medium/{n}", "medium", "Medium", f"n-{n}", host, "", 1, (), 1.0, 120.0)
            for n in range(40)
        ]

    limits = Limits(per_host=2, overall=20)
    assert forecast(steps(""), limits).end_s == 2.0
    assert forecast(steps("skua"), limits).end_s == 20.0
    assert chances(steps(""), limits).p50_seconds < 5 < chances(steps("skua"), limits).p50_seconds
