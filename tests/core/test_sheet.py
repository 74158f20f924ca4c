"""Resolution, addressing, placement and the plan file."""

from __future__ import annotations

import random
from ipaddress import IPv4Address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import addressing, ledger, narrative, sequence, yaml_text
from nimble_stone.core.checks import Situation, check
from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import Pool
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.settings import Rule
from nimble_stone.core.placement import Demand, Supply, place
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.secrets_rule import violations
from nimble_stone.core.units import GIB
from nimble_stone.lab.scenario import demo
from tests.core.scene import KIT, PACKAGE, estate, findings, plan, sheet


def test_the_sheet_fills_itself_and_says_from_where() -> None:
    found = sheet()
    lead, first, second = found.nodes
    assert [node.name for node in found.nodes] == ["western-lead", "western-arc-1", "western-arc-2"]
    assert [node.value("address") for node in found.nodes] == [
        "10.44.20.11",
        "10.44.20.12",
        "10.44.20.13",
    ]
    assert len({node.value("host") for node in found.nodes}) == 3
    assert lead.value("datastore") == "kelda-shared"
    assert first.value("datastore") == f"{first.value('host')}-local"
    assert (lead.memory_bytes, first.memory_bytes) == (8 * GIB, 32 * GIB)
    assert {
        key: second.cells[key].origin
        for key in (
            "name",
            "host",
            "address",
            "size",
            "station",
            "gateway",
            "provisioning",
            "time_zone",
        )
    } == {
        "name": "computed",
        "host": "computed",
        "address": "pool",
        "size": "group",
        "station": "plan",
        "gateway": "pool",
        "provisioning": "kit",
        "time_zone": "kit",
    }


def test_the_nearest_value_wins() -> None:
    found = sheet(
        **{
            "values__time_zone": "Europe/London",
            "roles__archive__values__time_zone": "UTC+1",
            "nodes__archive-2__time_zone": "UTC+2",
        }
    )
    assert [node.value("time_zone") for node in found.nodes] == ["Europe/London", "UTC+1", "UTC+2"]
    assert [node.cells["time_zone"].origin for node in found.nodes] == ["plan", "group", "node"]


def test_a_package_question_nobody_maps_becomes_a_column() -> None:
    kit = KIT.model_copy(
        update={
            "environment": {
                key: value for key, value in KIT.environment.items() if key != "gauge.ntp"
            }
        }
    )
    assert "gauge.ntp" in {column.id for column in resolve(plan(), kit, PACKAGE, estate()).columns}


def test_an_exhausted_pool_leaves_cells_empty_and_says_so() -> None:
    found = sheet(**{"roles__archive__count": 70})
    assert len(found.exhausted) == 71 - 63
    assert "has no free address left" in next(
        f.message for f in findings(**{"roles__archive__count": 70}) if f.code == "address-missing"
    )


@given(st.sets(st.integers(0, 60)), st.sets(st.integers(0, 60)), st.integers(0, 80))
def test_addresses_are_handed_out_in_order_once_and_never_when_taken(
    taken: set[int], excluded: set[int], count: int
) -> None:
    base = int(IPv4Address("10.44.20.10"))
    pool = Pool(
        name="p",
        network="n",
        first=IPv4Address(base),
        last=IPv4Address(base + 60),
        excluded=tuple(IPv4Address(base + e) for e in excluded),
    )
    nodes = [f"n{i}" for i in range(count)]
    fixed = {"n0": IPv4Address(base + 5)} if nodes else {}
    given_out = addressing.assign(nodes, fixed, pool, {IPv4Address(base + t) for t in taken})
    values = list(given_out.values())
    assert values == sorted(values)
    assert len(set(values)) == len(values)
    forbidden = (
        {base + t for t in taken} | {base + e for e in excluded} | {int(a) for a in fixed.values()}
    )
    assert not {int(v) for v in values} & forbidden
    assert len(values) == min(
        len(nodes) - len(fixed), 61 - len({f for f in forbidden if base <= f <= base + 60})
    )


