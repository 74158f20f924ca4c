"""The computations a design rests on: sizing, storage layout, headroom, why and balance,
differences: laws and examples.
"""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.app.kits import load_kits
from nimble_stone.core import headroom, placement_why, sizing, storage_layout
from nimble_stone.core.errors import InputError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.placement import Demand, Placement, Supply, place, spread
from nimble_stone.core.plan.difference import differences
from nimble_stone.core.storage_layout import DataDisk, Scheme
from tests.core import scene
from tests.core.test_resolution import sheet_of

GIB = 1 << 30
SIZES = scene.DESCRIPTOR.sizes


# --- sizing ---


def test_the_least_memory_that_carries_the_load_is_proposed_and_the_next_smaller_is_told() -> None:
    lead, archive, relay = sizing.propose(scene.KIT, SIZES, {"gauges": 500, "years": 2})
    assert (lead.chosen and (lead.chosen.size, lead.chosen.count)) == ("small", 1)
    assert archive.chosen is not None
    assert archive.chosen.carries["gauges"] >= 500
    assert archive.refused is not None
    assert archive.refused.memory_bytes < archive.chosen.memory_bytes
    assert archive.refused.carries["gauges"] < 500
    assert "of 500 gauges" in archive.reason
    assert (relay.chosen and relay.chosen.count) == 3
    assert "smaller will not do" in sizing.words(archive)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 60_000), st.integers(1, 10))
def test_a_proposal_carries_what_was_asked_and_nothing_smaller_does(
    gauges: int, years: int
) -> None:
    archive = sizing.propose(scene.KIT, SIZES, {"gauges": gauges, "years": years})[1]
    role = scene.KIT.role("archive")
    assert role is not None
    if archive.chosen is None:
        assert 600 * (role.count.most - 1) / max(1, years / 2) < gauges
        return
    assert role.count.allows(archive.chosen.count)
    per = {"small": 40, "medium": 140, "large": 600}
    carried = {
        (size.id, n): per[size.id] * (n - 1) / max(1, years / 2)
        for size in SIZES
        for n in range(2, 301)
    }
    memory = {size.id: size.memory_bytes for size in SIZES}
    assert (
        min(memory[size] * n for (size, n), amount in carried.items() if amount >= gauges)
        == archive.chosen.memory_bytes
    )


def test_odd_counts_stay_odd_and_what_nothing_carries_is_said() -> None:
    skerry = load_kits()["skerry"]
    for programs in (10, 150, 1500, 8000, 20_000):
        controller = sizing.propose(skerry, SIZES, {"programs": programs, "memory": 10})[0]
        assert controller.chosen is not None
        assert controller.chosen.count % 2 == 1
    kit = Kit.model_validate(
        skerry.model_dump(by_alias=True)
        | {
            "sizing": {
                "loads": [{"id": "x", "label": "X", "usual": 1}],
                "roles": {"controller": {"carries": {"x": "n * 10"}}},
            }
        }
    )
    told = sizing.propose(kit, SIZES, {"x": 900})[0]
    assert told.chosen is None
    assert "carries 70 of 900 x" in sizing.words(told)
    with pytest.raises(InputError, match="knows no load"):
        sizing.propose(kit, SIZES, {"y": 1})
    with pytest.raises(InputError, match="not between"):
        sizing.propose(skerry, SIZES, {"programs": -1})


def test_nodes_that_stand_apart_are_no_more_than_hosts() -> None:
    archive = sizing.propose(scene.KIT, SIZES, {"gauges": 140}, hosts=4)[1]
    assert archive.chosen is not None
    assert (archive.chosen.size, archive.chosen.count) == ("medium", 2)
    assert archive.reason == "5 × small: needs 5 hosts, one per host; there are 4"
    none = sizing.propose(scene.KIT, SIZES, {"gauges": 4000}, hosts=4)[1]
    assert none.chosen is None
    assert "needs 8 hosts" in none.reason


def test_the_curve_rises_with_the_nodes() -> None:
    archive = sizing.propose(scene.KIT, SIZES, {"gauges": 900})[1]
    for size in ("small", "medium", "large"):
        points = [
            (option.count, option.carries["gauges"])
            for option in archive.curve
            if option.size == size
        ]
        assert points == sorted(points)
        assert len(points) > 2


# --- storage layout ---


