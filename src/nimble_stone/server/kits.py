"""The kits this server knows: those that ship with it."""

from __future__ import annotations

from importlib import resources

from nimble_stone.core import yaml_text
from nimble_stone.core.kit.model import Kit


def load_kits() -> dict[str, Kit]:
    """Kit by id. Raises FormatError or Faults for a kit that is wrong."""
    found = {}
    for entry in sorted(resources.files("nimble_stone.kits").iterdir(), key=lambda entry: entry.name):
        if entry.name.endswith(".yaml"):
            kit = yaml_text.read(entry.read_text(encoding="utf-8"), Kit, f"kit file {entry.name}")
            found[kit.id] = kit
    return found
