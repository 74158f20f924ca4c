"""HAProxy of Debian as the load balancer that is there already: it is told what to do by lines on
its administration port (stats socket, HAProxy management guide section 9.3).
"""

from __future__ import annotations

import re
import socket
import subprocess
from pathlib import Path

from tests.support.processes import wait_for

CONFIG = """
global
  stats socket ipv4@{host}:{port} level admin
defaults
  mode tcp
  timeout connect 2s
  timeout client 5s
  timeout server 5s
frontend clients
  bind {host}:{clients}
  default_backend gauges
backend gauges
  balance roundrobin
"""
CLIENTS = 8088


class Balancer:
    """One of them, with a pool “gauges” that is empty. Close with `close`."""

    def __init__(self, folder: Path, host: str, port: int) -> None:
        self.host, self.port, self._folder = host, port, folder
        self._process: subprocess.Popen[bytes] | None = None
        self.start()

    def start(self) -> None:
        """Begin a life: HAProxy keeps what it is told in memory only."""
        file = self._folder / "haproxy.cfg"
        file.write_text(CONFIG.format(host=self.host, port=self.port, clients=CLIENTS))
        with (self._folder / "haproxy.log").open("ab") as log:
            self._process = subprocess.Popen(
                ["/usr/sbin/haproxy", "-db", "-f", str(file)], stdout=log, stderr=log
            )
        wait_for(self._up, 20, "the load balancer")

    def _up(self) -> bool:
        try:
            return bool(self.say("show version"))
        except OSError:
            return False

    def say(self, line: str) -> str:
        """What it answers to a line."""
        with socket.create_connection((self.host, self.port), timeout=5) as link:
            link.sendall(f"{line}\n".encode())
            return b"".join(iter(lambda: link.recv(65_536), b"")).decode()

    def servers(self) -> dict[str, str]:
        """Name of each server of the pool → its address."""
        rows = re.findall(
            r"^\d+ gauges \d+ (\S+) (\S+) ", self.say("show servers state gauges"), re.MULTILINE
        )
        return dict(rows)

    def close(self) -> None:
        """End it."""
        if self._process is not None:
            self._process.terminate()
            self._process.wait(20)
            self._process = None
