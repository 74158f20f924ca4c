"""Facts of a KVM host, read in two conversations."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from typing import Literal

from nimble_stone.core.estate import Facts
from nimble_stone.hosts.kvm import commands, reading, xml_in
from nimble_stone.hosts.kvm.session import Session

QUICK_S, SLACK_S = 1.5, 1.0
"""A firmware that ran this quickly needs no comparing; by how much slower than emulation KVM may
be.
"""


class KvmReading:
    """Reads a host."""

    def __init__(self, session: Session) -> None:
        self._session = session

    async def facts(
        self,
        now: float,
        known: Facts | None = None,
        *,
        names: Sequence[str] = (),
        clock: Callable[[], float] | None = None,
    ) -> Facts:
        """All facts of the host. `names`: peers whose addresses it is asked for; `clock` is held
        against the host's own.

        The domain type is probed once and then kept from `known`. Raises RemoteError.
        """
        ask = reading.first(names)
        sent = clock() if clock else now
        answers = dict(zip(ask, await self._session.script(list(ask.values()), 120), strict=True))
        received = clock() if clock else now
        reading.needed(self._session.name, answers)
        things = reading.second(answers)
        chunks = [
            things[start : start + reading.CHUNK] for start in range(0, len(things), reading.CHUNK)
        ]
        said = [
            item
            for part in await asyncio.gather(
                *(
                    self._session.script([command for _, _, command in chunk], 300)
                    for chunk in chunks
                )
            )
            for item in part
        ]
        paths = [
            pool.path
            for (kind, _, _), item in zip(things, said, strict=True)
            if kind == "pool" and item.status == 0 and (pool := xml_in.pool(item.out)).path
        ]
        dfs, probe = await asyncio.gather(
            self._session.script([commands.df(path) for path in paths], 60), self._probe(known)
        )
        free = {
            path: int(lines[-1])
            for path, df in zip(paths, dfs, strict=True)
            if df.status == 0 and (lines := df.out.split()) and lines[-1].isdigit()
        }
        facts = reading.build(
            self._session.name, now, sent, received, answers, things, said, free, names
        )
        return facts.model_copy(update={"domain_type": probe[0], "domain_reason": probe[1]})

    async def _probe(self, known: Facts | None) -> tuple[Literal["kvm", "qemu"], str]:
        if known and known.domain_type:
            return known.domain_type, known.domain_reason
        answer = await self._session.run(
            commands.firmware_probe("kvm"), limit_s=commands.PROBE_S + 5
        )
        if b"Booting from" not in answer.out and b"No bootable device" not in answer.out:
            return (
                "qemu",
                "KVM is advertised or absent, but a VM's firmware did not run under it",
            )
        if answer.seconds > QUICK_S:
            # It works, but slowly: nested in another virtual machine it may be many times slower
            # than emulation, and guests never come up.
            plain = await self._session.run(
                commands.firmware_probe("tcg"), limit_s=commands.PROBE_S + 5
            )
            if plain.seconds + SLACK_S < answer.seconds:
                return (
                    "qemu",
                    (
                        f"under KVM a VM's firmware takes {answer.seconds:.1f} s, in software"
                        f" emulation {plain.seconds:.1f} s"
                    ),
                )
        return "kvm", "a VM's firmware ran under KVM"
