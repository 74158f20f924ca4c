"""What stands of a plan, what differs from it, and in which order that is put right."""

from __future__ import annotations

import random
from dataclasses import replace
from importlib.resources import files
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core import checks, sequence, yaml_text
from nimble_stone.core.change_sequence import leaving_of, of_change
from nimble_stone.core.deployment import (
    BuiltNode,
    Changes,
    Part,
    Wanted,
    as_built,
    built,
    changes,
)
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.setup import Stage
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.step import Step
from tests.core.scene import KIT, PACKAGE, estate, plan, sheet


def part(run: str, found: Sheet, *adds: str, **more: Any) -> Part:
    names = adds or tuple(node.id for node in found.nodes)
    return Part(run, found.nodes, frozenset(names), **more)


def standing(count: int, run: str = "r1") -> dict[str, BuiltNode]:
    """A deployment with so many archive nodes."""
    return built([part(run, sheet(roles__archive__count=count))])


def test_a_node_stands_as_the_last_run_that_made_it_left_it() -> None:
    first, more = sheet(), sheet(roles__archive__count=3)
    grown = built([part("r1", first), part("r2", more, "archive-3")])
    assert {ident: one.run for ident, one in grown.items()} == {
        "lead-1": "r1",
        "archive-1": "r1",
        "archive-2": "r1",
        "archive-3": "r2",
    }
    remade = [part("r1", first), part("r2", first, "archive-1", gone=frozenset({"archive-1"}))]
    assert built(remade)["archive-1"].run == "r2"
    # it keeps its place: the first of a cluster stays the first
    assert list(built(remade)) == ["lead-1", "archive-1", "archive-2"]
    # rolled back: what was made is gone, and so is what was taken away before
    undone = [remade[0], replace(remade[1], undone=True)]
    assert set(built(undone)) == {"lead-1", "archive-2"}
    assert built([replace(remade[0], undone=True)]) == {}


@pytest.mark.parametrize(("stands", "planned"), [(2, 4), (4, 2), (2, 2)])
def test_what_is_to_be_done_is_what_differs(stands: int, planned: int) -> None:
    found = changes(sheet(roles__archive__count=planned), standing(stands))
    assert list(found.adds) == [f"archive-{n}" for n in range(stands + 1, planned + 1)]
    # the last one goes first
    assert list(found.removes) == [f"archive-{n}" for n in range(stands, planned, -1)]
    assert found.any is (stands != planned)


def test_what_stands_keeps_what_was_chosen_for_it() -> None:
    there = standing(2)
    moved = {
        ident: BuiltNode(
            replace(one.node, cells={**one.node.cells, "host": Cell("petrel", "computed")}), "r1"
        )
        if ident == "archive-1"
        else one
        for ident, one in there.items()
    }
    again = resolve(
        plan(roles__archive__count=3),
        KIT,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in moved.items()},
    )
    assert again.by_id["archive-1"].value("host") == "petrel"
    assert changes(again, moved).differs == ()
    # what a person writes down goes before what was built, and is told
    typed = resolve(
        plan(**{"nodes__lead-1__address": "10.44.20.77"}),
        KIT,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in there.items()},
    )
    told = {(one.node, one.column, one.now) for one in changes(typed, there).differs}
    assert ("lead-1", "address", "10.44.20.77") in told
    kept = {node.id: node.value("address") for node in as_built(typed, changes(typed, there))}
    assert kept["lead-1"] == there["lead-1"].node.value("address")


@given(st.integers(0, 10_000))
def test_the_steps_of_a_change_touch_nothing_else_and_come_in_order(seed: int) -> None:
    chance = random.Random(seed)
    stands, planned = chance.randint(1, 5), chance.randint(1, 5)
    there = standing(stands)
    here = resolve(
        plan(roles__archive__count=planned),
        KIT,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in there.items()},
    )
    remade = [f"archive-{n}" for n in range(1, min(stands, planned) + 1) if chance.random() < 0.3]
    found = changes(here, there, Wanted(tuple(remade)))
    whole = sequence.build(here, estate())
    steps = of_change(here, found, whole)
    keys = [step.key for step in steps]
    assert len(keys) == len(set(keys))
    place = {key: n for n, key in enumerate(keys)}
    for step in steps:
        assert all(key in place for key in step.after), "waits for nothing that is not there"
    touched = {step.node for step in steps if step.node and step.kind != "call"}
    assert touched <= {*found.adds, *found.removes}
    _check_ways(steps, found)


