"""The contract against one real host, in a process of its own (it runs in the hosts' network)."""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path

from nimble_stone.hosts.drivers import driver
from nimble_stone.reach import Credential, DialPolicy, Reach, Target
from nimble_stone.reach.ssh import Pins
from tests.contract.contract import keep


async def main(name: str, address: str, key: Path) -> None:
    async def get(place: str) -> str | None:
        return None

    async def put(place: str, fingerprint: str) -> None:
        pass

    reach = Reach(DialPolicy(), Pins(get, put))
    login = Credential("root", key=key.read_text())
    host = driver("kvm", reach, Target(name, address, 22, login))
    await keep(host, address=address, datastore=f"{name}-local", network="survey")
    await reach.close()


if __name__ == "__main__":
    asyncio.run(main(sys.argv[1], sys.argv[2], Path(sys.argv[3])))
