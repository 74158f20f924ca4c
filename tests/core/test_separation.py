"""Failure domains: who is kept apart from whom, in placement and in the findings."""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from nimble_stone.core import checks
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.placement import Demand, Group, Placement, Supply, place
from nimble_stone.core.placement_why import why
from nimble_stone.core.plan import many
from nimble_stone.core.plan.sheet import resolve
from nimble_stone.core.separation import (
    By,
    Clash,
    Domains,
    Separation,
    clashes,
    stronger,
)
from tests.core.scene import KIT, PACKAGE, codes, estate, findings, plan, sheet

GIB = 1 << 30


def hosts(number: int, racks: int, sites: int = 1, memory: int = 64) -> list[Supply]:
    """Hosts dealt out to racks, and these to sites."""
    return [
        Supply(
            f"h{n:02}",
            memory * GIB,
            memory * GIB,
            domains=Domains(f"h{n:02}", f"K{n % racks}", "main", f"S{n % racks % sites}"),
        )
        for n in range(number)
    ]


def crowd(placed: Placement, supplies: list[Supply], by: By) -> Counter[str]:
    """How many nodes stand in each domain."""
    where = {one.host: one.domains for one in supplies}
    found: Counter[str] = Counter()
    for host in placed.hosts.values():
        domains = where[host]
        assert domains is not None
        found[domains.of(by)] += 1
    return found


@example(1976)
@given(st.integers(0, 10_000))
def test_what_must_be_apart_is_apart_and_wishes_break_last(seed: int) -> None:
    chance = random.Random(seed)
    racks, sites = chance.randint(1, 5), chance.randint(1, 3)
    # one host alone has room for ten nodes of 16 GiB
    supplies = hosts(chance.randint(racks, 12), racks, sites, memory=256)
    by: By = chance.choice(["host", "rack", "site"])
    must = chance.random() < 0.6
    group = Group("g", by, must)
    demands = [
        Demand(
            f"n{n}",
            chance.choice([4, 8, 16]) * GIB,
            groups=(group,) if chance.random() < 0.6 else (),
            role=chance.choice("abc"),
        )
        for n in range(chance.randint(1, 10))
    ]
    placed = place(demands, supplies)
    of_group = {one.node for one in demands if one.kept}
    own = Placement({n: h for n, h in placed.hosts.items() if n in of_group}, {})
    counts = crowd(own, supplies, by)
    there = len({one.domains.of(by) for one in supplies if one.domains})
    if must:
        assert max(counts.values(), default=0) <= 1
        # there is memory for all: only domains can run short
        assert len(placed.reasons) == max(0, len(of_group) - there)
        assert all("already" in reason for reason in placed.reasons.values())
    else:
        assert not placed.reasons
        assert len(counts) == min(len(of_group), there), "a free domain was left unused"


def test_a_rule_over_two_roles_and_two_kinds_of_domains() -> None:
    supplies = hosts(6, 3, 2)
    pair = Group("pair", "site", True, "of Lead or Witness")
    racks = Group("racks", "rack", True, "of Archive")
    demands = [
        Demand("lead-1", 8 * GIB, groups=(pair,)),
        Demand("witness-1", 8 * GIB, groups=(pair,)),
        *(Demand(f"archive-{n}", 8 * GIB, groups=(racks,)) for n in range(3)),
    ]
    placed = place(demands, supplies)
    assert placed.reasons == {}
    site = {one.host: one.domains.site for one in supplies if one.domains}
    assert site[placed.hosts["lead-1"]] != site[placed.hosts["witness-1"]]
    four = place([*demands, Demand("archive-4", GIB, groups=(racks,), role="Archive")], supplies)
    assert four.reasons["archive-4"] == (
        "role Archive needs a host with no node of Archive in its rack yet; no host of 6 fits:"
        " 6 with a node of Archive in its rack already"
    )
    places = why("lead-1", demands, supplies, placed.hosts)
    refused = [one.reason for one in places if not one.fits]
    assert refused
    assert set(refused) == {"has a node of Lead or Witness in its site already"}


def test_hosts_whose_rack_nobody_knows_are_not_apart() -> None:
    supplies = [
        Supply(name, 64 * GIB, 64 * GIB, domains=Domains(name, rack, "main", "Kelda"))
        for name, rack in (("a", "K1"), ("b", ""), ("c", ""))
    ]
    demands = [Demand(f"n{n}", GIB, groups=(Group("g", "rack"),)) for n in range(3)]
    placed = place(demands, supplies)
    assert len(placed.hosts) == 2
    assert "a" in placed.hosts.values()


def test_strict_nodes_choose_first_where_the_large_ones_would_take_their_place() -> None:
    # the only host of the second rack is small: the large node would fill it first
    supplies = [
        Supply("a", 256 * GIB, 36 * GIB, domains=Domains("a", "K1")),
        Supply("b", 20 * GIB, 20 * GIB, domains=Domains("b", "K2")),
    ]
    group = Group("g", "rack")
    demands = [
        Demand("big", 17 * GIB),
        Demand("one", 16 * GIB, groups=(group,)),
        Demand("two", 16 * GIB, groups=(group,)),
    ]
    assert place(demands, supplies).reasons == {}


RULE = Separation(roles=("lead", "witness"), by="rack")


