"""Packages measured against public tools on the same file in the same run: inspecting, converting,
pushing, pulling.
"""

from __future__ import annotations

import asyncio
import hashlib
import itertools
import os
import subprocess
import sys
import tarfile
import threading
import time
from pathlib import Path

import asyncssh
import uvicorn
from fastapi import FastAPI

from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.package.given import Given
from nimble_stone.hosts.kvm.driver import KvmHost
from nimble_stone.lab.scenario import appliance, demo
from nimble_stone.packages import spool, stored, transfer
from nimble_stone.packages.pulling import Tickets
from nimble_stone.reach import Credential, Target
from nimble_stone.server.app import open_application
from nimble_stone.server.routes import pull
from tests.support.processes import CLI, LabProcess

MIB = 1 << 20


def best(*commands: list[str], rounds: int = 5) -> list[float]:
    """Shortest seconds of each command, taken in turn so that the machine's moods hit all alike."""
    found = [[] for _ in commands]  # type: list[list[float]]
    for _ in range(rounds):
        for times, command in zip(found, commands, strict=True):
            began = time.perf_counter()
            subprocess.run(
                command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            times.append(time.perf_counter() - began)
    return [min(times) for times in found]


def big_ova(path: Path, gib: int) -> None:
    """An OVA whose one disk is raw: `gib` GiB, half used that does not repeat soon."""
    size, block = gib << 30, os.urandom(64 * MIB)
    disk = path.with_suffix(".img")
    with disk.open("wb") as file:
        file.write(bytes(510) + b"\x55\xaa")
        file.truncate(size)
        for at in range(64 * MIB, size, 128 * MIB if gib < 4 else 2 << 30):
            file.seek(at)
            file.write(block)
    digest = hashlib.sha256()
    with disk.open("rb") as file:
        while piece := file.read(4 * MIB):
            digest.update(piece)
    text = appliance.descriptor(size, size, disk_name=disk.name).encode()
    manifest = (
        f"SHA256(g.ovf)= {hashlib.sha256(text).hexdigest()}\nSHA256({disk.name})="
        f" {digest.hexdigest()}\n"
    )
    (path.parent / "g.ovf").write_bytes(text)
    (path.parent / "g.mf").write_text(manifest)
    with tarfile.open(path, "w", format=tarfile.GNU_FORMAT) as archive:
        for name in ("g.ovf", "g.mf", disk.name):
            archive.add(path.parent / name, arcname=name)
    disk.unlink()


def inspecting(folder: Path, gib: int, rounds: int) -> None:
    """`package inspect` with every digest verified, against openssl's digest of the same file."""
    ova = folder / "big.ova"
    big_ova(ova, gib)
    command = [*CLI, "package", "inspect", str(ova), "--json"]
    ours, theirs = best(command, ["openssl", "dgst", "-sha256", str(ova)], rounds=rounds)
    measured = subprocess.run(
        [
            sys.executable,
            "-c",
            (
                "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True,"
                " stdout=subprocess.DEVNULL);"
                "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
            ),
            *command,
        ],
        capture_output=True,
        text=True,
        check=True,
    )
    print(
        f"inspect of a {gib} GiB OVA: {ours:.2f} s; openssl dgst -sha256: {theirs:.2f} s; ratio"
        f" {ours / theirs:.2f}; memory {int(measured.stdout) >> 10} MiB"
    )
    ova.unlink()


def content(path: Path, mib: int) -> None:
    """A raw disk of 4 GiB with real content: this machine's own programs and libraries."""
    with path.open("wb") as out:
        out.truncate(4 << 30)
        out.seek(100 * MIB)
        left = mib * MIB
        for file in itertools.chain(*(sorted(Path("/usr/lib").rglob("*")) for _ in range(4))):
            if left <= 0:
                break
            if (
                file.is_file()
                and not file.is_symlink()
                and 100_000 < file.stat().st_size < 20 * MIB
            ):
                data = file.read_bytes()[:left]
                out.write(data)
                left -= len(data)


def converting(folder: Path) -> None:
    """`disk convert` of a stream-optimized VMDK, against qemu-img."""
    raw, vmdk = folder / "c.raw", folder / "c.vmdk"
    content(raw, 1200)
    subprocess.run(
        [
            "qemu-img",
            "convert",
            "-f",
            "raw",
            "-O",
            "vmdk",
            "-o",
            "subformat=streamOptimized",
            raw,
            vmdk,
        ],
        check=True,
    )
    for to in ("qcow2", "raw"):
        mine, their = folder / f"ours.{to}", folder / f"theirs.{to}"
        runs: list[list[float]] = [[], []]
        for _ in range(3):
            for times, command, target in (
                (runs[0], [*CLI, "disk", "convert", str(vmdk), str(mine), "--to", to], mine),
                (runs[1], ["qemu-img", "convert", "-O", to, str(vmdk), str(their)], their),
            ):
                target.unlink(missing_ok=True)
                began = time.perf_counter()
                subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
                times.append(time.perf_counter() - began)
        same = (
            subprocess.run(["qemu-img", "compare", mine, raw], stdout=subprocess.DEVNULL).returncode
            == 0
        )
        print(
            f"VMDK ({vmdk.stat().st_size >> 20} MiB packed, 1.2 GiB of content) to {to}:"
            f" {min(runs[0]):.2f} s; qemu-img: {min(runs[1]):.2f} s; ratio"
            f" {min(runs[0]) / min(runs[1]):.2f}; {'bit-identical' if same else 'DIFFERENT'}; on"
            f" disk {mine.stat().st_blocks >> 11} MiB, theirs {their.stat().st_blocks >> 11} MiB"
        )


def _package(folder: Path) -> tuple[Path, Contents]:
    """A package with 300 MiB of real content in a store of its own."""
    raw, vmdk = folder / "p.raw", folder / "p.vmdk"
    content(raw, 300)
    subprocess.run(
        [
            "qemu-img",
            "convert",
            "-f",
            "raw",
            "-O",
            "vmdk",
            "-o",
            "subformat=streamOptimized",
            raw,
            vmdk,
        ],
        check=True,
    )
    data = appliance.pack(
        "g",
        {
            "g.ovf": appliance.descriptor(4 << 30, vmdk.stat().st_size).encode(),
            "gauge-collector-disk1.vmdk": vmdk.read_bytes(),
        },
    )
    contents = examine([Given("g.ova", BytesSource(data), hashlib.sha256(data).hexdigest())])
    store = folder / "store"
    (store / "blobs").mkdir(parents=True)
    stored.blob(store, contents.sha256).write_bytes(data)
    # as it comes out of the store
    return store, stored.contents_of(type("Row", (), {"doc": stored.dump(contents)})())


def pushing(folder: Path, store: Path, contents: Contents) -> None:
    """Our upload with conversion to a stand-in host, against plain `cat` over a bare asyncssh
    connection to the same host.
    """
    lab = LabProcess(folder / "lab", speed=1)
    host = lab.plan.hosts[0]
    lab.turn(host.name, rate=0)
    ports = open_application(folder / "data", 1.0)
    ports.packages = store
    address, port = lab.plan.real(host.address, 22)

    async def work() -> None:
        target = Target(host.name, address, port, Credential("root", demo.PASSWORD))
        kvm = KvmHost(ports.reach, target)
        with stored.open_disk(store, contents, "disk1") as conversion:
            total = conversion.file_bytes
            ours, theirs, ready = [], [], []
            spooled = spool.make(store, contents, "disk1")
            assert spooled is not None
            connection = await asyncssh.connect(
                address,
                port,
                username="root",
                password=demo.PASSWORD,
                known_hosts=None,
                config=None,
            )
            block = os.urandom(MIB)
            for _ in range(3):
                await kvm.storage.create_disk(
                    host.stores[0].name, "ns-bench", conversion.capacity_bytes
                )
                began = time.perf_counter()
                await kvm.storage.upload(
                    host.stores[0].name,
                    "ns-bench",
                    transfer.pieces(conversion.stream(), lambda _: None),
                    limit_s=600,
                    sent=lambda _: None,
                )
                ours.append(total / (time.perf_counter() - began))
                await kvm.storage.delete(host.stores[0].name, "ns-bench")
                await kvm.storage.create_disk(
                    host.stores[0].name, "ns-bench", conversion.capacity_bytes
                )
                began = time.perf_counter()
                await kvm.storage.upload(
                    host.stores[0].name,
                    "ns-bench",
                    transfer.file_pieces(spooled.path),
                    limit_s=600,
                    sent=lambda _: None,
                )
                ready.append(spooled.size / (time.perf_counter() - began))
                await kvm.storage.delete(host.stores[0].name, "ns-bench")
                began = time.perf_counter()
                process = await connection.create_process("cat > /tmp/bench", encoding=None)
                for _ in range(total // MIB):
                    process.stdin.write(block)
                    await process.stdin.drain()
                process.stdin.write_eof()
                await process.wait()
                theirs.append(total / (time.perf_counter() - began))
            connection.close()
            plain = max(theirs)
            print(
                f"push over SSH to a stand-in: converting on the way {max(ours) / MIB:.0f} MiB/s,"
                f" from the spool {max(ready) / MIB:.0f} MiB/s; plain asyncssh `cat > file`"
                f" {plain / MIB:.0f} MiB/s; ratios {max(ours) / plain:.2f} and"
                f" {max(ready) / plain:.2f}"
            )
        await ports.reach.close()

    try:
        asyncio.run(work())
    finally:
        ports.store.close()
        lab.stop()


def pulling(folder: Path, store: Path, contents: Contents) -> None:
    """curl from our one-time address, converting on the way, against curl of the finished file from
    a static file server.
    """
    ports = open_application(folder / "pull-data", 1.0)
    ports.packages = store
    app, tickets = FastAPI(), Tickets(ports)
    app.include_router(pull.router)
    app.state.app, app.state.tickets = ports, tickets
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=0, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    port = server.servers[0].sockets[0].getsockname()[1]
    tickets.base = f"http://127.0.0.1:{port}"
    static = folder / "static"
    static.mkdir()
    with (
        stored.open_disk(store, contents, "disk1") as conversion,
        (static / "d.qcow2").open("wb") as out,
    ):
        for piece in conversion.stream():
            out.write(piece)
    files = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "http.server",
            "--bind",
            "127.0.0.1",
            "--directory",
            str(static),
            "18471",
        ],
        stderr=subprocess.DEVNULL,
    )
    time.sleep(0.7)
    spooled = spool.make(store, contents, "disk1")
    assert spooled is not None
    (static / "s.qcow2").symlink_to(spooled.path)
    rates: dict[str, list[float]] = {"converting": [], "spooled": [], "static": []}
    for _ in range(5):
        url = tickets.open(contents, "disk1", lambda _: None).address
        ready = tickets.open(contents, "disk1", lambda _: None, 0.0, spooled.path).address
        for kind, address, target in (
            ("converting", url, "a"),
            ("spooled", ready, "c"),
            ("static", "http://127.0.0.1:18471/s.qcow2", "b"),
        ):
            began = time.perf_counter()
            subprocess.run(["curl", "-sS", "-f", "-o", folder / target, address], check=True)
            rates[kind].append((folder / target).stat().st_size / (time.perf_counter() - began))
    top = {kind: max(found) / MIB for kind, found in rates.items()}
    same = (folder / "c").read_bytes() == (folder / "b").read_bytes() and (
        folder / "a"
    ).read_bytes() == (static / "d.qcow2").read_bytes()
    print(
        f"pull by curl: from the spool {top['spooled']:.0f} MiB/s, converting on the way"
        f" {top['converting']:.0f} MiB/s; curl from a static file server {top['static']:.0f} MiB/s;"
        f" ratios {top['spooled'] / top['static']:.2f} and {top['converting'] / top['static']:.2f};"
        f" {'the same bytes' if same else 'DIFFERENT BYTES'}"
    )
    files.terminate()
    files.wait()
    server.should_exit = True
    thread.join(10)
    ports.store.close()


def main(folder: Path, large: bool) -> None:
    """All of it; `large` adds a 20 GiB archive."""
    inspecting(folder, 2, 5)
    if large:
        inspecting(folder, 20, 1)
    converting(folder)
    store, contents = _package(folder)
    pushing(folder, store, contents)
    pulling(folder, store, contents)
