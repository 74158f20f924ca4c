"""Connections that say nothing: closed after a while, and never so many that they crowd
others out.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

FIRST_REQUEST_S = 20.0
HALF_OPEN = 256


class Connection(H11Protocol):
    """An HTTP connection whose first request must have arrived, headers and all, within 20 s. Of
    more than
    256 that have not asked anything yet the oldest is closed."""

    _silent: OrderedDict[Connection, None] = OrderedDict()

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait for the first request."""
        super().connection_made(transport)
        self._silent[self] = None
        self._waiting = asyncio.get_running_loop().call_later(
            FIRST_REQUEST_S, self._close_if_silent
        )
        while len(self._silent) > HALF_OPEN:
            oldest, _ = self._silent.popitem(last=False)
            oldest.transport.close()

    def handle_events(self) -> None:
        """A request has been read: the connection speaks."""
        super().handle_events()
        if self.cycle is not None:
            self._spoke()

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing to wait for any more."""
        self._spoke()
        super().connection_lost(exc)

    def _spoke(self) -> None:
        self._silent.pop(self, None)
        self._waiting.cancel()

    def _close_if_silent(self) -> None:
        if self._silent.pop(self, self) is None:
            self.transport.close()


def options() -> dict[str, Any]:
    """How uvicorn is to be run: this protocol, no trust in forwarded addresses, short
    keep-alive.
    """
    return {
        "http": Connection,
        "proxy_headers": False,
        "timeout_keep_alive": 15,
        "log_level": "warning",
        "server_header": False,
    }