def greedy(capacities: list[int], width: int) -> int:
    """Stripes laid one by one on the emptiest domains: the best there is for whole parts."""
    left, laid = list(capacities), 0
    while True:
        ranked = sorted(range(len(left)), key=lambda i: -left[i])[:width]
        if len(ranked) < width or any(left[i] < 1 for i in ranked):
            return laid
        for i in ranked:
            left[i] -= 1
        laid += 1


@settings(max_examples=200, deadline=None)
@given(st.lists(st.integers(0, 30), max_size=9), st.integers(1, 6))
def test_no_layout_holds_more_stripes_than_the_formula_says_and_one_reaches_it(
    capacities: list[int], width: int
) -> None:
    assert storage_layout.stripes(capacities, width) == greedy(capacities, width)


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from("abcdef"), st.integers(1, 40)), max_size=24),
    st.sampled_from(storage_layout.SCHEMES),
)
def test_room_never_comes_from_nothing(drawn: list[tuple[str, int]], scheme: Scheme) -> None:
    disks = [DataDisk(domain, f"d{n}", size * GIB) for n, (domain, size) in enumerate(drawn)]
    found = storage_layout.layout(disks, scheme)
    assert found.raw_bytes == sum(disk.size_bytes for disk in disks)
    assert 0 <= found.safe_bytes <= found.usable_bytes <= found.raw_bytes
    assert (
        found.usable_bytes * scheme.width == (found.raw_bytes - found.wasted_bytes) * scheme.pieces
    )
    assert bool(found.reason) == (found.domains < scheme.width)
    more = storage_layout.layout([*disks, DataDisk("a", "new", 5 * GIB)], scheme)
    assert more.usable_bytes >= found.usable_bytes


def test_unevenness_is_told_as_waste_and_the_rule_chooses_disks() -> None:
    disks = [
        DataDisk("a", "s", 10 * GIB, "SSD"),
        DataDisk("b", "s", 4 * GIB, "SSD"),
        DataDisk("c", "s", 4 * GIB, "SSD"),
        DataDisk("c", "h", 90 * GIB, "HDD"),
    ]
    ssd = storage_layout.chosen(disks, kind="SSD")
    found = storage_layout.layout(ssd, Scheme(1, 1))
    assert (found.usable_bytes, found.wasted_bytes, found.safe_bytes) == (8 * GIB, 2 * GIB, 4 * GIB)
    assert (
        storage_layout.layout(ssd, Scheme(4, 2)).reason
        == "4 + 2 parity need 6 hosts; 3 have such disks"
    )
    assert [one.name for one in storage_layout.chosen(disks, least_bytes=5 * GIB)] == ["h", "s"]
    assert len(storage_layout.chosen(disks, most_per_domain=1)) == 3
    assert [one.scheme.label for one in storage_layout.alternatives(ssd)][:3] == [
        "2 copies",
        "3 copies",
        "2 + 1 parity",
    ]


# --- headroom ---


def test_each_hosts_loss_says_what_falls_and_what_goes_elsewhere() -> None:
    sheet = scene.sheet(roles__archive__count=3)
    at = {node.id: node.value("host") for node in sheet.nodes}
    found = {loss.hosts[0]: loss for loss in headroom.losses(sheet, frozenset({"lead-1"}))}
    assert set(found) == set(at.values())
    assert found[at["lead-1"]].fit == ("lead-1",)
    assert "lead down" in found[at["lead-1"]].words
    arc = found[at["archive-2"]]
    assert arc.homeless == ("archive-2",)
    assert arc.weight == "bent"
    assert "2 of 3 archive left: all data available, some only once" in arc.words
    pairs = {loss.hosts: loss for loss in headroom.losses(sheet, together=2)}
    # two hosts
    both = pairs[tuple(sorted((at["archive-1"], at["archive-2"])))]  # type: ignore[index]
    assert both.weight == "broken"
    assert "all 2 copies on them are lost" in " ".join(both.words)
    assert headroom.losses(sheet, together=2, only=(at["lead-1"], at["archive-1"]))[
        0
    ].hosts == tuple(sorted((at["lead-1"], at["archive-1"])))


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 2))
def test_what_is_said_to_fit_elsewhere_does_fit(seed: int, together: int) -> None:
    rng = random.Random(seed)
    where = scene.estate()
    for host in where.bay("kelda-main"):
        where = scene.with_facts(
            where, host.name, memory_bytes=rng.choice((64, 128, 256)) * GIB, guests=()
        )
    sheet = scene.sheet(
        where, roles__archive__count=rng.randint(2, 4), roles__relay__count=rng.randint(0, 12)
    )
    demands, supplies = sheet.board
    before = {node.id: node.value("host") for node in sheet.nodes if node.value("host")}
    rooms = {supply.host: supply.room_bytes for supply in supplies}
    for loss in headroom.losses(sheet, frozenset(before), together=together):
        assert set(loss.fit) | set(loss.homeless) == set(loss.nodes)
        left = {
            supply.host: (
                rooms[supply.host]
                - sum(d.memory_bytes for d in demands if before.get(d.node) == supply.host)
            )
            for supply in supplies
            if supply.host not in loss.hosts
        }
        assert sum(d.memory_bytes for d in demands if d.node in loss.fit) <= sum(
            max(0, room) for room in left.values()
        )
    assert before == {node.id: node.value("host") for node in sheet.nodes if node.value("host")}