def check_placement(
    demands: list[Demand], supplies: list[Supply], hosts: dict[str, str]
) -> list[str]:
    """An independent checker: every broken promise of a placement."""
    wrong = []
    for supply in supplies:
        own = [d for d in demands if hosts.get(d.node) == supply.host]
        if sum(d.memory_bytes for d in own) > supply.room_bytes and not any(d.fixed for d in own):
            wrong.append(f"{supply.host} is overfull")
        for group in {d.apart for d in own if d.apart}:
            if sum(d.apart == group for d in own) > 1 and not any(d.fixed for d in own):
                wrong.append(f"{group} twice on {supply.host}")
        wrong += [
            f"{d.node} lacks {name}"
            for d in own
            for name in d.networks
            if name not in supply.networks and not d.fixed
        ]
    return wrong


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 40), st.integers(1, 12))
def test_a_placement_keeps_every_promise_and_is_the_same_each_time(
    seed: int, nodes: int, hosts: int
) -> None:
    rng = random.Random(seed)
    supplies = [
        Supply(
            f"h{i}",
            64 * GIB,
            rng.randrange(0, 64) * GIB,
            frozenset(rng.sample(["a", "b"], rng.randint(1, 2))),
        )
        for i in range(hosts)
    ]
    demands = [
        Demand(
            f"n{i}",
            rng.randrange(1, 16) * GIB,
            rng.choice(["", "g1", "g2"]),
            "",
            rng.choice([(), ("a",), ("b",)]),
        )
        for i in range(nodes)
    ]
    found = place(demands, supplies)
    assert check_placement(demands, supplies, dict(found.hosts)) == []
    assert set(found.hosts) | set(found.reasons) == {d.node for d in demands}
    assert place(demands, list(reversed(supplies))) == found


def test_an_infeasible_placement_says_why() -> None:
    found = place(
        [Demand("n", 100 * GIB, "", "", ("survey",))],
        [
            Supply("a", 64 * GIB, 10 * GIB, frozenset()),
            Supply("b", 256 * GIB, 200 * GIB, frozenset()),
        ],
    )
    assert (
        found.reasons["n"]
        == "no host of 2 fits: 1 without 100 GiB of free memory, 2 without network survey"
    )


def test_an_even_spread_is_reached() -> None:
    supplies = [Supply(f"h{i}", 100 * GIB, 100 * GIB) for i in range(4)]
    found = place([Demand(f"n{i}", 10 * GIB) for i in range(20)], supplies)
    assert {list(found.hosts.values()).count(f"h{i}") for i in range(4)} == {5}


@pytest.mark.parametrize(
    ("text", "what"),
    [
        (
            "nimble-stone: plan/1\nname: x\nkit: k\nbays: y\n",
            "line 4, column 1: “bays” is not a key of this format",
        ),
        (
            "nimble-stone: plan/1\nname: x\nkit: k\nroles:\n  lead:\n    count: many\n",
            "line 6, column 5",
        ),
        ("nimble-stone: plan/1\nname: x\nkit: k\nvalues:\n\tpool: y\n", "a tab character"),
        ("nimble-stone: plan/1\nkit: k\n", "“name” is missing"),
        ("nimble-stone: plan/2\nname: x\nkit: k\n", "line 1"),
        ("- a\n- b\n", "must be a mapping"),
        ("name: x\nname: y\n", "duplicate key"),
        ("a: [1, 2\n", "line 2"),
        ("x" * (1 << 20) + "x", "larger than 1 MiB"),
        (
            (
                "a: &a [x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d"
                " [*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f"
                " [*e,*e,*e,*e,*e,*e,*e,*e]\ng: [*f,*f,*f,*f,*f,*f,*f,*f]\n"
            ),
            "repeated too often",
        ),
        ("[" * 3000, "nested deeper than 24 levels"),
    ],
)
def test_a_plan_file_that_is_wrong_is_refused_with_its_place(text: str, what: str) -> None:
    with pytest.raises((FormatError, yaml_text.Faults)) as caught:
        yaml_text.read(text, Plan, "the plan")
    assert what in str(caught.value)


@settings(max_examples=60, deadline=None)
@given(st.text(max_size=300))
def test_nonsense_is_refused_in_words_and_never_crashes(text: str) -> None:
    with pytest.raises((FormatError, yaml_text.Faults)):
        yaml_text.read(text, Plan, "the plan")


def test_comments_and_order_survive_edits() -> None:
    text = yaml_text.edit(demo.PLAN, ("nodes", "archive-1", "address"), "10.44.20.30")
    text = yaml_text.edit(text, ("roles", "archive", "count"), 3)
    assert text.startswith("# The gauges of the western shore.")
    assert "archive-1" not in yaml_text.edit(text, ("nodes", "archive-1", "address"), None)
    assert (
        yaml_text.edit(text, ("roles", "archive", "count"), 2).splitlines()[:17]
        == demo.PLAN.splitlines()
    )
    assert yaml_text.read(text, Plan, "the plan").nodes == {"archive-1": {"address": "10.44.20.30"}}


