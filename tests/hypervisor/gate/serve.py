"""The appliance's own service: makes its first certificate, and answers until the system ends."""

from __future__ import annotations

import json
import signal
import socket
import subprocess
from pathlib import Path

from sluice import Sluice

STATE = Path("/var/lib/sluice")


def address() -> str:
    """The system's own address with its prefix."""
    told = subprocess.run(
        ["ip", "-j", "-4", "addr", "show", "scope", "global"], check=True, capture_output=True
    )
    [card] = json.loads(told.stdout)
    [own] = card["addr_info"]
    return f"{own['local']}/{own['prefixlen']}"


def first() -> Path:
    """The certificate that the product makes for itself."""
    key, shown, both = STATE / "key.pem", STATE / "cert.pem", STATE / "first.pem"
    subprocess.run(
        [
            *("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256"),
            *("-nodes", "-days", "30", "-subj", "/CN=sluice", "-keyout", key, "-out", shown),
        ],
        check=True,
        capture_output=True,
    )
    both.write_text(key.read_text() + shown.read_text())
    return both


STATE.mkdir(parents=True, exist_ok=True)
Sluice(STATE, "0.0.0.0", (443, 80), socket.gethostname(), first(), address())
signal.pause()
