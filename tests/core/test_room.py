"""Room on datastores: for the plan, beside other runs and plans, within each one's own limit."""

from __future__ import annotations

from typing import Any

import pytest

from nimble_stone.core.checks import Claim
from nimble_stone.core.estate import Estate, Guest, StoreCare
from nimble_stone.core.findings import Finding
from tests.core.scene import codes, estate, findings, sheet

HERE = {f"nodes__{node}__host": "gannet" for node in ("lead-1",)}
LOCAL = HERE | {"nodes__lead-1__datastore": "gannet-local"}


def with_room(free_bytes: int, where: Estate | None = None) -> Estate:
    """The estate with so much free on gannet-local."""
    where = where or estate()
    facts = where.facts["gannet"]
    stores = tuple(
        store.model_copy(update={"free_bytes": free_bytes})
        if store.name == "gannet-local"
        else store
        for store in facts.datastores
    )
    changed = facts.model_copy(update={"datastores": stores})
    return where.model_copy(update={"facts": where.facts | {"gannet": changed}})


def claim(thin: int, full: int, run: str = "", name: str = "other-1") -> Claim:
    return Claim(run, "other", name, host="gannet", stores={"gannet-local": (thin, full)})


def said(where: Estate, code: str, claims: tuple[Claim, ...] = ()) -> list[Finding]:
    found = findings(where, more={"claims": claims}, **LOCAL)
    return [one for one in found if one.code == code]


def need() -> tuple[int, int]:
    """What the lead takes on gannet-local at first, with the copy it is made from, and when
    full.
    """
    here = sheet(estate(), **LOCAL)
    thin, full = here.by_id["lead-1"].by_store["gannet-local"]
    package = here.packages.of("lead")
    assert package is not None
    return thin + package.thin_bytes, full


THIN, FULL = need()
SPARE = 1 << 20


@pytest.mark.parametrize(
    ("free", "claims", "code", "severity"),
    [
        (THIN - 1, (), "room-thin", "blocker"),
        (THIN, (), "room-full", "caution"),
        # a run that is under way takes its part first
        (THIN + SPARE, (claim(SPARE + 1, SPARE + 1, "r1"),), "room-thin", "blocker"),
        # its disks grow when they are there already
        (FULL + SPARE, (claim(0, 2 * SPARE, "r1"),), "room-full", "caution"),
        # a plan that may never be run blocks nothing
        (FULL + SPARE, (claim(2 * SPARE, 2 * SPARE),), "room-planned", "caution"),
    ],
)
def test_room_is_counted_beside_what_others_take(
    free: int, claims: tuple[Claim, ...], code: str, severity: str
) -> None:
    found = said(with_room(free), code, claims)
    assert [(one.severity, one.host, one.node) for one in found] == [(severity, "gannet", "lead-1")]
    names = {"room-thin", "room-full", "room-planned"} & codes(
        with_room(free), more={"claims": claims}, **LOCAL
    )
    assert names == {code}, "one word for each datastore"


def test_what_is_there_already_takes_only_what_it_grows() -> None:
    there = estate()
    facts = there.facts["gannet"]
    guests = (*facts.guests, Guest(name="other-1", running=True, vcpu=1, memory_bytes=1 << 30))
    there = with_room(
        FULL + SPARE,
        there.model_copy(
            update={"facts": there.facts | {"gannet": facts.model_copy(update={"guests": guests})}}
        ),
    )
    whole = claim(FULL, FULL + SPARE, "r1")
    assert said(there, "room-full", (whole,)) == []
    assert said(there, "room-thin", (whole,)) == []
    assert len(said(with_room(FULL + SPARE), "room-thin", (whole,))) == 1


def test_each_datastore_has_its_own_limit_and_protection() -> None:
    def cared(**care: Any) -> Estate:
        one = StoreCare(place="gannet/gannet-local", **care)
        return with_room(int(0.4 * (2 << 40))).model_copy(update={"stores": (one,)})

    assert said(cared(watermark=0.95), "watermark") == []
    found = said(cared(watermark=0.5), "watermark")
    assert [one.severity for one in found] == ["caution"]
    assert "its limit is 50 %" in found[0].message
    assert said(cared(protection="protected"), "store-disposable") == []
    found = said(cared(protection="disposable"), "store-disposable")
    assert [(one.severity, one.node) for one in found] == [("caution", "lead-1")]
    assert found[0].message == (
        "western-lead keeps data on gannet-local on gannet, which is marked disposable."
    )