# --- why here, and balance ---


def test_why_names_every_host_with_its_load_or_its_reason() -> None:
    sheet = scene.sheet(bay="ness-two", values__pool="ness-survey", values__network="ness-survey")
    hosts = {node.id: node.value("host") for node in sheet.nodes}
    found = placement_why.why("archive-1", *sheet.board, hosts)
    assert {place.host for place in found} == {"tern", "whimbrel", "dunlin", "knot"}
    assert [place.host for place in found if place.here] == [hosts["archive-1"]]
    knot = next(place for place in found if place.host == "knot")
    assert (knot.fits, knot.reason) == (False, "does not carry ness-survey")
    other = next(place for place in found if place.host == hosts["archive-2"])
    assert other.reason == "has a node of this role already"
    assert placement_why.why("nobody", *sheet.board, hosts) == []


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.integers(2, 30), st.integers(2, 8))
def test_balance_lowers_the_fullest_and_breaks_no_promise(
    seed: int, nodes: int, hosts: int
) -> None:
    rng = random.Random(seed)
    supplies = [
        Supply(f"h{i}", 256 * GIB, rng.randrange(60, 240) * GIB, frozenset({"s"}))
        for i in range(hosts)
    ]
    demands = [
        Demand(f"n{i}", rng.randrange(1, 24) * GIB, rng.choice(["", "g1", "g2"]), "", ("s",))
        for i in range(nodes)
    ]
    start = dict(place(demands, supplies).hosts.items())
    crowd = {
        node: (
            "h0"
            if rng.random() < 0.2 and next(d for d in demands if d.node == node).apart == ""
            else host
        )
        for node, host in start.items()
    }
    found = placement_why.balance(demands, supplies, crowd)
    assert found.after <= found.before + 1e-9
    assert len(found.moves) <= placement_why.MOST_MOVES
    after = crowd | {move.node: move.to for move in found.moves}
    assert all(crowd[move.node] == move.host for move in found.moves)
    for move in found.moves:
        group = next(d.apart for d in demands if d.node == move.node)
        assert (
            not group
            or sum(
                after[d.node] == move.to and d.apart == group for d in demands if d.node in after
            )
            == 1
        )
        assert sum(d.memory_bytes for d in demands if after.get(d.node) == move.to) <= next(
            s.room_bytes for s in supplies if s.host == move.to
        )


def test_evening_out_leaves_each_node_of_a_small_plan_a_host_of_its_own() -> None:
    supplies = [
        Supply(name, 256 * GIB, int(256 * GIB * (1 - used)), frozenset({"s"}))
        for name, used in (("a", 0.10), ("b", 0.40), ("c", 0.45))
    ]
    nodes = [Demand(f"n{n}", 8 * GIB, "", "", ("s",), role=f"r{n}") for n in range(3)]
    placed = place(nodes, supplies)
    assert sorted(placed.hosts.values()) == ["a", "b", "c"]
    assert placement_why.balance(nodes, supplies, placed.hosts).moves == ()
    # more nodes than hosts: load counts again
    more = [*nodes, *(Demand(f"m{n}", 8 * GIB, "", "b", ("s",), role="m") for n in range(3))]
    assert placement_why.balance(more, supplies, place(more, supplies).hosts).moves


