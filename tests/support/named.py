"""ISC's name server with zones of the survey, as it comes with Debian, and ISC's own clients."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

from nimble_stone.lab import name_server
from tests.hosts.controllers import free_port
from tests.support.processes import wait_for

_ZONE = """$TTL 300
@ SOA names.holm.example. keeper.holm.example. 1 3600 600 86400 300
@ NS names.holm.example.
"""
_CONF = """options {{
  directory "{folder}"; listen-on port {port} {{ {address}; }}; listen-on-v6 {{ none; }};
  pid-file none; session-keyfile none; recursion no; dnssec-validation no;
}};
controls {{ }};
key "{key}" {{ algorithm hmac-sha256; secret "{secret}"; }};
"""
_EACH = 'zone "{zone}" {{ type primary; file "{zone}zone"; allow-update {{ key {key}; }}; }};\n'


class Named:
    """One that runs on a port, behind `prefix` (such as a network namespace). Close with
    `close`.
    """

    def __init__(
        self,
        folder: Path,
        address: str = "127.0.0.1",
        port: int = 0,
        prefix: tuple[str, ...] = (),
    ) -> None:
        folder.mkdir(exist_ok=True)
        self.address, self.port, self.prefix = address, port or free_port(), prefix
        key = name_server.KEY
        text = _CONF.format(
            folder=folder, port=self.port, address=address, key=key, secret=name_server.SECRET
        )
        for zone in name_server.ZONES:
            (folder / f"{zone}zone").write_text(_ZONE)
            text += _EACH.format(zone=zone, key=key)
        (folder / "named.conf").write_text(text)
        line = [*prefix, "/usr/sbin/named", "-g", "-c", str(folder / "named.conf")]
        with (folder / "named.log").open("wb") as log:
            self._process: Any = subprocess.Popen(line, stdout=log, stderr=log)
        try:
            wait_for(lambda: dig(self, "kelda.holm.example", "SOA"), 20, "the name server")
        except AssertionError:
            self.close()
            raise

    def close(self) -> None:
        """End it."""
        self._process.terminate()
        self._process.wait(20)


class LabNames:
    """A name server of the lab that listens on a port already."""

    def __init__(self, address: str, port: int) -> None:
        self.address, self.port, self.prefix = address, port, ()


def dig(server: Named | LabNames, name: str, kind: str) -> list[str]:
    """What a name has, asked by ISC's client."""
    line = [
        *server.prefix,
        "dig",
        f"@{server.address}",
        "-p",
        str(server.port),
        "+tcp",
        "+short",
        "+tries=1",
    ]
    done = subprocess.run([*line, "+time=2", name, kind], capture_output=True, text=True)
    return done.stdout.split("\n")[:-1] if done.returncode == 0 else []


def nsupdate(server: Named | LabNames, *lines: str) -> str:
    """Change records by ISC's client; what it says of a failure, '' when done."""
    key = f"hmac-sha256:{name_server.KEY}:{name_server.SECRET}"
    text = "\n".join((f"server {server.address} {server.port}", *lines, "send", ""))
    done = subprocess.run(
        [*server.prefix, "nsupdate", "-v", "-y", key], input=text, capture_output=True, text=True
    )
    return done.stderr.strip() if done.returncode else ""
