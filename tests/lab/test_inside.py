"""What stand-in machines report, seen by a tool that nobody here wrote."""

from __future__ import annotations

import struct
import subprocess
from pathlib import Path

from nimble_stone.core.inspection import report
from nimble_stone.lab.controllers import inside
from nimble_stone.lab.controllers.machine import LabMachine
from nimble_stone.lab.scenario import demo

ETHERNET = 1


def test_a_stand_ins_neighbours_are_lldp_as_tcpdump_reads_it(tmp_path: Path) -> None:
    plan = next(one for one in demo.plan().machines if one.name == "gneiss")
    text = inside.report(LabMachine(plan))
    line = next(line for line in text.splitlines() if line.startswith("nic\teth0\t"))
    frame = bytes.fromhex(line.split("\t")[6])
    file = tmp_path / "one.pcap"
    head = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, ETHERNET)
    file.write_bytes(head + struct.pack("<IIII", 0, 0, len(frame), len(frame)) + frame)
    said = subprocess.run(
        ["tcpdump", "-nv", "-r", str(file)], check=True, capture_output=True, text=True
    ).stdout
    found = report.parse(text.encode(), "gneiss", 0.0).nics[0].neighbour
    assert found is not None
    assert "LLDP, length" in said
    assert f"System Name TLV (5), length {len(found.name)}: {found.name}" in said
    assert found.port in said
    assert found.chassis in said
    assert "End TLV (0)" in said
