"""Rules of the house that no linter knows."""

from __future__ import annotations

import ast
import re
import sys
import tomllib
from importlib.metadata import packages_distributions
from pathlib import Path

import pytest

from tests.support import catalogue

ROOT = Path(__file__).parents[1]
SOURCES = sorted((ROOT / "src").rglob("*.py"))


def imported(path: Path) -> set[str]:
    """Top-level names of what a file imports."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name.split(".")[0] for alias in node.names}
        if isinstance(node, ast.ImportFrom) and node.module and not node.level:
            found.add(node.module.split(".")[0])
    return found


def declared() -> set[str]:
    """Distributions that pyproject.toml asks for at run time, in lower case with dashes."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    return {re.split(r"[\[<>=~; ]", one)[0].lower() for one in project["dependencies"]}


def test_whatever_is_imported_is_declared() -> None:
    own = {"nimble_stone", *sys.stdlib_module_names}
    providers = packages_distributions()
    asked = declared()
    # FastAPI's own foundation, which it exports only in part
    asked |= {"starlette", "pydantic-core"}
    missing = {
        f"{path.relative_to(ROOT)}: {name}"
        for path in SOURCES
        for name in imported(path) - own
        if not {one.lower().replace("_", "-") for one in providers.get(name, [name])} & asked
    }
    assert missing == set()


def test_both_lists_of_dependencies_agree() -> None:
    listed = set((ROOT / "requirements.in").read_text().split()) - {"setuptools", "wheel"}
    assert listed == declared()


def test_locked_packages_have_digests_and_no_addresses() -> None:
    for name in ("requirements.lock", "requirements-dev.lock"):
        text = (ROOT / name).read_text()
        pinned = re.findall(r"^([\w.-]+)==", text, re.MULTILINE)
        blocks = re.split(r"^(?=[\w.-]+==)", text, flags=re.MULTILINE)[1:]
        assert len(pinned) == len(blocks) > 20
        assert all("--hash=sha256:" in block for block in blocks)
        assert "://" not in text


def test_no_line_is_longer_than_100_characters() -> None:
    pragma = re.compile(r"\s*#\s*(type: ignore|noqa).*$")
    long = [
        f"{path.relative_to(ROOT)}:{number}"
        for folder in ("src", "tests", "bench")
        for path in sorted((ROOT / folder).rglob("*.py"))
        for number, line in enumerate(path.read_text().splitlines(), 1)
        if len(pragma.sub("", line)) > 100
    ]
    assert long == []


@pytest.mark.parametrize("name", ["errors.md", "findings.md"])
def test_the_catalogues_are_what_the_code_says(name: str) -> None:
    """Both ways: no code is missing in the docs, and none is there that the code does not have."""
    assert (ROOT / "docs" / name).read_text() == catalogue.pages()[name], "run make openapi"


def test_every_error_that_names_a_code_says_something() -> None:
    errors, findings = catalogue.read()
    assert len(errors) > 150
    assert len(findings) > 50
    assert [code for code, entry in findings.items() if not entry.said] == []


FORMATS = (
    *("core/disk/", "core/package/", "core/plan/packages.py", "packages/"),
    *("cli/disks.py", "cli/inspecting.py"),
)
"""Where a disk format may be named: it is a payload's there, not a host's."""


@pytest.mark.parametrize(
    ("words", "allowed"),
    [
        ("virsh|libvirt|KvmHost", ("hosts/", "lab/")),
        ("qcow2", ("hosts/kvm/", "lab/", *FORMATS)),
    ],
)
def test_only_a_driver_knows_how_its_kind_of_host_is_spoken_to(
    words: str, allowed: tuple[str, ...]
) -> None:
    home = ROOT / "src" / "nimble_stone"
    told = [
        name
        for path in SOURCES
        if not (name := str(path.relative_to(home))).startswith(allowed)
        and re.search(words, path.read_text(), re.IGNORECASE)
    ]
    assert told == []


def test_the_page_does_not_know_it_either() -> None:
    pages = [*(ROOT / "web" / "src").rglob("*.ts"), *(ROOT / "web" / "src").rglob("*.svelte")]
    told = [
        path.name
        for path in pages
        if not path.name.endswith((".test.ts", ".gen.d.ts"))
        and re.search("virsh|libvirt", path.read_text(), re.IGNORECASE)
    ]
    assert told == []


def tangled(path: Path) -> list[int]:
    """Lines of a file with a conditional inside a conditional, or inside an index."""
    found = []
    for node in ast.walk(ast.parse(path.read_text())):
        inner: list[ast.expr] = []
        if isinstance(node, ast.IfExp):
            inner = [node.test, node.body, node.orelse]
        elif isinstance(node, ast.Subscript):
            inner = [node.slice]
        if any(isinstance(part, ast.IfExp) for one in inner for part in ast.walk(one)):
            found.append(node.lineno)  # type: ignore[attr-defined]
    return found


def test_no_conditional_stands_inside_another() -> None:
    told = [f"{path.relative_to(ROOT)}:{line}" for path in SOURCES for line in tangled(path)]
    assert told == []
