"""`make metal-demo`: the application with three real machines without an operating system: QEMU
behind Redfish controllers. The page is left open for a person.
"""

from __future__ import annotations

import signal
import tempfile
import threading
from pathlib import Path

from nimble_stone.cli.client import Client
from tests.hosts.controllers import free_port
from tests.hypervisor import appliance, metal
from tests.hypervisor.machines import Room, plan
from tests.support.processes import ready_plan

NAMES = ("basalt", "chert", "slate")
LOOK_S = 1.0


def main() -> None:
    """Set up machines, server, package and plan; wait until Ctrl+C, or an orderly end by its
    process id.
    """
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        print("Building the appliance and the inspection image …")
        package = appliance.build(folder / "build")
        plans = [plan(one, "bios", 141 + number) for number, one in enumerate(NAMES)]
        room = Room(folder / "machines", plans, [free_port() for _ in plans])
        over = threading.Event()
        server = metal.serve(folder / "data")
        try:
            client = server.client()
            metal.add(client, room)
            client.upload(package, lambda *_: None)
            ready_plan(client, metal.PLAN + "roles: {archive: {count: 2}}\n")
            threading.Thread(target=lead_in, args=(client, room, over), daemon=True).start()
            print(
                f"\n  Open   {server.url}\n  Key    {server.key}\n\n  Plans → real → inspect its"
                " machines, then Check and run. Ctrl+C ends machines and server."
            )
            assert server.process is not None
            server.process.wait()
        except KeyboardInterrupt:
            print()
        finally:
            over.set()
            server.stop()
            room.close()


def lead_in(client: Client, room: Room, over: threading.Event) -> None:
    """Nodes are reached from here as soon as there is a run: before, nothing may answer there."""
    while not over.wait(LOOK_S):
        if client.call("GET", "/api/runs?plan=real"):
            room.way.forward()
            return


if __name__ == "__main__":
    main()
