"""A host that does not answer moves nobody: what stands on it stays, and a person is told who would
go where.
"""

from __future__ import annotations

from nimble_stone.core import checks
from nimble_stone.core.checks import Situation
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Finding
from nimble_stone.core.plan.sheet import Sheet, resolve
from tests.core import scene

BEFORE = scene.sheet()
HOSTS = {node.id: node.value("host") for node in BEFORE.nodes}
LEAD = HOSTS["lead-1"]


def planned(where: Estate, **changes: object) -> Sheet:
    return resolve(scene.plan(**changes), scene.KIT, scene.PACKAGE, where, prefer=HOSTS)


def silent(host: str = LEAD) -> Estate:
    return scene.with_facts(
        scene.estate(), host, trouble="connection refused", trouble_code="unreachable"
    )


def told(sheet: Sheet, where: Estate, **more: object) -> list[Finding]:
    return checks.check(
        Situation(sheet, where, verdicts={"keyring:p": ()}, licence_sha256=scene.LICENCE, **more)
    )  # type: ignore[arg-type]


def test_nodes_stay_on_a_host_that_fell_silent() -> None:
    assert {node.id: node.value("host") for node in planned(silent()).nodes} == HOSTS


def test_the_finding_names_the_host_its_nodes_and_where_each_would_go() -> None:
    sheet = planned(silent())
    found = next(f for f in told(sheet, silent()) if f.code == "unreachable")
    name = sheet.by_id["lead-1"].name
    assert (found.severity, found.host) == ("blocker", LEAD)
    assert f"{LEAD}: connection refused. {name} is placed there." in found.message
    assert found.remedy is not None
    assert found.remedy.label.startswith(f"Exclude {LEAD}: move {name} to ")
    target = found.remedy.label.rpartition(" ")[2]
    assert found.remedy.edit is not None
    after = planned(silent(), **{"__".join(found.remedy.edit.path): found.remedy.edit.value})
    assert after.by_id["lead-1"].value("host") == target != LEAD
    assert not any(f.code == "unreachable" for f in told(after, silent()))


def test_a_new_plan_is_not_placed_on_a_silent_host() -> None:
    sheet = resolve(scene.plan(), scene.KIT, scene.PACKAGE, silent())
    assert LEAD not in {node.value("host") for node in sheet.nodes}


def test_a_host_chosen_by_hand_is_never_moved_by_the_remedy() -> None:
    sheet = planned(silent(), **{"nodes__lead-1__host": LEAD})
    found = next(f for f in told(sheet, silent()) if f.code == "unreachable")
    assert found.remedy is not None
    assert found.remedy.edit is None


def test_old_facts_are_said_to_be_old() -> None:
    where = scene.estate()
    age = 3 * 24 * 3600.0
    found = [f for f in told(planned(where), where, now=1.0 + age) if f.code == "facts-old"]
    assert {f.host for f in found} == set(HOSTS.values())
    assert all(f.severity == "caution" for f in found)
    assert "3 d" in found[0].message or "72 h" in found[0].message
    assert not [f for f in told(planned(where), where, now=3600.0) if f.code == "facts-old"]
