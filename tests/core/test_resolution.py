"""Laws of resolution and addressing: the nearest value wins, no address twice, what was held is
kept, virtual addresses stay put.
"""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.app.kits import load_kits
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import InputError
from nimble_stone.core.package import descriptor
from nimble_stone.core.plan.beginning import beginning
from nimble_stone.core.plan.columns import PackageView
from nimble_stone.core.plan.filled import value_of
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.many import Base, copy, plans_of
from nimble_stone.core.plan.model import Plan, SharedValues
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.lab.scenario import demo, products
from tests.core import scene

KITS = load_kits()
ESTATE = scene.estate()
PACKAGES = {
    ident: PackageView(
        ident * 8, descriptor.parse(products.descriptor(product, 1000).encode()), 10 << 20
    )
    for ident, product in products.PRODUCTS.items()
}


def sheet_of(kit: str, more: dict[str, Any], **how: Any) -> Sheet:
    document = {"nimble-stone": "plan/1", "name": "p", "kit": kit, "bay": "kelda-main"} | more
    return resolve(Plan.model_validate(document), KITS[kit], PACKAGES[kit], ESTATE, **how)


LEVELS = ("node", "group", "plan", "shared")


@settings(max_examples=60, deadline=None)
@given(
    st.sets(st.sampled_from(LEVELS)),
    st.sampled_from(["ntp", "domain", "time_zone", "provisioning", "ledger_name", "dns"]),
)
def test_the_nearest_value_wins_and_says_where_it_is_from(levels: set[str], column: str) -> None:
    def at(level: str) -> dict[str, str]:
        return {column: f"from-{level}"} if level in levels else {}

    sheet = sheet_of(
        "tidebook",
        {
            "values": at("plan") | {"pool": "kelda-survey"},
            "roles": {"standby": {"count": 1, "values": at("group")}},
            "nodes": {"standby-1": at("node")},
        },
        shared=at("shared"),
    )
    cell = sheet.by_id["standby-1"].cells[column]
    nearest = next((level for level in LEVELS if level in levels), None)
    if nearest:
        assert (cell.value, cell.origin) == (f"from-{nearest}", nearest)
    else:
        assert cell.origin in ("pool", "kit")
    # the other role follows what holds for all
    elsewhere = sheet.by_id["primary-1"].cells[column]
    wide = next((level for level in ("plan", "shared") if level in levels), None)
    assert elsewhere.value == f"from-{wide}" if wide else elsewhere.origin in ("pool", "kit")


@settings(max_examples=40, deadline=None)
@given(
    st.integers(1, 3),
    st.integers(0, 20),
    st.sets(st.integers(11, 74), max_size=40),
    st.sets(st.integers(11, 74), max_size=10),
)
def test_no_address_is_given_twice_and_what_was_held_is_kept(
    controllers: int, workers: int, others: set[int], typed: set[int]
) -> None:
    taken = {IPv4Address(f"10.44.20.{n}") for n in others}
    nodes = {
        f"worker-{i}": {"address": f"10.44.20.{n}"}
        for i, n in enumerate(sorted(typed), 1)
        if i <= workers
    }
    more = {
        "values": {"pool": "kelda-survey"},
        "roles": {"controller": {"count": 2 * controllers - 1}, "worker": {"count": workers}},
        "nodes": nodes,
    }
    first = sheet_of("skerry", more, taken=taken)
    given = [(column, value) for _, column, value in first.addresses()]
    drawn = [
        value
        for node, column, value in first.addresses()
        if node is None or node.cells[column].origin == "pool"
    ]
    assert len({value for _, value in given}) == len(given)
    assert not {IPv4Address(value) for value in drawn} & taken
    assert "10.44.20.20" not in drawn  # kept out of the pool
    assert all(
        IPv4Address("10.44.20.11") <= IPv4Address(value) <= IPv4Address("10.44.20.74")
        for value in drawn
    )
    held = {
        f"{node.id if node else ''}/{column}": value for node, column, value in first.addresses()
    }
    more["roles"]["worker"]["count"] = workers + 3  # type: ignore[index]  # a mapping of mappings
    grown = sheet_of("skerry", more, taken=taken, held=held)
    after = {
        f"{node.id if node else ''}/{column}": value for node, column, value in grown.addresses()
    }
    assert {slot: after[slot] for slot in held if slot in after} == held  # growing moves nobody
    short = 64 - 1 - len({n for n in others if n != 20})
    if len(given) > short:
        assert first.exhausted


def test_a_virtual_address_comes_from_the_end_and_stays_when_the_cluster_grows() -> None:
    seen = {
        sheet_of("skerry", {"values": {"pool": "kelda-survey"}, "roles": {"worker": {"count": n}}})
        .nodes[0]
        .value("virtual.api")
        for n in (0, 5, 40)
    }
    assert seen == {"10.44.20.74"}


def test_one_node_a_host_follows_the_bay_and_a_number_overrides_it() -> None:
    assert len(sheet_of("breakwater", {}).nodes) == 4
    assert len({node.value("host") for node in sheet_of("breakwater", {}).nodes}) == 4
    assert len(sheet_of("breakwater", {"roles": {"edge": {"count": 2}}}).nodes) == 2
    assert (
        len(sheet_of("breakwater", {"roles": {"edge": {"values": {"size": "medium"}}}}).nodes) == 4
    )
    assert len(sheet_of("breakwater", {"placement": {"avoid": ["skua"]}}).unplaced) == 1


