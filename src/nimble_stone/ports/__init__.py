"""What the engine and the use cases work with: store, keyring, the door to the network, the clock,
drivers of hosts. Handed in, so that tests can replace any of it.
"""

from nimble_stone.ports.ports import Ports

__all__ = ["Ports"]
