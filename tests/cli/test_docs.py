"""Command lines in the docs: each names a command and options that exist, and those that stand in
examples run.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
import typer.main
from typer.core import TyperCommand, TyperGroup

from nimble_stone.cli.client import Client
from nimble_stone.cli.disks import app as disks
from nimble_stone.cli.main import app
from tests.support import spawning
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    lab_and_server,
    prepare,
    small_package,
)

ROOT = Path(__file__).parents[2]
PAGES = (ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md")))
LINE = re.compile(r"(?:^    |^\$ |`)nimble-stone +([^`\n]+)", re.MULTILINE)


@dataclass(frozen=True)
class Written:
    """A command line as a page has it."""

    page: str
    line: str

    def words(self) -> list[str]:
        """Without comments, redirections and the brackets of what may be left out."""
        plain = re.split(r"\s+#|\s[<>|]", self.line)[0]
        return shlex.split(re.sub(r"[\[\]…|]", " ", plain))


def written() -> Iterator[Written]:
    for path in PAGES:
        for match in LINE.finditer(path.read_text()):
            yield Written(path.name, match[1].strip())


def resolved(words: list[str]) -> TyperCommand:
    """The command that the words begin with."""
    command = typer.main.get_command(app)
    left = list(words)
    if left[0] == "disk":
        command, left = typer.main.get_command(disks), left[1:]
    while isinstance(command, TyperGroup) and left:
        found = command.commands.get(left[0])
        assert found is not None, f"no command “{left[0]}”"
        command, left = found, left[1:]
    assert isinstance(command, TyperCommand), f"{words[0]} needs a command"
    return command


def test_commands_are_found_in_the_docs() -> None:
    lines = [one.line for one in written()]
    assert len(lines) > 60
    assert "run start western --watch" in lines


@pytest.mark.parametrize("one", list(written()), ids=lambda one: f"{one.page}: {one.line[:60]}")
def test_a_command_of_the_docs_exists_with_its_options(one: Written) -> None:
    words = one.words()
    command = resolved(words)
    assert not command.hidden, "the docs use its name of today"
    known = {option for parameter in command.params for option in parameter.opts} | {"--help"}
    for word in words:
        if word.startswith("--"):
            assert word.partition("=")[0] in known, f"{one.line}: no option {word}"


def test_a_command_that_does_not_exist_is_noticed() -> None:
    with pytest.raises(AssertionError, match="no command"):
        resolved(["estate", "level"])


@dataclass(frozen=True)
class Place:
    """A lab, a server with the demonstration's plan, and a folder to work in."""

    folder: Path
    lab: LabProcess
    server: ServerProcess
    client: Client

    def run(self, words: list[str], cwd: Path) -> subprocess.CompletedProcess[str]:
        known = {
            # the lab lies in the folder “lab” of the data folder, in a demonstration
            "NIMBLE_STONE_DATA": str(self.folder if words[0] == "lab" else self.server.data),
            "NIMBLE_STONE_URL": self.server.url,
            "NIMBLE_STONE_PASSPHRASE": "a passphrase for the docs",
        }
        return spawning.run(words, cwd=cwd, env={**os.environ, **known})

    def newest_run(self) -> str:
        found: list[dict[str, str]] = self.client.call("GET", "/api/runs")
        return found[0]["id"] if found else ""


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("docs")
    with lab_and_server(folder) as (lab, server, client):
        package = small_package(folder)
        prepare(client, lab, package)
        yield Place(folder, lab, server, client)


FINDINGS = ("plan check", "estate rules")
"""Commands whose exit code 1 tells that there are findings."""


def examples(page: str) -> list[list[str]]:
    """Command lines of a page's blocks, a server that would not end left out."""
    text = (ROOT / page).read_text()
    lines = re.findall(r"^    nimble-stone (.+)$", text, re.MULTILINE)
    found = [Written(page, line).words() for line in lines]
    return [words for words in found if words[0] != "serve"]


def carried_out(place: Place, words: list[str], cwd: Path) -> str:
    ready = [place.newest_run() if word == "RUN" else word for word in words]
    done = place.run(ready, cwd)
    allowed = (0, 1) if " ".join(words[:2]) in FINDINGS else (0,)
    assert done.returncode in allowed, f"{ready}: {done.stdout}{done.stderr}"
    return done.stdout


def test_the_examples_of_the_readme_run(place: Place) -> None:
    said = [carried_out(place, words, place.folder) for words in examples("README.md")]
    assert len(said) == 9
    assert "All 46 acceptance checks passed." in said[3]
    assert (place.folder / "checks.xml").exists()
    assert "Rolling back" in said[6]


def test_the_examples_of_the_plan_file_run(place: Place) -> None:
    facts = place.run(["estate", "facts", "--json"], place.folder).stdout
    (place.folder / "facts.json").write_text(json.dumps(json.loads(facts)))
    shutil.copy(small_package(place.folder), place.folder / "g.ova")
    for words in examples("docs/plans.md"):
        said = carried_out(place, words, place.folder)
        if words[:2] == ["plan", "export"]:
            (place.folder / "western.plan.yaml").write_text(said)


def test_the_examples_of_backup_and_restore_run(place: Place, tmp_path: Path) -> None:
    for number, words in enumerate(examples("docs/operation.md")):
        cwd = tmp_path / str(number)
        cwd.mkdir()
        if words[0] == "restore":
            shutil.copy(tmp_path / "0" / "stone.backup", cwd)
            words[words.index("--data") + 1] = str(cwd / "new")
        carried_out(place, words, cwd)


def test_the_examples_of_the_lab_run(place: Place) -> None:
    for words in examples("docs/lab.md"):
        carried_out(place, words, place.folder)