def test_vcpu_disk_and_preference_count_in_placement() -> None:
    supplies = [
        Supply("a", 100 * GIB, 90 * GIB, vcpus=4, disk_bytes=50 * GIB),
        Supply("b", 100 * GIB, 80 * GIB, vcpus=40, disk_bytes=10 * GIB),
    ]
    assert place([Demand("n", GIB, vcpu=8)], supplies).hosts == {"n": "b"}
    assert place([Demand("n", GIB, disk_bytes=20 * GIB)], supplies).hosts == {"n": "a"}
    none = place([Demand("n", GIB, vcpu=8, disk_bytes=20 * GIB, role="archive")], supplies).reasons[
        "n"
    ]
    assert (
        none == "role archive needs a host with 8 vCPU left and 20 GiB of disk free; no host of 2"
        " fits: 1 without 8 vCPU left at this overcommit, 1 without 20 GiB of free disk"
    )
    assert place([Demand("n", GIB)], supplies).hosts == {"n": "a"}
    near = [
        Supply("a", 100 * GIB, 90 * GIB),
        Supply("b", 100 * GIB, 85 * GIB),
        Supply("c", 100 * GIB, 60 * GIB),
    ]
    # stays for little, moves for much
    assert [place([Demand("n", GIB, prefer=host)], near).hosts["n"] for host in "bc"] == ["b", "a"]
    assert place([Demand("m", GIB, fixed="b"), Demand("n", GIB, beside="m")], supplies).hosts == {
        "m": "b",
        "n": "b",
    }


# --- differences ---


def test_a_role_is_spread_over_hosts_that_are_alike() -> None:
    """Four hosts filled to 20, 30, 38 and 50 %: three small nodes of a role go to three hosts, none
    of them to the fullest, though the emptiest could take all.
    """
    supplies = [
        Supply(name, 256 * GIB, int(256 * GIB * (1 - used)), frozenset({"s"}))
        for name, used in (("a", 0.20), ("b", 0.30), ("c", 0.38), ("d", 0.50))
    ]
    nodes = [Demand(f"w{n}", 4 * GIB, "", "", ("s",), role="worker") for n in range(3)] + [
        Demand(f"c{n}", 4 * GIB, "c", "", ("s",), role="controller") for n in range(3)
    ]
    assert sorted(place(nodes, supplies).hosts[f"w{n}"] for n in range(3)) == ["a", "b", "c"]
    # and nothing proposes to crowd them again
    assert placement_why.balance(nodes, supplies, place(nodes, supplies).hosts).moves == ()
    # An almost full host is no place for the sake of spreading: the second worker goes beside the
    # first.
    nearly = [supplies[0], Supply("full", 256 * GIB, 20 * GIB, frozenset({"s"}))]
    three = [*nodes[:2], replace(nodes[2], memory_bytes=8 * GIB)]
    assert set(place(three, nearly).hosts.values()) == {"a"}


@settings(max_examples=80, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 30), st.integers(2, 8))
def test_spreading_roles_never_makes_the_fullest_host_fuller(
    seed: int, nodes: int, hosts: int
) -> None:
    chance = random.Random(seed)
    supplies = [
        Supply(f"h{n}", 256 * GIB, int(256 * GIB * chance.uniform(0.3, 0.95)), frozenset({"s"}))
        for n in range(hosts)
    ]
    plain = [Demand(f"n{n}", chance.choice((4, 8, 16)) * GIB, "", "", ("s",)) for n in range(nodes)]
    roles = [replace(demand, role=chance.choice("ab")) for demand in plain]
    here, without = place(roles, supplies), place(plain, supplies)
    whole = {
        supply.host: (supply.capacity_bytes, supply.capacity_bytes - supply.room_bytes)
        for supply in supplies
    }
    assert set(here.hosts) == set(without.hosts)

    def worst(found: Placement) -> float:
        return spread(
            whole,
            [
                (found.hosts[demand.node], demand.memory_bytes)
                for demand in plain
                if demand.node in found.hosts
            ],
        ).worst_load

    assert worst(here) <= 1.006 * worst(without)


