"""Why a service could not be reached, as people are told."""

from __future__ import annotations

import os

from nimble_stone.core.errors import Unreachable


def unreachable(address: str, port: int, what: str, error: OSError, by: str = "") -> Unreachable:
    """For what the system said. `what` was tried; `by`: words behind the place, such as the
    protocol.
    """
    refused = isinstance(error, ConnectionRefusedError)
    why = "no service listens on this port" if refused else os.strerror(error.errno or 0)
    return Unreachable(
        f"{address}:{port} cannot be reached{by}: {why}",
        target=address,
        operation=what,
        hint="Check that it is up and the address is right.",
    )