def test_a_new_plan_begins_with_networks_that_fit_the_kit() -> None:
    assert beginning(KITS["ballast"], "kelda-main", ESTATE) == {
        "pool": "kelda-survey",
        "net.copying.pool": "kelda-storage",
    }
    assert beginning(KITS["gauge-collector"], "ness-two", ESTATE) == {"pool": "ness-survey"}
    edge = beginning(KITS["breakwater"], "kelda-main", ESTATE)
    assert edge["pool"] == "kelda-survey"
    assert edge["net.crossing.pool"] == "kelda-storage"
    assert beginning(KITS["ballast"], "nowhere", ESTATE) == {}


NAMES = st.sampled_from("abcdef")


@settings(max_examples=120, deadline=None)
@given(
    st.dictionaries(
        NAMES,
        st.tuples(
            st.lists(NAMES, max_size=3),
            st.dictionaries(st.sampled_from("xyz"), st.integers(0, 9), max_size=3),
        ),
        max_size=6,
    ),
    st.lists(NAMES, max_size=3),
)
def test_includes_end_in_values_or_in_a_reason(
    drawn: dict[str, tuple[list[str], dict[str, int]]], wanted: list[str]
) -> None:
    known = {
        name: SharedValues.model_validate(
            {"nimble-stone": "values/1", "name": name, "include": include, "values": values}
        )
        for name, (include, values) in drawn.items()
    }
    try:
        found = gather(wanted, known)
    except InputError as error:
        assert error.code in ("include-ring", "include-unknown", "include-deep")
        return
    for name in wanted[-1:]:
        # the last one's own values stand above all others
        assert found.items() >= drawn[name][1].items()
    assert set(found) <= {key for name in drawn for key in drawn[name][1]}


@settings(max_examples=80, deadline=None)
@given(
    st.lists(
        st.lists(st.text("ab-1 \t\n:{}[]#&*'\"é", max_size=8), min_size=1, max_size=5), max_size=6
    )
)
def test_any_table_gives_plans_that_are_plans_or_reasons(cells: list[list[str]]) -> None:
    rows = [["name", "title", "pool", "count.archive", "archive.size"], *cells]
    for drawn in plans_of(
        rows, Base("gauge-collector", "Gauge Collector 4.2.0", "kelda-main"), KITS
    ):
        assert bool(drawn.text) != bool(drawn.faults)
        if drawn.text:
            assert yaml_text.read(drawn.text, Plan, "the row").name == drawn.name


def test_a_copy_changes_what_is_mapped_and_lists_what_still_speaks_of_the_old_place() -> None:
    text = demo.PLAN + "nodes:\n  lead-1: {host: gannet, address: 10.44.20.30, size: large}\n"
    made = copy(
        text.replace("station: west", "station: west\n  dns: 10.44.20.5"),
        "ness",
        "ness-two",
        {"kelda-survey": "ness-survey", "medium": "small"},
        ESTATE,
    )
    plan = yaml_text.read(made.text, Plan, "the copy")
    assert (plan.name, plan.bay, plan.values["pool"], plan.roles["archive"].values["size"]) == (
        "ness",
        "ness-two",
        "ness-survey",
        "small",
    )
    assert plan.nodes == {"lead-1": {"size": "large"}}
    assert made.left == (("values.dns", "10.44.20.5"),)
    assert "# The gauges of the western shore" in made.text


def test_edits_are_made_together_and_name_what_changed() -> None:
    before = demo.PLAN
    after = yaml_text.edit_all(
        before,
        [
            (("values", "ntp"), "10.44.0.9"),
            (("placement", "avoid"), ("gannet", "skua")),
            (("roles", "archive", "count"), None),
        ],
    )
    assert set(yaml_text.changed_paths(before, after)) == {
        ("values", "ntp"),
        ("placement", "avoid"),
        ("roles", "archive", "count"),
    }
    assert "avoid: [gannet, skua]" in after
    assert yaml_text.edit_all(after, [(("placement", "avoid"), ())]).count("avoid") == 0
    # the document kept in memory says what the text says
    again = yaml_text.edit_all(after, [(("values", "ntp"), "10.44.0.8")])
    assert yaml_text.plain(yaml_text.load(again, "x")) == yaml_text.plain(
        yaml_text.load(yaml_text.edit(str(after) + "", ("values", "ntp"), "10.44.0.8"), "x")
    )
    with pytest.raises(InputError, match="needs a path"):
        yaml_text.edit_all(before, [((), 1)])


@pytest.mark.parametrize("name", ["n", "count", "role", "roles", "mark", "name", "all.name"])
def test_what_templates_may_name_stands_for_something(name: str) -> None:
    sheet = sheet_of("skerry", {"values": {"pool": "kelda-survey"}})
    assert name in KITS["skerry"].names_known()
    assert value_of(name, sheet.nodes[0], sheet)
    assert value_of("n", sheet.nodes[1], sheet) == "2"
