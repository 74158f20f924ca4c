"""Where the media of a VM lie that an installer sets up."""

from __future__ import annotations

from nimble_stone.engine.steps import installing
from nimble_stone.engine.steps.context import Context
from nimble_stone.hosts.api import VmMedium

IDE = ("hda", "hdb", "hdc", "hdd")


def medium_volume(c: Context) -> str:
    """The volume with the node's answers: on a small ISO, or in its own copy of the installer."""
    return c.volume(f"{c.node.name}-answers")


def installer_volume(c: Context, sha256: str) -> str:
    """The volume with the installer as it came, for all nodes of a datastore."""
    return c.volume(f"{sha256[:12]}-installer")


def media_of(c: Context, config_target: str) -> tuple[VmMedium, ...]:
    """What the node's VM starts from while its disk is blank, beside the medium with its answers;
    () where that is all, or where nothing is installed.
    """
    installer = installing.installer_of(c)
    if installer is None or not installer.label:
        return ()
    free = next(one for one in reversed(IDE) if one != config_target)
    return (VmMedium(c.step.datastore, installer_volume(c, c.contents.sha256), free),)
