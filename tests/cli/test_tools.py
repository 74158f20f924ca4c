"""The commands that need no server: their answers for programs, their exit codes, and what they
never do.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.lab.scenario import appliance
from tests.support import spawning
from tests.support.processes import CLI


def cli(*words: str, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    return spawning.run(
        words,
        cwd=cwd,
        env={
            **os.environ,
            "NIMBLE_STONE_DATA": "/nowhere",
            "NIMBLE_STONE_URL": "http://127.0.0.1:9",
        },
    )


def inspected(path: Path, *more: str, code: int = 0) -> dict[str, Any]:
    done = cli("package", "inspect", str(path), "--json", *more)
    assert done.returncode == code, done.stderr + done.stdout[-2000:]
    assert "Traceback" not in done.stderr
    return dict(json.loads(done.stdout))


def test_a_sound_package_a_damaged_one_and_none_at_all(tmp_path: Path) -> None:
    good = tmp_path / "g.ova"
    good.write_bytes(appliance.ova(mib=1, by=(by := appliance.publisher())))
    (tmp_path / "authority.pem").write_bytes(by.authority)
    assert inspected(good)["integrity"]["signature"] == "untrusted"
    assert (
        inspected(good, "--trust", str(tmp_path / "authority.pem"))["integrity"]["signature"]
        == "verified"
    )
    data = bytearray(good.read_bytes())
    data[-300_000] ^= 1
    (tmp_path / "bad.ova").write_bytes(bytes(data))
    bad = inspected(tmp_path / "bad.ova", code=1)
    assert (bad["integrity"]["manifest"], bad["findings"][0]["severity"]) == ("failed", "blocker")
    (tmp_path / "letter.ova").write_text("dear sir")
    for name in ("letter.ova", "missing.ova"):
        done = cli("package", "inspect", str(tmp_path / name), "--json")
        assert done.returncode == 2
        assert done.stdout == ""
        assert len(done.stderr.strip().splitlines()) == 1
    (tmp_path / "empty.ova").touch()
    assert cli("package", "inspect", str(tmp_path / "empty.ova")).returncode == 2


def test_texts_in_a_language(tmp_path: Path) -> None:
    (tmp_path / "g.ova").write_bytes(appliance.ova(mib=1, edition=5))
    assert {p["label"] for p in inspected(tmp_path / "g.ova", "--lang", "de")["properties"]} >= {
        "Rechnername",
        "Gateway",
    }
    assert (
        inspected(tmp_path / "g.ova", "--lang", "de")["sizes"][3]["description"]
        == "Bis zu 2000 Pegel"
    )
    assert inspected(tmp_path / "g.ova")["sizes"][3]["description"] == "Up to 2000 gauges"


def test_a_loose_descriptor_brings_its_files_but_never_leaves_its_folder(tmp_path: Path) -> None:
    disk = appliance.vmdk(1 << 20, {0: b"boot"})
    text = appliance.descriptor(1 << 20, len(disk))
    (tmp_path / "g.ovf").write_text(text)
    (tmp_path / "gauge-collector-disk1.vmdk").write_bytes(disk)
    assert inspected(tmp_path / "g.ovf")["format"] == "ovf"
    (tmp_path / "gauge-collector-disk1.vmdk").unlink()
    (tmp_path / "gauge-collector-disk1.vmdk").symlink_to("/etc/passwd")
    assert "ovf-file-missing" in {
        f["code"] for f in inspected(tmp_path / "g.ovf", code=1)["findings"]
    }
    (tmp_path / "g.ovf").write_text(text.replace("gauge-collector-disk1.vmdk", "/etc/passwd"))
    assert "ovf-file" in {f["code"] for f in inspected(tmp_path / "g.ovf", code=1)["findings"]}


def test_files_in_folders_below_the_descriptor_belong_to_it_but_not_through_links(
    tmp_path: Path,
) -> None:
    disk = appliance.vmdk(1 << 20, {0: b"boot"})
    (tmp_path / "g.ovf").write_text(
        appliance.descriptor(1 << 20, len(disk)).replace(
            "gauge-collector-disk1.vmdk", "disks/d%20one.vmdk"
        )
    )
    (tmp_path / "disks").mkdir()
    (tmp_path / "disks" / "d one.vmdk").write_bytes(disk)
    assert inspected(tmp_path / "g.ovf")["disks"][0]["capacity_bytes"] == 1 << 20
    (tmp_path / "disks").rename(tmp_path / "elsewhere")
    (tmp_path / "disks").symlink_to("elsewhere")
    assert "ovf-file-missing" in {
        f["code"] for f in inspected(tmp_path / "g.ovf", code=1)["findings"]
    }


def test_inspecting_a_file_loads_neither_the_server_nor_what_speaks_to_hosts(
    tmp_path: Path,
) -> None:
    (tmp_path / "g.ova").write_bytes(appliance.ova(mib=1))
    script = (
        "import sys; from nimble_stone.cli.entry import main; sys.argv = ['nimble-stone',"
        " 'package', 'inspect', sys.argv[1]]\ntry:\n    main()\nexcept SystemExit:\n   "
        " pass\nprint(sorted({'fastapi', 'asyncssh', 'httpx', 'sqlite3', 'cryptography', 'scipy',"
        " 'nimble_stone.cli.main'} & set(sys.modules)), file=sys.stderr)"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, str(tmp_path / "g.ova")], capture_output=True, text=True
    )
    assert "Gauge Collector" in done.stdout
    assert done.stderr.strip() == "[]"


def test_disks_are_told_of_and_converted(tmp_path: Path) -> None:
    disk = tmp_path / "d.vmdk"
    disk.write_bytes(appliance.vmdk(3 << 20, {0: b"boot", 40: b"end"}))
    info = json.loads(cli("disk", "info", str(disk), "--json").stdout)
    assert (info["format"], info["capacity_bytes"], info["data_bytes"], info["packed"]) == (
        "vmdk-stream",
        3 << 20,
        2 << 16,
        True,
    )
    for to in ("raw", "qcow2"):
        out = tmp_path / f"o.{to}"
        assert cli("disk", "convert", str(disk), str(out), "--to", to).returncode == 0
        assert (
            subprocess.run(["qemu-img", "compare", disk, out], capture_output=True).returncode == 0
        )
        again = cli("disk", "convert", str(disk), str(out), "--to", to)
        assert again.returncode == 1
        assert "left alone" in again.stderr
    assert (
        cli("disk", "convert", str(disk), str(tmp_path / "none/x"), "--to", "raw").returncode == 2
    )
    damaged = bytearray(disk.read_bytes())
    damaged[65536 + 14] ^= 0xFF
    (tmp_path / "bad.vmdk").write_bytes(bytes(damaged))
    assert (
        cli(
            "disk", "convert", str(tmp_path / "bad.vmdk"), str(tmp_path / "half.raw"), "--to", "raw"
        ).returncode
        == 2
    )
    assert not (tmp_path / "half.raw").exists()


def test_two_files_are_compared(tmp_path: Path) -> None:
    for name, edition in (("a", 4), ("b", 5)):
        (tmp_path / f"{name}.ova").write_bytes(appliance.ova(mib=1, edition=edition))
    done = cli("package", "compare", str(tmp_path / "a.ova"), str(tmp_path / "b.ova"), "--json")
    assert done.returncode == 1
    assert "gauge.keep" in {c["what"] for c in json.loads(done.stdout)}
    assert (
        cli("package", "compare", str(tmp_path / "a.ova"), str(tmp_path / "a.ova")).returncode == 0
    )


@pytest.mark.parametrize("kind", ["ova", "vmdk", "qcow2", "gz"])
def test_a_small_hostile_file_takes_little_memory_and_time(tmp_path: Path, kind: str) -> None:
    import gzip

    path = tmp_path / f"bomb.{kind}"
    if kind == "ova":
        path.write_bytes(
            appliance.pack(
                "x",
                {
                    "x.ovf": (
                        b"<Envelope xmlns='http://schemas.dmtf.org/ovf/envelope/1'>"
                        + b"<a>" * 400_000
                    )
                },
            )
        )
    elif kind == "vmdk":
        data = bytearray(appliance.vmdk(4 << 40, {0: b"a"}))
        path.write_bytes(bytes(data))
    elif kind == "qcow2":
        subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", path, "63T"], check=True)
    else:
        path.write_bytes(gzip.compress(bytes(256 << 20), 1) * 12)
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
    done = subprocess.run(
        [
            "/usr/bin/env",
            "bash",
            "-c",
            f"ulimit -v {2 << 20}; exec {' '.join(CLI)} package inspect {path} --json",
        ],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert done.returncode in (0, 1, 2), done.stderr
    assert "Traceback" not in done.stderr
    assert (
        max(before, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss) < 300 << 10
        or before > 300 << 10
    )
