"""Every column of every kit refuses what is not of its form, and says which column; what is written
and unknown is told.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.app.kits import load_kits
from nimble_stone.core import checks, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.findings import Finding
from nimble_stone.core.installing import packages as installing
from nimble_stone.core.package import descriptor
from nimble_stone.core.package.model import Disk
from nimble_stone.core.plan import forms
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import PackageView, Sheet, resolve
from nimble_stone.core.yaml_text import Faults
from nimble_stone.lab.scenario import keelson, products
from tests.core import scene

HOSTILE = ("a\nb", "a\x1b[2Jb", "x" * 5000, "a\u2028b")
KITS = load_kits()


def view_of(product: products.Product) -> PackageView:
    return PackageView(
        "b" * 64, descriptor.parse(products.descriptor(product, 1000).encode()), 1 << 20
    )


def begun(kit: str) -> Sheet:
    """A plan of a kit as it is begun, with the lab's packages."""
    if kit == "gauge-collector":
        return resolve(scene.plan(), KITS[kit], scene.PACKAGE, scene.estate())
    known = {product.title: view_of(product) for product in products.ALL.values()}
    known[keelson.TITLE] = installing.view("c" * 64, keelson.TITLE, keelson.VERSION)
    disk = Disk("d", "d", 1 << 30, None, "")
    known["shoal"] = installing.image_view("d" * 64, "shoal", "1", disk, 1 << 20, "qcow2")
    own = {role.id: known[role.accepts.product] for role in KITS[kit].roles if role.accepts}
    plan = Plan.model_validate(
        {"nimble-stone": "plan/1", "name": "p", "kit": kit, "bay": "kelda-main"}
    )
    return resolve(plan, KITS[kit], Packages(known[KITS[kit].accepts.product], own), scene.estate())


def told(column: str, value: str, kit: str = "gauge-collector") -> list[Finding]:
    """Blockers about a column that the plan gives this value for all its nodes."""
    where, first = scene.estate(), begun(kit)
    plan = first.plan
    nodes = {node.id: {**plan.nodes.get(node.id, {}), column: value} for node in first.nodes}
    sheet = resolve(plan.model_copy(update={"nodes": nodes}), KITS[kit], first.packages, where)
    return [
        f
        for f in checks.check(Situation(sheet, where))
        if f.column == column and f.severity == "blocker"
    ]


def columns_of(kit: str) -> list[Column]:
    return list(begun(kit).columns)


@pytest.mark.parametrize("kit", sorted(KITS))
def test_no_column_takes_a_line_break_a_control_character_or_endless_text(kit: str) -> None:
    for column in columns_of(kit):
        for value in HOSTILE:
            if column.kind == "ssh-key" and "\n" in value:
                continue  # keys stand one a line
            if all(node.cells[column.id].origin == "unused" for node in begun(kit).nodes):
                continue  # nobody has it as things are
            assert told(column.id, value, kit), (kit, column.id, value[:10])


@pytest.mark.parametrize(
    ("column", "value"),
    [
        ("gateway", "x"),
        ("gateway", "fe80::1"),
        ("dns", "x"),
        ("dns", "10.44.0.1 x"),
        ("dns", "10.44.0.999"),
        ("ntp", "$(id)"),
        ("ntp", "`id`"),
        ("ntp", "10.44.0.999"),
        ("time_zone", "../../etc/passwd"),
        ("time_zone", "/etc/passwd"),
        ("domain", "holm example"),
        ("domain", "-a.example"),
        ("domain", "a..b"),
        ("search", "a;b"),
        ("prefix", "x"),
        ("prefix", "0"),
        ("prefix", "-1"),
        ("prefix", "33"),
        ("prefix", "24.0"),
        ("prefix", "²"),
        ("provisioning", "fat"),
        ("name", "A B"),
        ("host", "nowhere"),
        ("datastore", "nowhere"),
        ("size", "x"),
        ("network", "x"),
        ("pool", "x"),
        ("address", "x"),
    ],
)
def test_a_wrong_value_is_told_at_its_column(column: str, value: str) -> None:
    assert told(column, value)


@pytest.mark.parametrize(
    ("column", "value"),
    [
        ("dns", "10.44.0.2"),
        ("dns", "10.44.0.2, 2001:db8::53"),
        ("dns", "10.44.0.2 10.44.0.3"),
        ("ntp", "10.44.0.5 time.holm.example"),
        ("ntp", "2001:db8::1"),
        ("time_zone", "UTC"),
        ("time_zone", "Europe/Oslo"),
        ("time_zone", "America/Argentina/Buenos_Aires"),
        ("time_zone", "Etc/GMT+5"),
        ("domain", "kelda.holm.example"),
        ("search", "kelda.holm.example holm.example"),
    ],
)
def test_a_right_value_is_taken(column: str, value: str) -> None:
    assert told(column, value) == []


@given(st.text(max_size=60))
def test_forms_answer_anything_with_words(text: str) -> None:
    for form in {*forms.BY_PART.values(), forms.server, forms.address}:
        assert isinstance(form(text), str)


@given(st.text(max_size=40))
def test_nothing_that_a_shell_would_act_on_passes_a_built_in_form(text: str) -> None:
    if set(text) & set("$`;|&<>(){}'\"\\*?!~#\n"):
        assert all(form(text) for form in forms.BY_PART.values())


def test_what_is_written_and_unknown_is_told_with_the_nearest_name() -> None:
    found = {
        f.column: f
        for f in scene.findings(
            **{
                "values__nonsense": "24",
                "values__gatway": "10.44.20.1",
                "nodes__lead-1__net.crossing.gateway": "10.44.1.1",
                "roles__archive__values__time-zone": "UTC",
            }
        )
        if f.code == "column-unknown"
    }
    assert set(found) == {"nonsense", "gatway", "net.crossing.gateway", "time-zone"}
    assert all(f.severity == "blocker" for f in found.values())
    assert "the nearest is “gateway”" in found["gatway"].message
    assert "the nearest is “time_zone”" in found["time-zone"].message
    assert "nearest" not in found["nonsense"].message
    assert found["net.crossing.gateway"].node == "lead-1"
    remedy = found["gatway"].remedy
    assert remedy is not None
    assert remedy.edit is not None
    assert remedy.edit.path == ("values", "gatway")


@pytest.mark.parametrize(
    ("text", "near"),
    [
        ("placment: {survive: 1}", "placement"),
        ("placement: {overcomit: 2}", "overcommit"),
        ("roles: {lead: {cuont: 1}}", "count"),
        ("licence: {bye: x}", "by"),
    ],
)
def test_a_mistyped_key_is_told_with_the_nearest(text: str, near: str) -> None:
    with pytest.raises(Faults, match=f"did you mean “{near}”"):
        yaml_text.read(f"nimble-stone: plan/1\nname: x\nkit: y\n{text}\n", Plan, "the plan")