def test_a_sequence_respects_its_dependencies_and_its_preview_is_itself() -> None:
    steps = sequence.build(sheet(), estate())
    seen: set[str] = set()
    forecast = sequence.forecast(steps)
    for step in steps:
        assert all(any(other.key == key for other in steps) for key in step.after)
        assert all(
            forecast.slots[key].end_s <= forecast.slots[step.key].start_s + 1e-9
            for key in step.after
        )
        seen.add(step.key)
    assert len(seen) == len(steps)
    by_key = {step.key: step for step in steps}
    assert "token/lead-1" in by_key["start/archive-1"].after
    assert set(by_key["form/cluster"].after) >= {"join/archive-1", "join/archive-2", "token/lead-1"}
    assert forecast.critical[-1] == "form/cluster"
    assert sum(step.kind == "carry" for step in steps) == 3


def test_nodes_on_one_shared_datastore_share_one_travelling_copy() -> None:
    steps = sequence.build(
        sheet(
            **{
                f"nodes__{n}__datastore": "kelda-shared"
                for n in ("lead-1", "archive-1", "archive-2")
            }
        ),
        estate(),
    )
    assert [step.key for step in steps if step.kind == "carry"] == ["carry/kelda-shared"]


def test_consequences_beside_the_wall() -> None:
    found = sheet()
    lines = {(line.host, line.name): line for line in ledger.stores(found, estate())}
    # with the copy that its disk is made from
    assert lines["", "kelda-shared"].full_bytes == 40 * GIB + PACKAGE.thin_bytes
    pool = ledger.pools(found, estate(), {"10.44.20.15"}, {"10.44.20.12"})[0]
    assert pool.cells.startswith("p!p.t....x")
    assert {line.text for line in ledger.losses(found)} == {"lead down", "1 of 2 archive left"}
    sentence = narrative.of_plan(found, findings(), 60, ())
    assert (sentence.before, sentence.strong, sentence.action.kind) == (
        "3 nodes on 3 hosts. ",
        "Ready to run",
        "run",
    )


@pytest.mark.parametrize(
    ("value", "rule", "count"),
    [
        ("short", Rule(min_length=10), 1),
        ("long-enough-1A", Rule(min_length=10, classes=4), 0),
        ("aaaa", Rule(classes=3), 1),
        ("x" * 70, Rule(max_length=64), 1),
        ("b", Rule(choices=("a",)), 1),
        ("abc", Rule(pattern="[a-z]+"), 0),
        ("ABC", Rule(pattern="[a-z]+"), 1),
    ],
)
def test_rules_for_typed_values(value: str, rule: Rule, count: int) -> None:
    found = violations(value, rule)
    assert len(found) == count
    assert not any(value in text for text in found if len(value) > 4)


def test_a_kit_that_refers_to_nothing_is_refused_with_its_reason() -> None:
    data = KIT.model_dump(by_alias=True)
    data["roles"][1]["after"] = ("conductor",)
    with pytest.raises(ValueError, match="comes after “conductor”"):
        Kit.model_validate(data)


def test_a_plan_gives_other_vcpus_and_memory_where_the_kit_allows_it() -> None:
    document = KIT.model_dump(mode="json", by_alias=True)
    document["roles"][1]["custom"] = {
        "vcpu": {"most": 16},
        "memory_gib": {"least": 2, "most": 64},
    }
    own = Kit.model_validate(document)

    def made(**values: str) -> Sheet:
        text = plan().model_dump(mode="json", by_alias=True) | {"nodes": {"archive-1": values}}
        return resolve(Plan.model_validate(text), own, PACKAGE, estate())

    found = made(**{"own.vcpu": "6", "own.memory": "12"})
    first, other = found.by_id["archive-1"], found.by_id["archive-2"]
    assert (first.vcpu, first.memory_bytes) == (6, 12 * GIB)
    assert other.size == found.packages.sizes("archive")[other.value("size")]
    assert found.by_id["lead-1"].cells["own.vcpu"].origin == "unused"
    # placement sees it
    [demand] = [one for one in found.board[0] if one.node == "archive-1"]
    assert (demand.vcpu, demand.memory_bytes) == (6, 12 * GIB)
    for column, value, words in (
        ("own.vcpu", "17", "no whole number from 1 to 16 vCPU"),
        ("own.memory", "1.5", "no whole number from 2 to 64 GiB"),
    ):
        wrong = made(**{column: value})
        told = [f for f in check(Situation(wrong, estate())) if f.code == "size-own"]
        assert words in told[0].message
        assert wrong.by_id["archive-1"].size == other.size
