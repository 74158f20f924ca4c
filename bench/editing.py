"""Editing one shared value in a plan of 1,000 nodes on 200 hosts: from the edit to the answer's
bytes, against packing the same answer alone.
"""

from __future__ import annotations

import asyncio
import gc
import json
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.app.editing import keep_text
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core.estate import EstateFile
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package.contents import examine
from nimble_stone.lab.scenario import appliance, demo
from nimble_stone.packages.files import opened
from nimble_stone.packages.stored import dump
from nimble_stone.server.app import open_application
from nimble_stone.server.plan_answers import data_of, packed
from nimble_stone.server.routes import plans
from nimble_stone.store import records
from tests.core import scene

ROUNDS = 9


async def prepared(folder: Path) -> tuple[Application, dict[str, Kit]]:
    """An estate of 200 hosts read, and a plan of 1,000 nodes with 60 roles that stand apart
    each.
    """
    gc.set_threshold(100_000, 20, 100)  # as the server does
    ports = open_application(folder, 1.0)
    estate = scene.estate(200)
    await ports.store.write(
        records.merge_estate,
        EstateFile(networks=estate.networks, pools=estate.pools, hosts=estate.hosts),
    )
    for facts in estate.facts.values():
        await ports.store.write(records.put_facts, facts)
    (folder / "g.ova").write_bytes(appliance.ova(mib=1))
    with opened(folder / "g.ova") as given:
        contents = examine(given)
    await ports.store.write(
        records.put_package,
        records.PackageRow(
            contents.sha256,
            "Gauge Collector",
            "4.2.0",
            dump(contents),
            contents.size,
            30 << 20,
            "g.ova",
            ports.clock(),
            contents.format,
        ),
    )
    roles: list[dict[str, Any]] = [
        {
            "id": "lead",
            "label": "lead",
            "short": "lead",
            "count": {"least": 1, "most": 1, "usual": 1},
        }
    ]
    roles += [
        {
            "id": f"role{n}",
            "label": f"role {n}",
            "short": f"r{n}",
            "apart": True,
            "count": {"least": 1, "most": 60, "usual": 17},
            "datastore": "local",
        }
        for n in range(60)
    ]
    kit = Kit.model_validate(
        scene.KIT.model_dump(mode="json", by_alias=True)
        | {
            "roles": roles,
            "forming": [],
            "sizing": None,
            "extra_disks": [],
            "ports": [],
        }
    )
    text = (
        demo.PLAN.split("roles:")[0]
        .replace("kelda-main", "outfield")
        .replace("kelda-survey", "outfield")
    )
    text += "roles:\n  lead: {count: 1}\n" + "".join(
        f"  role{n}: {{count: {17 if n < 39 else 16}}}\n" for n in range(60)
    )
    kits = {kit.id: kit}
    await keep_text(ports, kits, "western", text, 0)
    return ports, kits


async def edits(
    ports: Application, kits: dict[str, Kit], column: str, values: list[str]
) -> tuple[float, int, Any]:
    """Median seconds of an edit with its answer, the answer's bytes, and the answer."""
    took, body, tag = [], b"", ""
    for value in values:
        version = (await ports.store.read(records.get_plan, "western")).version
        began = time.perf_counter()
        answer = await plans.plan_edit(
            "western",
            plans.Edits(version=version, edits=[Edit(path=("values", column), value=value)]),
            ports,
            kits,
            known=tag,
        )
        body = bytes(answer.body)
        took.append(time.perf_counter() - began)
        tag = json.loads(body)["tag"]
    return statistics.median(took), len(body), json.loads(body)


async def run(folder: Path) -> None:
    """Edits of several kinds."""
    ports, kits = await prepared(folder)
    try:
        row = await ports.store.read(records.get_plan, "western")
        whole = packed(await data_of(ports, row, await evaluate(ports, kits, row.text)))
        packing = []
        data = json.loads(whole)
        for _ in range(ROUNDS):
            began = time.perf_counter()
            json.dumps(data)
            packing.append(time.perf_counter() - began)
        base = statistics.median(packing)
        print(
            f"plan of {len(data['nodes'])} nodes on {len(data['hosts'])} hosts: the whole answer is"
            f" {len(whole) >> 10} KiB; json.dumps of it alone {base * 1000:.0f} ms"
        )
        for label, column, values in (
            (
                "a time server (nothing moves)",
                "ntp",
                [f"10.44.0.{n}" for n in range(20, 20 + ROUNDS)],
            ),
            ("the size (everything moves)", "size", ["medium", "small"] * (ROUNDS // 2)),
        ):
            seconds, size, _ = await edits(ports, kits, column, values)
            print(
                f"  editing {label}: {seconds * 1000:.0f} ms to the answer of {size >> 10} KiB;"
                f" ratio to json.dumps {seconds / base:.2f}"
            )
    finally:
        ports.store.close()


def main() -> None:
    """In a folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        asyncio.run(run(Path(folder)))


if __name__ == "__main__":
    main()
