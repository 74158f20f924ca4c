"""The tutorial on kits: its file is the one that ships, each command in it does what it says."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
from pathlib import Path

from nimble_stone.core import yaml_text
from nimble_stone.core.kit.model import Kit
from tests.support import spawning

DOCS = Path(__file__).parents[2] / "docs"
TEXT = (DOCS / "kits.md").read_text(encoding="utf-8")


def fences(language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", TEXT, re.DOTALL)


def test_the_file_of_the_tutorial_is_the_one_that_ships() -> None:
    (shown,) = fences("yaml")
    assert shown == (DOCS / "examples" / "transfer.yaml").read_text(encoding="utf-8")
    assert yaml_text.read(shown, Kit, "the tutorial's kit").title == "Tidebook Transfer"


def test_each_command_of_the_tutorial_runs_and_says_what_is_shown(tmp_path: Path) -> None:
    data = tmp_path / "data"
    (data / "kits").mkdir(parents=True, mode=0o700)
    (tmp_path / "transfer.yaml").write_text(fences("yaml")[0])
    environment = {**os.environ, "NIMBLE_STONE_DATA": str(data)}
    ran = []
    for block in fences("console"):
        lines = block.strip().splitlines()
        commands = [line.removeprefix("$ ") for line in lines if line.startswith("$ ")]
        expected = [line for line in lines if not line.startswith("$ ")]
        printed = ""
        for command in commands:
            words = shlex.split(command.replace("$NIMBLE_STONE_DATA", str(data)))
            if words[0] == "nimble-stone":
                done = spawning.run(words[1:], cwd=tmp_path, env=environment)
            else:
                done = subprocess.run(
                    words,
                    cwd=tmp_path,
                    env=environment,
                    capture_output=True,
                    text=True,
                    timeout=200,
                )
            assert done.returncode == 0, f"{command}: {done.stdout}{done.stderr}"
            printed += done.stdout
            ran.append(words[:3])
        for line in expected:
            shape = re.escape(line).replace(r"7\ s", r"\d+\ s")
            assert re.search(shape, printed), f"“{line}” is not in: {printed}"
    assert ["nimble-stone", "kit", "try"] in ran
    assert (data / "kits" / "transfer.yaml").exists()
