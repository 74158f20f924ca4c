"""The one door to the network. Nothing else opens a socket."""

from nimble_stone.reach.door import Reach
from nimble_stone.reach.policy import DialPolicy
from nimble_stone.reach.ssh import Answer, Credential, Target

__all__ = ["Answer", "Credential", "DialPolicy", "Reach", "Target"]
