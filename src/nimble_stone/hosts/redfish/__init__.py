"""Bare machines through their management controllers, by Redfish over pinned HTTPS."""

from nimble_stone.hosts.redfish.driver import Recorded, RedfishDriver
from nimble_stone.hosts.redfish.machine import KINDS_OF_RESET, RedfishMachine, until

__all__ = ["KINDS_OF_RESET", "Recorded", "RedfishDriver", "RedfishMachine", "until"]
