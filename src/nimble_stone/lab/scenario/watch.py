"""The survey's monitoring system (watch.yaml), with which plans register their nodes."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from nimble_stone.core import yaml_text
from nimble_stone.lab.guests.answers import Answers
from nimble_stone.lab.systems import Standing

ADDRESS = "10.44.0.6"
PASSWORD = "watch the tide turn 8"


def standing(folder: Path) -> Standing:
    """The system. `folder`: of the lab."""
    text = (files("nimble_stone.lab.scenario") / "watch.yaml").read_text()
    found = yaml_text.read(text, Answers, "watch.yaml")
    return Standing(found.systems[0], ADDRESS, folder)
