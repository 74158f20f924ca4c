"""Documents of runs: what was written by any version is read for ever, and today's code changes
nothing in them.
"""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.core import sequence
from nimble_stone.core.errors import FormatError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.runs import document
from tests.core import scene

CORPUS = Path(__file__).parents[2] / "data" / "run-documents"
FILES = sorted(CORPUS.glob("*.json"))


def stored(version: int) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((CORPUS / f"version-{version}.json").read_text())
    return found


def values(found: document.RunDocument) -> dict[str, dict[str, str]]:
    return {
        node.id: {key: cell.value for key, cell in node.cells.items() if cell.value}
        for node in found.sheet.nodes
    }


def test_there_is_one_document_of_each_version() -> None:
    versions = sorted(json.loads(file.read_text()).get("version", 1) for file in FILES)
    assert versions == list(range(1, document.VERSION + 1))


@pytest.mark.parametrize("file", FILES, ids=lambda file: file.stem)
def test_every_document_of_the_past_reads(file: Path) -> None:
    doc = json.loads(file.read_text())
    found = document.read(doc, scene.sheet().packages)
    assert [node.id for node in found.sheet.nodes] == ["lead-1", "archive-1", "archive-2"]
    assert found.sheet.nodes[0].value("name") == doc["plan"]["nodes"]["lead-1"]["name"]
    assert found.sheet.nodes[0].memory_bytes > 1 << 30
    assert found.sheet.node("archive-1").value("address") == "10.44.20.99"  # type: ignore[union-attr]
    assert [*found.steps] == [item["key"] for item in doc["steps"]]
    assert found.domain_types == doc["domain_types"]
    assert found.unknown == ()


def test_what_is_written_is_read_back() -> None:
    sheet = scene.sheet()
    steps = sequence.build(sheet, scene.estate())
    doc = json.loads(json.dumps(document.write(sheet, steps, scene.estate())))
    found = document.read(doc, Packages())
    assert found.sheet.columns == sheet.columns
    assert found.sheet.packages.main == sheet.packages.main
    assert list(found.steps.values()) == steps
    for node in sheet.nodes:
        same = found.sheet.by_id[node.id]
        assert (same.size, same.thin_bytes, same.by_store) == (
            node.size,
            node.thin_bytes,
            node.by_store,
        )
        assert {k: c.value for k, c in same.cells.items()} == {
            k: c.value for k, c in node.cells.items()
        }
        unused = {k for k, c in node.cells.items() if c.origin == "unused"}
        assert {k for k, c in same.cells.items() if c.origin == "unused"} == unused


def test_a_document_needs_nothing_but_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    """Neither the package nor today's way of resolving: a later edit of either changes nothing."""

    def never(*_: object, **__: object) -> None:
        raise AssertionError("it was resolved again")

    before = values(document.read(stored(2), Packages()))
    monkeypatch.setattr(document, "resolve", never)
    assert values(document.read(stored(2), Packages())) == before


def test_keys_and_kinds_of_other_versions_are_passed_over_and_named() -> None:
    doc = stored(2)
    doc["kit"]["colour"] = "grey"
    doc["kit"]["roles"][0]["mood"] = {"of": "the day"}
    doc["plan"]["weather"] = "fog"
    doc["steps"][0]["noise"] = 1
    doc["columns"][0]["hue"] = 2
    kinds = len(doc["kit"]["acceptance"])
    doc["kit"]["acceptance"].insert(1, {"id": "aura", "kind": "aura", "label": "Aura felt"})
    found = document.read(doc, Packages())
    assert values(found) == values(document.read(stored(2), Packages()))
    assert len(found.sheet.kit.acceptance) == kinds
    assert set(found.unknown) == {
        "key weather",
        "key colour",
        "key roles.0.mood",
        "entry acceptance.1",
    }


@pytest.mark.parametrize("version", [0, 99, "2", None])
def test_a_document_of_a_newer_program_is_refused_in_words(version: object) -> None:
    with pytest.raises(FormatError) as caught:
        document.read(stored(2) | {"version": version}, Packages())
    assert caught.value.code == "run-document-version"
    assert caught.value.hint


def test_a_damaged_document_is_refused_in_words() -> None:
    for key in ("plan", "kit", "nodes", "columns", "steps", "views"):
        doc = copy.deepcopy(stored(2))
        doc[key] = "mud"
        with pytest.raises(FormatError) as caught:
            document.read(doc, Packages())
        assert caught.value.code == "run-document"


def test_kits_are_still_strict_where_people_write_them() -> None:
    with pytest.raises(ValueError, match="colour"):
        Kit.model_validate(stored(2)["kit"] | {"colour": "grey"})


def test_a_kit_of_a_day_with_softer_rules_is_read_back() -> None:
    """A rule that came later must not make a run unreadable that began before."""
    doc = stored(2)
    call = {"ssh": "say '{name}' to {nobody_that_is_known}"}
    doc["kit"]["acceptance"].append({"id": "said", "label": "Said", "kind": "call", "call": call})
    doc["kit"]["forming"][0]["after"] = ["what-never-was"]
    with pytest.raises(ValueError, match="is inside quotes"):
        Kit.model_validate(doc["kit"])
    found = document.read(doc, Packages())
    assert found.unknown == ()
    assert found.sheet.kit.acceptance[-1].call is not None
