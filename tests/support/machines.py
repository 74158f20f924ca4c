"""The lab's bare machines, as a person adds and inspects them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo, medium, products
from tests.support.processes import LabProcess, ServerProcess, lab_and_server, wait_for

Place = tuple[LabProcess, ServerProcess, Client]


@contextmanager
def machine_scene(folder: Path) -> Iterator[Place]:
    """A lab and a server that know the bare machines, with the storage product taken in."""
    with lab_and_server(folder, reachable=True) as found:
        lab, server, client = found
        medium.write(server.data / "inspection.iso")
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        add_machines(client)
        file = folder / "ballast.ova"
        file.write_bytes(products.ova(products.ALL["ballast"], mib=1))
        client.upload(file, lambda *_: None)
        yield found


def add_machines(client: Client) -> None:
    """All of them, in the bay kelda-metal."""
    listing = client.call(
        "POST",
        "/api/estate/list",
        {
            "text": "[kelda-metal]\n"
            + "".join(f"{m.name} https://{m.address}\n" for m in demo.plan().machines)
        },
    )
    seen = client.call(
        "POST",
        "/api/estate/look",
        {"entries": listing["entries"], "credential": demo.BMC_CREDENTIAL, "user": "root"},
    )
    client.call(
        "POST",
        "/api/estate/machines",
        [
            {
                "fingerprint": one["fingerprint"],
                "machine": {
                    "name": one["entry"]["name"],
                    "address": one["address"],
                    "credential": demo.BMC_CREDENTIAL,
                    "site": "Kelda",
                    "bay": "kelda-metal",
                },
            }
            for one in seen
        ],
    )


def inspect(client: Client, *names: str, seconds: float = 120) -> None:
    """Look into machines, and wait until that is done."""
    work = {"actions": [{"kind": "inspect", "host": name} for name in names]}
    run = client.call("POST", "/api/estate/groundwork/preview", work)["run"]
    client.call("POST", "/api/estate/groundwork", {"run": run, "work": work})

    def done() -> bool:
        state = client.call("GET", f"/api/groundwork/{run}")["state"]
        assert state in ("running", "proving", "done"), state
        return bool(state == "done")

    wait_for(done, seconds, "the inspection")
