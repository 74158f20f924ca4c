"""Whether a port takes connections, asked by what a node has: real shells, nc, bash."""

from __future__ import annotations

import shutil
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimble_stone.engine.asking import PORT_OPENS

HAVE = {
    "BusyBox alone": ("busybox", {"nc": "busybox", "timeout": "busybox"}),
    "bash and no nc": ("bash", {"bash": "bash", "timeout": "timeout"}),
    "dash with bash beside": ("dash", {"bash": "bash", "timeout": "timeout"}),
    "nothing": ("dash", {}),
}


@pytest.fixture(scope="module")
def ports() -> Iterator[tuple[int, int]]:
    """One where connections stay open, and one where nothing listens."""
    with socket.create_server(("127.0.0.1", 0)) as there, socket.socket() as gone:
        gone.bind(("127.0.0.1", 0))
        yield there.getsockname()[1], gone.getsockname()[1]


@pytest.mark.parametrize("have", HAVE)
def test_a_port_is_told_open_or_shut(have: str, ports: tuple[int, int], tmp_path: Path) -> None:
    shell, tools = HAVE[have]
    for name, tool in tools.items():
        (tmp_path / name).symlink_to(shutil.which(tool) or f"/no {tool}")
    command = [shutil.which(shell) or shell, *(["sh"] if shell == "busybox" else []), "-c"]
    script = PORT_OPENS + "port_opens 127.0.0.1 $0 >/dev/null 2>&1 && echo open || echo shut"
    told = [
        subprocess.run(
            [*command, script, str(port)],
            env={"PATH": str(tmp_path)},
            capture_output=True,
            text=True,
            timeout=30,
        ).stdout
        for port in ports
    ]
    assert told == (["shut\n", "shut\n"] if have == "nothing" else ["open\n", "shut\n"])
