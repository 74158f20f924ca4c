"""A time server as it comes with Debian: chronyd, which does not touch this machine's clock."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

CHRONYD = Path(__file__).parents[2] / ".stamps/chrony/usr/sbin/chronyd"
_CONF = """allow 127.0.0.0/8
bindaddress {address}
port {port}
cmdport 0
pidfile {folder}/pid
driftfile {folder}/drift
{more}
"""


class Timed:
    """One that runs on a UDP port. `stratum`: it claims to be so far from a clock; 0: it has no
    source, and says so. Close with `close`.
    """

    def __init__(self, folder: Path, address: str, port: int, stratum: int = 8) -> None:
        folder.mkdir(exist_ok=True)
        more = f"local stratum {stratum}" if stratum else ""
        conf = folder / "chrony.conf"
        conf.write_text(_CONF.format(address=address, port=port, folder=folder, more=more))
        line = [str(CHRONYD), "-f", str(conf), "-d", "-x", "-u", "root", "-F", "0"]
        with (folder / "chrony.log").open("wb") as log:
            self._process: Any = subprocess.Popen(line, stdout=log, stderr=log)

    def close(self) -> None:
        """End it."""
        self._process.terminate()
        self._process.wait(20)