def _check_ways(steps: list[Step], found: Changes) -> None:
    """Removed after it has left; made again after it was removed; removed for good after all that
    is new stands; one at a time.
    """
    before: dict[str, set[str]] = {}
    for step in sequence._by_depth(steps):
        before[step.key] = {step.key}.union(*(before[key] for key in step.after))
    assert len(before) == len(steps), "no step waits for itself"
    last_of = {step.node: step.key for step in steps if step.node in found.adds}
    gone: list[str] = []
    for ident in found.removes:
        assert f"leave/leave/{ident}" in before[f"retire/{ident}"]
        if ident in found.remade:
            assert f"retire/{ident}" in before[f"define/{ident}"]
            continue
        assert set(last_of.values()) <= before[f"retire/{ident}"]
        assert set(gone) <= before[f"retire/{ident}"]
        gone.append(f"retire/{ident}")


def test_what_decides_is_never_less_than_a_majority() -> None:
    roles = tuple(role.model_copy(update={"quorum": role.id == "archive"}) for role in KIT.roles)
    kit = KIT.model_copy(update={"roles": roles})

    def codes(count: int, *remade: str) -> set[str]:
        here = resolve(plan(roles__archive__count=count), kit, PACKAGE, estate())
        there = {node.id: BuiltNode(node, "r1") for node in here.nodes}
        found = checks.Situation(
            here, estate(), changes=changes(here, there, Wanted(tuple(remade)))
        )
        return {one.code for one in checks.check(found) if one.severity == "blocker"}

    assert "majority-lost" in codes(2, "archive-1")
    assert "majority-lost" not in codes(3, "archive-1")
    assert "majority-lost" not in codes(2)


def resized(size: str = "large", count: int = 2) -> tuple[Sheet, dict[str, BuiltNode]]:
    """A plan with another size for its archive nodes, and what stands of it."""
    more = {"roles__archive__values__size": size, "roles__archive__count": count}
    return sheet(**more), standing(2)


def test_another_size_is_a_change_and_other_columns_stay() -> None:
    planned, there = resized()
    found = changes(planned, there)
    assert found.resizes == ("archive-1", "archive-2")
    assert found.any
    assert {one.column for one in found.differs} <= {"disk.readings"}
    after = {node.id: node for node in as_built(planned, found)}
    assert after["archive-1"].memory_bytes == planned.by_id["archive-1"].memory_bytes
    assert after["archive-1"].value("size") == "large"
    assert after["archive-1"].value("host") == there["archive-1"].node.value("host")
    assert after["lead-1"] == there["lead-1"].node
    # its VM bears the mark of the run that made it, whoever resized it
    later = Part("r2", tuple(after.values()), frozenset(), resized=frozenset(found.resizes))
    now = built([part("r1", sheet()), later])
    assert {one.run for one in now.values()} == {"r1"}
    assert changes(planned, now).resizes == ()
    # rolled back: as it was built
    assert changes(planned, built([part("r1", sheet()), replace(later, undone=True)])).resizes


def test_one_node_after_the_other_and_the_cluster_is_well_in_between() -> None:
    planned, there = resized(count=3)
    found = changes(planned, there)
    whole = sequence.build(planned, estate())
    steps = of_change(planned, found, whole)
    places = {step.key: n for n, step in enumerate(steps)}
    assert all(set(step.after) <= set(places) for step in steps)
    # new nodes come first, so that there is never less than need be
    assert places["services/archive-3"] < places["resize/archive-1"]
    by_key = {step.key: step for step in steps}
    assert by_key["resize/archive-2"].after == ("healthy/archive-1",)
    assert by_key["start/archive-1"].after == ("resize/archive-1",)
    assert by_key["healthy/archive-1"].detail["checks"] == "members,one-lead"
    assert "define/archive-1" not in places