@settings(max_examples=120, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 40), st.integers(1, 9))
def test_planning_anew_from_where_all_stand_moves_nobody(seed: int, nodes: int, hosts: int) -> None:
    chance = random.Random(seed)
    supplies = [
        Supply(
            f"h{n}",
            256 * GIB,
            int(256 * GIB * chance.uniform(0.1, 0.95)),
            frozenset({"s"}),
            vcpus=chance.choice((None, 64)),
        )
        for n in range(hosts)
    ]
    demands = [
        Demand(
            f"n{n}",
            chance.choice((2, 8, 16, 48)) * GIB,
            chance.choice(("", "apart")),
            chance.choice(("", "", "", "h0")),
            ("s",),
            vcpu=2,
            role=chance.choice("ab"),
        )
        for n in range(nodes)
    ]
    first = place(demands, supplies)
    again = place(
        [replace(demand, prefer=first.hosts.get(demand.node, "")) for demand in demands], supplies
    )
    # whoever stood stands there still; somebody more may have found room
    assert again.hosts == {**again.hosts, **first.hosts}


def test_differences_are_told_by_meaning_and_once() -> None:
    old = scene.sheet()
    new = scene.sheet(
        roles__archive__count=3,
        values__ntp="10.44.0.9",
        **{"nodes__lead-1__size": "large", "values__admin_password": "keyring:q"},
    )
    found = {one.text for one in differences(old, new)}
    assert "1 node of role archive more: western-arc-3" in found
    assert "NTP: 10.44.0.5 → 10.44.0.9 for every node" in found
    assert "Size: small → large for western-lead" in found
    assert "Admin password: a new secret for every node" in found
    assert not any("keyring" in text for text in found)
    assert differences(old, old) == []
    assert [one.text for one in differences(new, old) if one.about == "nodes"] == [
        "1 node of role archive fewer: western-arc-3"
    ]


def test_a_plan_that_asks_to_survive_a_host_is_told_when_it_would_not() -> None:
    where = scene.estate()
    assert "headroom" not in scene.codes(where, placement__survive=1)
    for host in where.bay("kelda-main"):
        # 41.8 GiB to give: an archive and one small node each
        where = scene.with_facts(where, host.name, memory_bytes=44 * GIB, guests=())
    full = {
        "roles__archive__values__size": "medium",
        "roles__archive__count": 4,
        "roles__relay__count": 3,
    }
    found = [f for f in scene.findings(where, **full, placement__survive=1) if f.code == "headroom"]
    assert {f.severity for f in found} == {"caution"}
    assert "would not fit on other hosts" in found[0].message
    assert "headroom" not in scene.codes(where, **full)
    assert "headroom" not in scene.codes(
        where, **full | {"roles__relay__count": 1}, placement__survive=1
    )


def test_nodes_on_hosts_that_placement_leaves_alone_are_counted_too() -> None:
    sheet = scene.sheet(**{"nodes__lead-1__host": "gannet", "placement__avoid": ("gannet",)})
    found = {loss.hosts[0]: loss for loss in headroom.losses(sheet, frozenset({"lead-1"}))}
    assert found["gannet"].fit == ("lead-1",)
    again = {loss.hosts[0]: loss for loss in headroom.losses(sheet, frozenset({"lead-1"}))}
    assert again == found


def test_a_condition_that_cannot_be_worked_out_asks_rather_than_fails() -> None:
    from nimble_stone.core.kit.settings import Question
    from nimble_stone.core.plan.sheet import resolve

    asked = (
        *scene.KIT.questions,
        Question(id="depth", label="Depth"),
        Question(id="cable", label="Cable", when="depth > 3"),
    )
    kit = scene.KIT.model_copy(update={"questions": asked})
    where = scene.estate()
    open_one = resolve(scene.plan(), kit, scene.PACKAGE, where)
    assert open_one.nodes[0].cells["cable"].origin == "none"
    assert (
        resolve(scene.plan(values__depth="2"), kit, scene.PACKAGE, where)
        .nodes[0]
        .cells["cable"]
        .origin
        == "unused"
    )


@pytest.mark.parametrize(
    ("copies", "words"),
    [
        ("2", "pieces with all 2 copies on them are lost"),
        ("3", "2 of 4 storage left: no majority"),
        ("many", "pieces with all 2 copies"),
    ],
)
def test_what_a_loss_means_follows_the_answer_that_decides_the_copies(
    copies: str, words: str
) -> None:
    found = sheet_of(
        "ballast",
        {"values": {"pool": "kelda-survey", "net.copying.pool": "kelda-storage", "copies": copies}},
    )
    pair = next(loss for loss in headroom.losses(found, frozenset(), together=2) if loss.nodes)
    assert words in "; ".join(pair.words)
