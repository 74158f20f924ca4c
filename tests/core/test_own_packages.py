"""Roles made from a product of their own: which packages fit, what their nodes are asked, how large
they are, how they get onto datastores.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.app.kits import load_kits
from nimble_stone.core import acceptance, checks, sequence, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package import descriptor
from nimble_stone.core.plan.difference import differences
from nimble_stone.core.plan.many import Base, plans_of
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.packages import Packages, PackageView, matched
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.lab.scenario import products
from tests.core import scene

ESTATE = scene.estate()
KIT = load_kits()["tidebook"]
MAIN, PART = (
    PackageView(product.id * 8, descriptor.parse(products.descriptor(product, 1000).encode()), thin)
    for product, thin in (
        (products.PRODUCTS["tidebook"], 10 << 20),
        (products.PARTS["transfer"], 3 << 20),
    )
)
WRONG = PackageView("w" * 64, scene.DESCRIPTOR, 1 << 20)
BOTH = Packages(MAIN, {"transfer": PART})


def sheet_of(packages: Packages = BOTH, **more: Any) -> Sheet:
    document = {
        "nimble-stone": "plan/1",
        "name": "p",
        "kit": "tidebook",
        "bay": "kelda-main",
        "roles": {"transfer": {"count": 1}},
        "values": {
            "pool": "kelda-survey",
            "net.copying.pool": "kelda-storage",
            "admin_password": "keyring:x",
        },
    } | more
    return resolve(Plan.model_validate(document), KIT, packages, ESTATE)


def found(sheet: Sheet, **more: Any) -> dict[str, Finding]:
    return {
        one.code: one
        for one in checks.check(Situation(sheet, ESTATE, verdicts={"keyring:x": ()}, **more))
    }


def test_nodes_have_the_sizes_questions_and_interfaces_of_their_own_package() -> None:
    sheet = sheet_of()
    part, primary = sheet.by_id["transfer-1"], sheet.by_id["primary-1"]
    assert (part.vcpu, part.memory_bytes >> 30, part.full_bytes >> 30) == (1, 4, 8)
    assert (primary.vcpu, primary.memory_bytes >> 30) == (2, 8)
    assert (part.thin_bytes, primary.thin_bytes > 10 << 20) == (3 << 20, True)
    assert (part.cells["transfer.parcels"].value, part.cells["transfer.parcels"].origin) == (
        "4",
        "package",
    )
    assert primary.cells["transfer.parcels"].origin == "unused"
    assert {key for key in part.cells if key.startswith("tidebook.")} == set()
    proofs = {(one.node, one.kind): one.expected for one in acceptance.expectations(sheet)}
    assert (proofs["transfer-1", "version"], proofs["primary-1", "version"]) == ("2.2.0", "7.1.0")
    assert (proofs["transfer-1", "networks"], proofs["primary-1", "networks"]) == (
        "survey",
        "survey, storage",
    )
    assert "hardware" in {kind for _, kind in proofs}


def test_each_package_is_carried_once_to_where_its_nodes_lie() -> None:
    sheet = sheet_of(values={"pool": "kelda-survey", "datastore": "kelda-shared"})
    steps = {step.key: step for step in sequence.build(sheet, ESTATE)}
    carried = {key: step for key, step in steps.items() if step.kind == "carry"}
    assert set(carried) == {"carry/kelda-shared", f"carry/kelda-shared/{PART.sha256[:12]}"}
    assert [step.detail.get("package") for step in carried.values()] == [None, PART.sha256]
    assert steps["clone/primary-1"].after == ("carry/kelda-shared",)
    assert steps["clone/transfer-1"].after == (f"carry/kelda-shared/{PART.sha256[:12]}",)
    assert (
        carried[f"carry/kelda-shared/{PART.sha256[:12]}"].label
        == "Copy image to kelda-shared (Tidebook Transfer)"
    )


def test_a_datastore_must_hold_the_copies_of_both() -> None:
    sheet = sheet_of(
        values={
            "pool": "kelda-survey",
            "datastore": "kelda-shared",
            "disk.ledger.datastore": "gannet-local",
        }
    )
    need = (
        sum(node.by_store["kelda-shared"][0] for node in sheet.nodes)
        + MAIN.thin_bytes
        + PART.thin_bytes
    )

    def with_room(free: int) -> dict[str, Finding]:
        facts = {
            name: one.model_copy(
                update={
                    "datastores": tuple(
                        (
                            store.model_copy(update={"free_bytes": free})
                            if store.name == "kelda-shared"
                            else store
                        )
                        for store in one.datastores
                    )
                }
            )
            for name, one in ESTATE.facts.items()
        }
        return {
            one.code: one
            for one in checks.check(Situation(sheet, ESTATE.model_copy(update={"facts": facts})))
        }

    assert "room-thin" not in with_room(need)
    assert "room-thin" in with_room(need - 1)


def test_what_is_missing_or_does_not_fit_is_said_role_by_role_with_what_would_do() -> None:
    fitting = {"": ("Tidebook 7.1.0",), "transfer": ("Tidebook Transfer 2.2.0",)}
    told = found(sheet_of(Packages(MAIN, {"transfer": None})), fitting=fitting)["package-missing"]
    assert told.message == "No package is chosen for role transfer."
    assert told.remedy is not None
    assert told.remedy.edit is not None
    assert (told.remedy.edit.path, told.remedy.edit.value) == (
        ("roles", "transfer", "package"),
        "Tidebook Transfer 2.2.0",
    )
    named = found(
        sheet_of(
            Packages(MAIN, {"transfer": None}),
            roles={"transfer": {"count": 1, "package": "Tidebook Transfer 9"}},
        )
    )["package-missing"]
    assert "“Tidebook Transfer 9” is not imported for role transfer" in named.message
    assert named.remedy is not None
    assert named.remedy.label == "Import a package of Tidebook Transfer 2.x"
    assert (
        "does not support Gauge Collector"
        in found(sheet_of(Packages(MAIN, {"transfer": WRONG})), fitting=fitting)[
            "package-unfit"
        ].message
    )
    assert found(sheet_of(Packages(WRONG, {"transfer": PART})))["package-unfit"].node == ""
    # A role without nodes needs no package.
    assert not {"package-missing", "package-unfit"} & set(
        found(sheet_of(Packages(MAIN, {"transfer": None}), roles={"transfer": {"count": 0}}))
    )
    assert not {"package-missing", "package-unfit", "size-unknown"} & set(found(sheet_of()))


def test_a_size_that_only_the_other_product_has_is_no_size_here() -> None:
    told = found(sheet_of(roles={"transfer": {"count": 1, "values": {"size": "large"}}}))[
        "size-unknown"
    ]
    assert told.node == "transfer-1"
    assert "it offers small, medium" in told.message


def test_another_package_for_a_role_is_a_difference() -> None:
    newer = PackageView(
        "n" * 64,
        descriptor.parse(
            products.descriptor(products.PARTS["transfer"], 1000).replace("2.2.0", "2.3.0").encode()
        ),
        3 << 20,
    )
    assert [
        one.text for one in differences(sheet_of(), sheet_of(Packages(MAIN, {"transfer": newer})))
    ] == ["Package of transfer: Tidebook Transfer 2.2.0 → Tidebook Transfer 2.3.0"]


def test_a_table_names_packages_role_by_role() -> None:
    base = Base(
        "tidebook",
        "Tidebook 7.1.0",
        "kelda-main",
        (),
        {},
        {"tidebook": {"transfer": "Tidebook Transfer 2.2.0"}},
    )
    first, second = plans_of(
        [["name", "package.transfer"], ["one", ""], ["two", "Tidebook Transfer 2.3.0"]],
        base,
        {"tidebook": KIT},
    )
    assert [
        yaml_text.read(one.text, Plan, "x").roles["transfer"].package for one in (first, second)
    ] == ["Tidebook Transfer 2.2.0", "Tidebook Transfer 2.3.0"]


@given(st.permutations([MAIN, PART, WRONG]), st.integers(0, 3))
def test_packages_find_their_roles_in_any_order(given_ones: list[PackageView], many: int) -> None:
    chosen = given_ones[:many]
    result = matched(KIT, chosen)
    assert (result.of("transfer") is PART) == (PART in chosen)
    assert (result.main is MAIN) == (MAIN in chosen)
    assert result.main is not PART
    assert set(result.each(["primary", "transfer"])) <= set(chosen)


@pytest.mark.parametrize(
    ("old", "new", "word"),
    [
        (
            (
                '    accepts: {product: Tidebook Transfer, versions: ["2."]}      # a small product'
                " of its own, with its own version\n"
            ),
            "",
            "accepts and environment belong together",
        ),
        (
            'transfer.source: "{virtual.ledger}"',
            'transfer.source: "{nowhere}"',
            "role “transfer”: environment “transfer.source” asks for “nowhere”",
        ),
        ("roles: [transfer]}", "roles: [ferry]}", "which is not a role of this kit"),
    ],
)
def test_wrong_kits_are_refused(old: str, new: str, word: str) -> None:
    from importlib.resources import files

    text = files("nimble_stone.kits").joinpath("tidebook.yaml").read_text()
    assert old in text
    with pytest.raises(yaml_text.Faults) as refused:
        yaml_text.read(text.replace(old, new), Kit, "the kit")
    assert word in str(refused.value)