@pytest.mark.parametrize(("nodes", "told"), [(1, True), (2, True), (3, False)])
def test_a_quorum_that_restarts_without_a_majority_is_told(nodes: int, told: bool) -> None:
    def with_quorum(found: Sheet) -> Sheet:
        roles = tuple(
            role.model_copy(update={"quorum": True}) if role.id == "archive" else role
            for role in found.kit.roles
        )
        return replace(found, kit=found.kit.model_copy(update={"roles": roles}))

    planned = sheet(roles__archive__values__size="large", roles__archive__count=nodes)
    found = changes(planned, standing(nodes))
    place = checks.Situation(with_quorum(planned), estate(), changes=found)
    seen = {one.code for one in checks.check(place)}
    assert ("majority-restarts" in seen) is told


NEWER = replace(PACKAGE, sha256="b" * 64)


def made(count: int = 2) -> dict[str, BuiltNode]:
    """A deployment that was made from the older package."""
    return built([part("r1", sheet(roles__archive__count=count), packages=Packages(PACKAGE))])


def newer(**edits: Any) -> Sheet:
    """The plan with another version of its package."""
    return resolve(plan(**edits), KIT, NEWER, estate())


def test_another_package_is_an_upgrade_as_the_kit_says() -> None:
    there = made()
    found = changes(newer(), there)
    assert {one.node: one.way for one in found.upgrades} == {
        "lead-1": "system",
        "archive-1": "again",
        "archive-2": "again",
    }
    assert found.in_place == ("lead-1",)
    assert found.remade == ("archive-1", "archive-2")
    assert found.any
    after = {node.id: node for node in as_built(newer(), found)}
    assert after["lead-1"].disks_of == "r1", "its data disks are those that it had"
    assert after["archive-1"].disks_of == ""
    # once more, over an upgrade: the data disks are still the first run's
    second = Part(
        "r2",
        tuple(after.values()),
        frozenset(),
        upgraded=frozenset({"lead-1"}),
        packages=Packages(NEWER),
    )
    upgraded = built([part("r1", sheet(), packages=Packages(PACKAGE)), second])
    assert (upgraded["lead-1"].run, upgraded["archive-1"].run) == ("r2", "r1")
    again = changes(sheet(), upgraded)
    assert again.in_place == ("lead-1",)
    lead = next(one for one in as_built(sheet(), again) if one.id == "lead-1")
    assert lead.disks_of == "r1"
    # rolled back, it stands as before
    back = built([part("r1", sheet(), packages=Packages(PACKAGE)), replace(second, undone=True)])
    assert back["lead-1"].run == "r1"


def test_an_upgrade_goes_node_by_node_and_holds_where_the_kit_says() -> None:
    here = newer(roles__archive__count=3)
    found = changes(here, made())
    steps = of_change(here, found, sequence.build(here, estate()))
    keys = [step.key for step in steps]
    place = {key: n for n, key in enumerate(keys)}
    assert len(place) == len(keys)
    assert all(key in place for step in steps for key in step.after)
    # everything of one node, and the cluster well again, before the next one is touched
    assert place["healthy/archive-1"] < place["retire/archive-2"]
    assert "healthy/archive-1" in next(
        one.after for one in steps if one.key in ("leave/leave/archive-2", "retire/archive-2")
    )
    # who is there in between: not yet the one that is added, and it comes last
    looks = next(one for one in steps if one.key == "healthy/archive-2")
    assert looks.detail["without"] == "archive-3"
    assert place["healthy/archive-2"] < place["start/archive-3"]
    holds = {step.key for step in steps if step.detail.get("hold")}
    assert holds == {"healthy/archive-1"}
    lead = [step.key for step in steps if step.node == "lead-1"]
    assert lead[-1] == "healthy/lead-1"
    assert "define/lead-1" not in keys
    swap = next(step for step in steps if step.key == "swap/lead-1")
    assert {"clone/lead-1", "medium/lead-1"} <= set(swap.after)
    assert next(step for step in steps if step.key == "start/lead-1").after == ("swap/lead-1",)
    # the new disk is made ready while the old one is in use
    assert not set(next(s for s in steps if s.key == "clone/lead-1").after) & {"healthy/archive-2"}