@pytest.mark.parametrize(
    ("racks", "expected"),
    [
        (("K1", "K2"), []),
        (("K1", "K1"), [Clash(RULE, "witness-1", "lead-1", known=True)]),
        (("", "K1"), [Clash(RULE, "lead-1", "", known=False)]),
    ],
)
def test_clashes(racks: tuple[str, str], expected: list[Clash]) -> None:
    places = {
        "lead-1": Domains("a", racks[0], "main", "Kelda"),
        "witness-1": Domains("b", racks[1], "main", "Kelda"),
        "archive-1": Domains("c", "K1", "main", "Kelda"),
    }
    roles = {"lead-1": "lead", "witness-1": "witness", "archive-1": "archive"}
    assert list(clashes([RULE], roles, places)) == expected


def test_racks_are_named_within_their_site_and_a_must_wins_over_its_wish() -> None:
    assert Domains("a", "1", site="Kelda").of("rack") != Domains("b", "1", site="Ness").of("rack")
    wish = Separation(roles=("witness", "lead"), by="rack", must=False)
    assert stronger([wish, RULE]) == [RULE]
    assert stronger([RULE, wish]) == [RULE]


def racked(where: Estate, **racks: str) -> Estate:
    """The estate with racks set."""
    hosts = tuple(
        host.model_copy(update={"rack": racks.get(host.name, host.rack)}) for host in where.hosts
    )
    return where.model_copy(update={"hosts": hosts})


def rules(*given: dict[str, Any]) -> dict[str, Any]:
    """The edit of a plan that sets its rules."""
    return {"placement__separate": tuple(Separation(**one) for one in given)}


def told(found: list[Finding], code: str) -> list[Finding]:
    return [one for one in found if one.code == code]


def test_a_plan_keeps_its_nodes_in_separate_racks_and_says_where_it_cannot() -> None:
    here = estate()
    names = [host.name for host in here.bay("kelda-main")]
    two = racked(here, **{name: f"K{n % 2}" for n, name in enumerate(names)})
    rule = rules({"roles": ("archive",), "by": "rack"})
    nodes = [node for node in sheet(two, **rule).nodes if node.role == "archive"]
    assert len(nodes) == 2
    racks = {two.domains(node.value("host")) for node in nodes}
    assert len({one.rack for one in racks if one}) == 2
    assert "separate" not in codes(two, **rule)
    # both on hosts of one rack, by hand
    same = [name for n, name in enumerate(names) if n % 2 == 0][:2]
    pinned = {f"nodes__{node.id}__host": host for node, host in zip(nodes, same, strict=True)}
    found = told(findings(two, **rule, **pinned), "separate")
    assert [(one.severity, one.node) for one in found] == [("blocker", nodes[1].id)]
    assert found[0].message == (
        f"{nodes[1].name} and {nodes[0].name} are both in rack K0; they must not share a rack."
    )
    assert found[0].remedy is not None
    assert found[0].remedy.edit == Edit(path=("nodes", nodes[1].id, "host"))
    wish = rules({"roles": ("archive",), "by": "rack", "must": False})
    found = told(findings(two, **wish, **pinned), "separate-wish")
    assert [one.severity for one in found] == ["caution"]
    # no rack is known: a must blocks, once for the rule
    bare = racked(here, **dict.fromkeys(names, ""))
    found = told(findings(bare, **rule), "separate-unknown")
    assert [one.severity for one in found] == ["blocker"]
    assert "is not set" in found[0].message
    found = told(findings(here, **rules({"roles": ("nobody",), "by": "site"})), "separate-role")
    assert "does not have" in found[0].message


def test_a_role_that_stands_on_one_host_as_a_whole_is_told() -> None:
    pinned = {"nodes__archive-1__host": "skua", "nodes__archive-2__host": "skua"}
    assert "role-together" not in codes(**pinned), "the kit keeps them apart: that is told already"
    roles = tuple(
        role.model_copy(update={"apart": False}) if role.id == "archive" else role
        for role in KIT.roles
    )
    loose = KIT.model_copy(update={"roles": roles})
    found = resolve(plan(**pinned), loose, PACKAGE, estate())
    one = told(checks.check(checks.Situation(found, estate())), "role-together")
    assert [(f.severity, f.node, f.host) for f in one] == [("caution", "archive-2", "skua")]
    assert one[0].message == "Both nodes of role archive are on skua."
    spread = resolve(plan(), loose, PACKAGE, estate())
    assert told(checks.check(checks.Situation(spread, estate())), "role-together") == []


def test_a_plan_may_use_several_bays() -> None:
    here = estate()
    bays = list(here.bays)
    assert len(bays) > 1
    other = next(bay for bay in bays if bay != "kelda-main" and here.bay(bay))
    alone = {host.name for host in here.bay("kelda-main")}
    both = plan(further_bays=(other,))
    assert both.bays == ("kelda-main", other)
    names = {one.host for one in sheet(here, further_bays=(other,)).board[1]}
    assert names > {one.host for one in sheet(here).board[1]}
    assert names & {host.name for host in here.bay(other)}
    assert {one.host for one in sheet(here).board[1]} <= alone
    # copied to a bay of its own, the further ones are left behind
    text = "nimble-stone: plan/1\nname: a\nkit: k\nbay: kelda-main\nfurther_bays: [x]\n"
    assert "further" not in many.copy(text, "b", other, {}, here).text
