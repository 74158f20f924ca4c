"""`make hypervisor-demo`: the application on two real KVM hosts on this machine, with the page left
open for a person.
"""

from __future__ import annotations

import signal
import tempfile
from pathlib import Path

from tests.hypervisor import appliance, hosts
from tests.support.processes import ServerProcess, ready_plan


def main() -> None:
    """Set up hosts, server, package and plan; wait until Ctrl+C, or an orderly end by its process
    id.
    """
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)
        print("Building the appliance and starting two hosts …")
        package = appliance.build(folder / "build")
        with hosts.two_hosts(folder / "hosts"):
            (folder / "data").mkdir(mode=0o700)
            (folder / "data/dial.yaml").write_text(
                "nimble-stone: dial/1\nallowed: [10.44.20.0/24]\nconnect_seconds: 40\n"
            )
            server = ServerProcess(folder / "data", pace=1.0, netns=hosts.NETNS)
            try:
                server.cli(
                    "secret", "set", "host-key", "--key", stdin=(folder / "hosts/key").read_text()
                )
                (folder / "estate.yaml").write_text(hosts.ESTATE)
                server.cli("estate", "load", str(folder / "estate.yaml"))
                server.cli("estate", "refresh")
                server.cli("package", "add", str(package))
                ready_plan(server.client(), hosts.PLAN)
                print(
                    f"\n  Open   {server.url}\n  Key    {server.key}\n\n  Plans → Real gauges →"
                    " Check and run. Ctrl+C ends hosts and guests."
                )
                assert server.process is not None
                server.process.wait()
            except KeyboardInterrupt:
                print()
            finally:
                server.stop()


if __name__ == "__main__":
    main()