@pytest.mark.parametrize("watch", ["", "10.44.0.6"])
def test_a_system_that_a_plan_does_not_name_is_not_told_that_a_node_goes(watch: str) -> None:
    here = sheet(values__watch=watch)
    node = here.by_id["archive-1"]
    own = [one.id for one in leaving_of(here, node)]
    assert own == (["leave", "unwatch-archive"] if watch else ["leave"])
    keys = {step.key for step in sequence.build(here, estate())}
    assert ({"watch-archive/archive-1", "stage/watched"} <= keys) is bool(watch)
    assert any(key.startswith(("watch-", "stage/")) for key in keys) is bool(watch)


@pytest.mark.parametrize("watch", ["", "10.44.0.6"])
def test_a_stage_of_which_a_plan_has_nothing_is_left_out_and_those_after_it_stay(
    watch: str,
) -> None:
    last = KIT.forming[3].model_copy(update={"id": "more", "stage": "later"})
    stages = (*KIT.stages, Stage(id="later", label="Later"))
    kit = KIT.model_copy(update={"stages": stages, "forming": (*KIT.forming, last)})
    here = resolve(plan(values__watch=watch), kit, PACKAGE, estate())
    used = [one.stage.id for one in sequence.stages_of(here)]
    assert used == (["watched", "later"] if watch else ["later"])
    steps = {step.key: step for step in sequence.build(here, estate())}
    assert [key for key in steps if key.startswith("stage/")] == [f"stage/{one}" for one in used]
    assert ("stage/watched" in steps["more/cluster"].after) is bool(watch)
    assert "more/cluster" in steps["stage/later"].after


def test_a_kit_that_does_not_say_how_leaves_nodes_as_they_are() -> None:
    silent = KIT.model_copy(update={"upgrading": ()})
    here = resolve(plan(), silent, NEWER, estate())
    found = changes(here, made())
    assert [one.way for one in found.upgrades] == ["", "", ""]
    assert not found.any
    place = checks.Situation(here, estate(), changes=found)
    codes = {one.code for one in checks.check(place)}
    assert "upgrading-unknown" in codes


@pytest.mark.parametrize(
    ("upgrading", "word"),
    [
        ("[{role: ferry, way: system}]", "“ferry”, which is not a role of this kit"),
        ("[{role: lead, way: again}, {role: lead, way: system}]", "“lead”, twice"),
        ("[{role: lead, way: sideways}]", "upgrading"),
    ],
)
def test_a_kit_says_for_each_role_once_how_it_is_upgraded(upgrading: str, word: str) -> None:
    text = files("nimble_stone.kits").joinpath("gauge-collector.yaml").read_text()
    before, _, rest = text.partition("upgrading:\n")
    wrong = before + f"upgrading: {upgrading}\n" + rest[rest.index("\n# between") :]
    with pytest.raises(yaml_text.Faults) as refused:
        yaml_text.read(wrong, Kit, "the kit")
    assert word in str(refused.value)


