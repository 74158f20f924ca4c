"""Each rule: a plan that breaks it is told where, why, what would happen; the plan that is right is
left alone.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from nimble_stone.core import checks, ledger, sizing
from nimble_stone.core.checks import Claim, Situation
from nimble_stone.core.estate import Carried, Guest, Mark
from nimble_stone.core.findings import ORDER, Edit
from nimble_stone.core.kit.checks import AcceptanceCheck
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.units import GIB, MIB
from tests.core.scene import codes, estate, findings, situation, with_facts
from tests.core.test_resolution import KITS, PACKAGES


def test_the_demonstration_plan_is_ready_to_run() -> None:
    assert findings() == []


@pytest.mark.parametrize(
    ("changes", "code", "node", "column"),
    [
        ({"nodes__archive-2__name": "western-lead"}, "duplicate-name", "archive-2", "name"),
        (
            {"nodes__lead-1__address": "10.44.20.40", "nodes__archive-2__address": "10.44.20.40"},
            "duplicate-address",
            "archive-2",
            "address",
        ),
        ({"nodes__lead-1__address": "10.45.20.11"}, "address-outside", "lead-1", "address"),
        ({"nodes__lead-1__address": "10.44.20.0"}, "address-network", "lead-1", "address"),
        ({"nodes__lead-1__address": "10.44.21.255"}, "address-broadcast", "lead-1", "address"),
        ({"nodes__lead-1__address": "10.44.20.1"}, "address-gateway", "lead-1", "address"),
        ({"nodes__lead-1__address": "10.44.20.256"}, "address-form", "lead-1", "address"),
        ({"values__gateway": "10.44.60.1"}, "gateway-outside", "lead-1", "gateway"),
        ({"values__prefix": 24}, "prefix", "lead-1", "prefix"),
        (
            {"nodes__lead-1__datastore": "fulmar-local", "nodes__lead-1__host": "gannet"},
            "datastore-missing",
            "lead-1",
            "datastore",
        ),
        ({"nodes__lead-1__host": "knot"}, "network-missing", "lead-1", "host"),
        (
            {"nodes__archive-1__host": "skua", "nodes__archive-2__host": "skua"},
            "apart",
            "archive-2",
            "host",
        ),
        ({"nodes__archive-2__size": "large"}, "sizes-unequal", "archive-2", "size"),
        ({"values__station": None}, "unanswered", "", "station"),
        ({"values__station": "x"}, "value", "lead-1", "station"),
        (
            {"values__admin_password": "Tide-tables 1893"},
            "secret-plain",
            "lead-1",
            "admin_password",
        ),
        ({"values__admin_password": "keyring:gone"}, "secret-missing", "lead-1", "admin_password"),
        ({"licence": None}, "licence", "", "licence"),
        ({"roles__archive__count": 1}, "count", "", "count"),
        ({"nodes__lead-1__size": "huge"}, "size-unknown", "lead-1", "size"),
        ({"values__network": "nowhere"}, "network-unknown", "lead-1", "network"),
        ({"nodes__lead-1__host": "albatross"}, "host-unknown", "lead-1", "host"),
        ({"nodes__relay-1__name": "x"}, "node-unused", "", ""),
        ({"values__pool": None}, "address-missing", "lead-1", "address"),
        ({"bay": ""}, "bay-missing", "", "bay"),
        ({"nodes__lead-1__name": "Not A Name"}, "value", "lead-1", "name"),
    ],
)
def test_a_broken_rule_is_found_where_it_is_broken(
    changes: dict[str, Any], code: str, node: str, column: str
) -> None:
    found = next((finding for finding in findings(**changes) if finding.code == code), None)
    assert found is not None, [f.code for f in findings(**changes)]
    assert (found.node, found.column) == (node, column)
    assert found.message
    assert found.consequence


def test_a_remedy_with_an_edit_really_removes_its_finding() -> None:
    broken = {
        "nodes__archive-2__address": "10.44.60.11",
        "values__gateway": "10.44.60.1",
        "nodes__archive-2__size": "large",
        "roles__archive__count": 1,
    }
    for path, value in broken.items():
        found = next(
            finding
            for finding in findings(**{path: value})
            if finding.remedy and finding.remedy.edit
        )
        assert found.remedy is not None
        assert found.remedy.edit is not None
        mended = {path: value, "__".join(found.remedy.edit.path): found.remedy.edit.value}
        assert found.code not in codes(**mended)


def test_an_address_that_answers_is_told_with_its_evidence_and_the_next_free_one() -> None:
    found = findings(more={"answering": {"10.44.20.12": "answers a ping from fulmar"}})[0]
    assert (found.code, found.node) == ("address-answers", "archive-1")
    assert "answers a ping from fulmar" in found.message
    assert found.remedy is not None
    assert found.remedy.label == "Use 10.44.20.14"


def test_memory_counts_bedrock_and_what_other_runs_still_bring() -> None:
    assert "memory" not in codes(**{"nodes__archive-1__host": "gannet"})
    claim = Claim("r1", "eastern", "eastern-arc-1", ("10.44.20.40",), "gannet", 130 * GIB)
    assert "memory" in codes(more={"claims": (claim,)}, **{"nodes__archive-1__host": "gannet"})
    there = with_facts(
        estate(), "gannet", guests=(Guest(name="hog", running=True, memory_bytes=230 * GIB),)
    )
    assert "memory" in codes(
        there, **{"nodes__lead-1__host": "gannet", "nodes__archive-1__host": "gannet"}
    )


def test_room_is_counted_for_all_nodes_together_thin_and_full() -> None:
    where = estate()
    pinned = {
        f"nodes__{node}__datastore": "kelda-shared" for node in ("lead-1", "archive-1", "archive-2")
    }
    tight = where
    for host in ("gannet", "fulmar", "skua", "petrel"):
        tight = with_facts(
            tight,
            host,
            datastores=tuple(
                s.model_copy(update={"free_bytes": 100 * MIB}) if s.shared else s
                for s in where.facts[host].datastores
            ),
        )
    found = next(f for f in findings(tight, **pinned) if f.code == "room-thin")
    assert "all 3 nodes together need" in found.message
    ample = tight
    for host in ("gannet", "fulmar", "skua", "petrel"):
        ample = with_facts(
            ample,
            host,
            datastores=tuple(
                s.model_copy(update={"free_bytes": 100 * GIB}) if s.shared else s
                for s in where.facts[host].datastores
            ),
        )
    assert "room-full" in codes(ample, **pinned)


def test_a_guest_of_that_name_blocks_whether_ours_or_not_but_not_for_its_own_run() -> None:
    foreign = with_facts(estate(), "skua", guests=(Guest(name="western-arc-1", running=False),))
    assert (
        "did not create it"
        in next(f for f in findings(foreign) if f.code == "guest-unmarked").message
    )
    ours = with_facts(
        estate(),
        "skua",
        guests=(Guest(name="western-arc-1", mark=Mark(run="r9", node="archive-1")),),
    )
    assert (
        "Run r9 created it" in next(f for f in findings(ours) if f.code == "guest-exists").message
    )
    assert "guest-exists" not in codes(ours, more={"own_runs": frozenset({"r9"})})


def test_an_unreachable_host_and_a_refused_login_are_told_apart() -> None:
    gone = with_facts(
        estate(), "gannet", trouble="gannet does not answer within 8 s", trouble_code="unreachable"
    )
    assert "unreachable" in codes(gone, **{"nodes__lead-1__host": "gannet"})
    shut = with_facts(
        estate(),
        "gannet",
        trouble="gannet rejected the login for “root”",
        trouble_code="login-refused",
    )
    assert "login-refused" in codes(shut, **{"nodes__lead-1__host": "gannet"})
    # placement goes round it
    assert findings(gone) == []


def test_a_stopped_network_is_not_carried() -> None:
    where = with_facts(
        estate(), "gannet", networks=(Carried(name="survey", bridge="br-survey", active=False),)
    )
    assert "network-missing" in codes(where, **{"nodes__lead-1__host": "gannet"})


def test_names_and_addresses_of_other_runs_are_claimed() -> None:
    claim = Claim("r1", "eastern", "western-lead", ("10.44.20.12",))
    assert {"claimed-name", "claimed-address"} <= codes(more={"claims": (claim,)})


def test_weak_secrets_are_told_without_being_quoted() -> None:
    found = next(
        f
        for f in findings(
            more={"verdicts": {"keyring:p": ("is 4 characters long, at least 10 are needed",)}}
        )
        if f.code == "secret-weak"
    )
    assert "at least 10" in found.message


def skerry(values: dict[str, Any] | None = None, **more: Any) -> Sheet:
    document = {
        "nimble-stone": "plan/1",
        "name": "reef",
        "kit": "skerry",
        "bay": "kelda-main",
        "values": {"pool": "kelda-survey"} | (values or {}),
    } | more
    return resolve(Plan.model_validate(document), KITS["skerry"], PACKAGES["skerry"], estate())


def told(sheet: Sheet, prefix: str, **more: Any) -> list[tuple[str, str, str]]:
    return [
        (f.severity, f.node, f.message)
        for f in checks.check(Situation(sheet, estate(), **more))
        if f.code.startswith(prefix)
    ]


def test_a_certificate_is_made_here_or_in_the_keyring_and_fits_its_nodes() -> None:
    assert told(skerry(), "certificate") == []
    assert told(skerry({"certificate.interface": "mine"}), "certificate") == [
        (
            "blocker",
            f"controller-{n}",
            (
                "Interface certificate is “mine”, which is neither “made here” nor a pair in the"
                " keyring."
            ),
        )
        for n in (1, 2, 3)
    ]
    brought = skerry({"certificate.interface": "keyring:c"})
    assert told(brought, "certificate")[0] == (
        "blocker",
        "controller-1",
        "The keyring has no pair “c”.",
    )
    pairs = {
        "keyring:c": {
            "controller-1": (),
            "controller-2": ("is not made out to reef-ctl2",),
            "controller-3": ("expires on 2026-12-01 already",),
        }
    }
    assert told(brought, "certificate", pairs=pairs) == [
        (
            "blocker",
            "controller-2",
            "Interface certificate of reef-ctl2 is not made out to reef-ctl2.",
        ),
        (
            "caution",
            "controller-3",
            "Interface certificate of reef-ctl3 expires on 2026-12-01 already.",
        ),
    ]


def test_a_datastore_is_looked_for_where_each_disk_is_to_lie() -> None:
    values = {"disk.layers.count": "1", "disk.layers": "64"}
    host = {
        "worker-1": {
            "host": "gannet",
            "disk.layers.datastore": "gannet-local",
            "datastore": "kelda-shared",
        }
    }
    roles = {"worker": {"count": 1}}
    fine = skerry(values, nodes=host, roles=roles)
    assert told(fine, "datastore") == []
    worker = fine.by_id["worker-1"]
    assert {name: full >> 30 for name, (_, full) in worker.by_store.items()} == {
        "kelda-shared": 20,
        "gannet-local": 64,
    }
    assert sum(full for _, full in worker.by_store.values()) == worker.full_bytes
    assert sum(thin for thin, _ in worker.by_store.values()) == worker.thin_bytes
    lost = skerry(
        values,
        nodes={"worker-1": host["worker-1"] | {"disk.layers.datastore": "skua-local"}},
        roles=roles,
    )
    assert [
        (f.column, f.code)
        for f in checks.check(Situation(lost, estate()))
        if f.code.startswith("datastore")
    ] == [("disk.layers.datastore", "datastore-missing")]
    great = skerry(
        values | {"disk.layers": "1024"},
        nodes={f"worker-{n}": {"host": "gannet"} for n in (1, 2)} | {"worker-1": host["worker-1"]},
        roles={"worker": {"count": 2}},
    )
    lines = {line.name: line for line in ledger.stores(great, estate())}
    # both disks are counted where they lie, not with their nodes
    assert lines["gannet-local"].full_bytes >= 2 << 40
    assert lines["kelda-shared"].full_bytes < 1 << 40


def test_what_the_kit_wishes_decides_where_its_disks_lie() -> None:
    sheet = skerry(
        {"disk.layers.count": "1", "disk.layers": "64", "datastore": "kelda-shared"},
        roles={"worker": {"count": 2}},
    )
    assert {node.value("disk.layers.datastore") for node in sheet.by_role["worker"]} <= {
        f"{name}-local" for name in ("gannet", "fulmar", "skua", "petrel")
    }
    assert {node.cells["disk.layers.datastore"].origin for node in sheet.by_role["controller"]} == {
        "unused"
    }
    none = skerry(roles={"worker": {"count": 2}})
    assert {node.cells["disk.layers.datastore"].origin for node in none.nodes} == {"unused"}


def test_a_role_has_the_sizes_that_the_product_takes_for_it() -> None:
    kit = KITS["skerry"].model_copy(
        update={
            "roles": tuple(
                (
                    role.model_copy(update={"sizes": ("medium", "large")})
                    if role.id == "controller"
                    else role
                )
                for role in KITS["skerry"].roles
            )
        }
    )

    def shaped(values: dict[str, Any], **more: Any) -> Sheet:
        document = {
            "nimble-stone": "plan/1",
            "name": "reef",
            "kit": "skerry",
            "bay": "kelda-main",
            "values": {"pool": "kelda-survey"} | values,
        } | more
        return resolve(Plan.model_validate(document), kit, PACKAGES["skerry"], estate())

    usual = shaped({})
    assert {
        (node.role, node.cells["size"].value, node.cells["size"].origin) for node in usual.nodes
    } == {("controller", "medium", "kit"), ("worker", "small", "package")}
    assert told(usual, "size") == []
    wrong = shaped({"size": "small"})
    found = next(f for f in checks.check(Situation(wrong, estate())) if f.code == "size-role")
    assert (
        found.message
        == "reef-ctl1 and 2 more nodes would be small; for role controller the product supports"
        " medium, large."
    )
    assert found.remedy is not None
    assert found.remedy.edit == Edit(path=("roles", "controller", "values", "size"), value="medium")
    one = shaped({}, nodes={"controller-2": {"size": "small"}})
    edit = next(f for f in checks.check(Situation(one, estate())) if f.code == "size-role").remedy
    assert edit is not None
    assert edit.edit == Edit(path=("nodes", "controller-2", "size"), value="medium")
    assert PACKAGES["skerry"].descriptor.sizes
    for proposal in sizing.propose(kit, PACKAGES["skerry"].descriptor.sizes, {"programs": 1}):
        assert proposal.role != "controller" or (
            proposal.chosen and proposal.chosen.size in ("medium", "large")
        )


def test_a_disk_follows_what_the_nodes_are_for() -> None:
    def tidebook(values: dict[str, Any], **more: Any) -> Sheet:
        document = {
            "nimble-stone": "plan/1",
            "name": "book",
            "kit": "tidebook",
            "bay": "kelda-main",
            "values": {"pool": "kelda-survey"} | values,
        } | more
        return resolve(
            Plan.model_validate(document), KITS["tidebook"], PACKAGES["tidebook"], estate()
        )

    assert {node.value("disk.ledger") for node in tidebook({}).nodes} == {"64"}
    grown = tidebook({"use": "production"})
    assert {
        (node.cells["disk.ledger"].value, node.cells["disk.ledger"].origin) for node in grown.nodes
    } == {("512", "kit")}
    assert told(grown, "extra-disk") == []
    mixed = tidebook(
        {"use": "production"},
        nodes={"standby-1": {"use": "trial"}, "primary-1": {"disk.ledger": "64"}},
    )
    assert mixed.by_id["standby-1"].value("disk.ledger") == "64"
    assert [message for _, _, message in told(mixed, "extra-disk")] == [
        "Ledger disk of book-pri is “64 GiB”; the maker's guide allows for production 256 to 4096"
        " GiB."
    ]
    assert any(
        "use one of trial, production" in message
        for _, _, message in told(tidebook({"use": "fun"}), "value")
    )


def test_findings_come_with_the_weightiest_first() -> None:
    found = checks.check(
        situation(
            **{
                "nodes__archive-2__size": "large",
                "values__station": None,
                "nodes__relay-1__name": "x",
            }
        )
    )
    weights = [ORDER[finding.severity] for finding in found]
    assert weights == sorted(weights)
    assert len(set(weights)) == 3


def test_a_bay_from_which_nodes_are_to_be_reached_has_hosts() -> None:
    def told(source: str) -> list[str]:
        check = AcceptanceCheck(
            id="from", label="Reached", kind="reach", of="cluster", ports=(80,), source=source
        )
        here = situation()
        kit = here.sheet.kit.model_copy(update={"acceptance": (check,)})
        where = replace(here, sheet=replace(here.sheet, kit=kit))
        return [one.message for one in checks.check(where) if one.code == "reach-bay"]

    assert told("nodes") == told("hosts") == told("ness-two, kelda-main") == told("") == []
    assert told("ness-two, nowhere") == [
        "“Reached” asks from bay “nowhere”, which has no host.",
    ]