def test_a_node_that_is_planned_elsewhere_moves_there() -> None:
    there = made()
    before = there["archive-1"].node
    other = next(one for one in ("gannet", "fulmar", "petrel") if one != before.value("host"))

    def planned(**more: Any) -> Sheet:
        return resolve(
            plan(**{"nodes__archive-1__host": other, **more}),
            KIT,
            PACKAGE,
            estate(),
            built={ident: one.values for ident, one in there.items()},
        )

    here = planned()
    found = changes(here, there)
    (move,) = found.moves
    assert (move.node, move.was_host, move.now_host) == ("archive-1", before.value("host"), other)
    # what lay on its host alone does not: its datastore is one of the new host
    assert move.was_store == f"{before.value('host')}-local"
    assert move.now_store != move.was_store
    assert {one.column for one in found.differs} == set()
    after = next(one for one in as_built(here, found) if one.id == "archive-1")
    assert (after.value("host"), after.value("address")) == (other, before.value("address"))
    keys = [step.key for step in of_change(here, found, sequence.build(here, estate()))]
    own = ["move/archive-1", "start/archive-1", "boot/archive-1", "services/archive-1"]
    assert keys == [*own, "healthy/archive-1", "clear/archive-1"]
    # one thing at a time
    both = changes(planned(roles__archive__values__size="large"), there)
    assert [one.node for one in both.moves] == ["archive-1"]
    assert both.resizes == ("archive-2",)
    assert {(one.node, one.column) for one in both.differs} >= {("archive-1", "size")}


@pytest.mark.parametrize("what", [{"tpm": True, "machine": "q35"}, {}])
def test_what_a_host_alone_keeps_of_a_node_holds_it_there(what: dict[str, Any]) -> None:
    roles = tuple(
        role.model_copy(update={"vm": role.vm.model_copy(update=what)}) for role in KIT.roles
    )
    kit = KIT.model_copy(update={"roles": roles})
    there = made()
    here = resolve(
        plan(**{"nodes__archive-1__host": "skua"}),
        kit,
        PACKAGE,
        estate(),
        built={ident: one.values for ident, one in there.items()},
    )
    found = changes(here, there)
    assert bool(found.moves) is not bool(what)
    assert bool({one.column for one in found.differs} & {"host"}) is bool(what)


def test_nodes_leave_a_host_that_the_plan_excludes() -> None:
    there = standing(2)
    host = there["archive-1"].node.value("host")
    on_it = {ident for ident, one in there.items() if one.node.value("host") == host}

    def planned(**more: Any) -> Sheet:
        values = {ident: one.values for ident, one in there.items()}
        return resolve(plan(placement__avoid=[host], **more), KIT, PACKAGE, estate(), built=values)

    found = changes(planned(), there)
    assert {one.node for one in found.moves} == on_it
    assert all(one.was_host == host != one.now_host != "" for one in found.moves)
    assert found.differs == ()
    # who stands elsewhere stays
    stay = planned().by_id
    for ident, one in there.items():
        if ident not in on_it:
            assert stay[ident].value("host") == one.node.value("host")
    # where a person set the host, it stands, and the check says that both cannot be
    kept = planned(**{"nodes__archive-1__host": host})
    assert kept.by_id["archive-1"].value("host") == host
    assert "archive-1" not in {one.node for one in changes(kept, there).moves}


def test_further_data_disks_are_added_where_all_that_a_node_has_stay() -> None:
    def planned(**more: Any) -> Sheet:
        values = {f"nodes__archive-1__disk.readings{k}": v for k, v in more.items()}
        found = plan(roles__archive__count=2, **values)
        return resolve(found, KIT, PACKAGE, estate())

    one = built([part("r1", planned(**{"": 32, ".count": 1}))])
    told = changes(planned(**{"": 48, ".count": 3}), one)
    assert [(g.disk, g.was_bytes >> 30, g.now_bytes >> 30) for g in told.grows] == [
        ("readings1", 32, 48),
        ("readings2", 0, 48),
        ("readings3", 0, 48),
    ]
    assert told.differs == ()
    here = planned(**{"": 48, ".count": 3})
    after = next(node for node in as_built(here, told) if node.id == "archive-1")
    assert len(after.extra) == len(after.extra_places) == 3
    # of none to some; fewer or smaller ones are told, and stay
    none = built([part("r1", planned())])
    assert [g.was_bytes for g in changes(planned(**{"": 32, ".count": 2}), none).grows] == [0, 0]
    three = built([part("r1", planned(**{"": 48, ".count": 3}))])
    for less in ({"": 48, ".count": 2}, {"": 32, ".count": 4}):
        told = changes(planned(**less), three)
        assert told.grows == ()
        assert {one.column for one in told.differs} >= {"disk.readings.count"}
