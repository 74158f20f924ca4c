"""All runs of a server: starting, finding again after a restart, and passing requests on."""

from __future__ import annotations

import asyncio
import json
import logging
from dataclasses import asdict
from typing import Any

from nimble_stone.core.errors import Conflict, StoneError, StoreError
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.core.sequence import Limits
from nimble_stone.engine import acceptance, retiring, survey
from nimble_stone.engine.drive import Driver, verdict
from nimble_stone.engine.frozen import thawed
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records, runs

log = logging.getLogger("nimble_stone.engine")


FAULT = "Internal error; see the server log. Retry, and report it."
PROBE_BYTES = 256 << 10
FIRST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 15.0
"""Between two looks whether the store can be written again."""
LIMITS = "limits"
"""Where the limits are kept."""


def limits_of(text: str | None) -> Limits:
    """The limits as they are kept; the usual ones where none were set."""
    return Limits(**json.loads(text)) if text else Limits()


class Engine:
    """Holds a driver for every run under way. `open` finds those of an earlier life, `close` lets
    go of all.
    """

    def __init__(self, ports: Ports) -> None:
        self.ports = ports
        self._drivers: dict[str, tuple[Driver, asyncio.Task[None]]] = {}
        self._readings: set[asyncio.Task[None]] = set()

    async def open(self) -> None:
        """Take up every run that had not ended, within the limits that were set."""
        self.ports.limiter.change(limits_of(await self.ports.store.read(records.get_meta, LIMITS)))
        for row in await self.ports.store.read(runs.runs, active=True, kind=""):
            await self.ports.store.write(runs.take_up, row.id, self.ports.clock())
            self._take(row.id)
        for place in await self.ports.store.read(records.meta_under, retiring.PLACE):
            await self._retire_on(place.removeprefix(retiring.PLACE))

    async def close(self) -> None:
        """Stop driving; the store keeps how things stand."""
        tasks = [*(task for _, task in self._drivers.values()), *self._readings]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def _take(self, run_id: str) -> Driver:
        driver = Driver(self.ports, run_id)
        self._drivers[run_id] = (driver, asyncio.create_task(self._drive(run_id)))
        return driver

    async def _drive(self, run_id: str) -> None:
        """Keep one run driven, or stopped where everybody sees it. When the store fails, wait until
        it answers and go on from what it holds. Any other failure is a fault of ours: it is written
        to the run, and the next request of a person takes it up again.
        """
        try:
            while True:
                driver = self._drivers[run_id][0]
                try:
                    await driver.go()
                    break
                except StoreError as error:
                    await self._store_answers(error)
                    self._drivers[run_id] = (Driver(self.ports, run_id), self._drivers[run_id][1])
                except StoneError as error:
                    log.warning("run %s: %s", run_id, error)
                    await self._abandon(run_id, f"{error} {error.hint}".strip())
                    return
                except Exception:
                    log.exception("run %s", run_id)
                    await self._abandon(run_id, FAULT)
                    return
        finally:
            self._drivers.pop(run_id, None)
        reading = asyncio.create_task(self._read_hosts(driver.hosts()))
        self._readings.add(reading)
        reading.add_done_callback(self._readings.discard)
        try:
            await self._retire_on((await self.ports.store.read(runs.get_run, run_id)).plan)
        except StoneError as error:
            # the next start of the server, or of the retirement, goes on with it
            log.warning("after run %s: %s", run_id, error)

    async def _read_hosts(self, names: set[str]) -> None:
        """Read the hosts that a run worked on: their memory and datastores are not as before."""
        try:
            estate = await self.ports.store.read(records.load_estate)
            hosts = [host for host in estate.hosts if host.name in names]
            await survey.read_hosts(self.ports, hosts, dict(estate.facts))
        except StoneError as error:
            log.warning("hosts after a run: %s", error)

    async def retire(self, plan: str, *, keep_data: bool) -> None:
        """Take all of a deployment away; see `retiring`. Its runs tell how far it is."""
        await retiring.ask(self.ports, plan, keep_data=keep_data)
        await self._retire_on(plan)

    async def _retire_on(self, plan: str) -> None:
        """Roll the next run back, where the plan is being retired."""
        if not await retiring.asked(self.ports, plan):
            return
        if run := await retiring.next_run(self.ports, plan):
            await self.undo(run)

    async def _abandon(self, run_id: str, reason: str) -> None:
        """Write to the run why it is not driven, as soon as the store takes it."""
        while True:
            try:
                await self.ports.store.write(
                    runs.abandon, run_id, self.ports.clock(), self.ports.blank(reason)
                )
                self.ports.hub.signal(run_id)
                return
            except StoreError as error:
                await self._store_answers(error)

    async def _store_answers(self, error: StoreError) -> None:
        """Wait until the store can be written again; said once in the log, and on every page as
        long as it lasts.
        """
        if not self.ports.trouble:
            log.error("runs wait: %s", error)
        self.ports.trouble = f"{error} {error.hint}"
        pause = FIRST_PAUSE_S
        while True:
            await self.ports.pause(pause)
            try:
                # As much as a run writes in a while: a few bytes still fit where nothing else does.
                await self.ports.store.write(records.put_meta, "store-probe", "x" * PROBE_BYTES)
                await self.ports.store.write(records.put_meta, "store-probe", "")
            except StoreError:
                pause = min(LONGEST_PAUSE_S, pause * 2)
                continue
            if self.ports.trouble:
                log.info("the store works again; runs resume")
            self.ports.trouble = ""
            return

    async def start(self, run: runs.RunRow, steps: list[str]) -> None:
        """Keep a new run and begin it. Raises Conflict while one of the same plan is running."""
        await self.ports.store.write(runs.add_run, run, steps)
        self._take(run.id)

    async def _driver(self, run_id: str) -> Driver:
        """Who drives the run; one that was left standing by a fault is taken up again. Raises
        Conflict when it has ended, or cannot be driven still.
        """
        if run_id not in self._drivers:
            row = await self.ports.store.read(runs.get_run, run_id)
            if row.state not in ACTIVE:
                raise Conflict("The run has ended.", code="run-ended")
            await self.ports.store.write(runs.take_up, run_id, self.ports.clock(), "taken-again")
            self._take(run_id)
        driver, task = self._drivers[run_id]
        ready = asyncio.ensure_future(driver.loaded.wait())
        await asyncio.wait({ready, task}, return_when=asyncio.FIRST_COMPLETED)
        if not ready.done():
            ready.cancel()
            row = await self.ports.store.read(runs.get_run, run_id)
            raise Conflict(
                f"The run cannot continue: {row.reason}",
                code="run-stopped",
                hint="See its journal.",
            )
        return driver

    async def set_limits(self, limits: Limits) -> None:
        """Other limits for all runs, from now on and after a restart."""
        await self.ports.store.write(records.put_meta, LIMITS, json.dumps(asdict(limits)))
        self.ports.limiter.change(limits)

    async def correct(self, run_id: str, doc: dict[str, Any], told: dict[str, Any]) -> None:
        """Go on by another document, when a person says so. Raises Conflict while a step is under
        way.
        """
        driver = await self._driver(run_id)
        driver.check_idle()
        task = self._drivers[run_id][1]
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        try:
            await self.ports.store.write(runs.correct, run_id, self.ports.clock(), doc, told)
        finally:
            self._take(run_id)
            self.ports.hub.signal(run_id)

    async def hold(self, run_id: str) -> None:
        """Begin nothing more."""
        await (await self._driver(run_id)).hold()

    async def resume(self, run_id: str) -> None:
        """Resume after a hold."""
        await (await self._driver(run_id)).resume()

    async def resume_and_retry(self, run_id: str) -> None:
        """Go on after a hold, and try again what failed before it."""
        driver = await self._driver(run_id)
        await driver.retry([])
        await driver.resume()

    async def retry(self, run_id: str, keys: list[str]) -> None:
        """Try failed steps again."""
        left = run_id not in self._drivers
        driver = await self._driver(run_id)
        try:
            await driver.retry(keys)
        except Conflict:
            # where it was not driven, driving it again is what was requested
            if not left or keys:
                raise

    async def skip(self, run_id: str, key: str, reason: str) -> None:
        """Pass over a failed step."""
        await (await self._driver(run_id)).skip(key, reason)

    async def extend(self, run_id: str, key: str, seconds: float) -> None:
        """Put the deadline of a wait off."""
        await (await self._driver(run_id)).extend(key, seconds)

    async def end_wait(self, run_id: str, key: str) -> None:
        """End a wait."""
        await (await self._driver(run_id)).end_wait(key)

    async def undo(self, run_id: str) -> None:
        """Take back what the run made, also after it has ended. Raises Conflict when that was done
        already.
        """
        if run_id not in self._drivers:
            row = await self.ports.store.read(runs.get_run, run_id)
            if row.state == RunState.UNDONE:
                raise Conflict("this run was rolled back already", code="run-undone")
            await self.ports.store.write(
                runs.move_run, run_id, self.ports.clock(), "undo-asked", RunState.UNDOING
            )
            self._take(run_id)
            return
        await self._drivers[run_id][0].undo()

    async def prove(self, run_id: str) -> None:
        """Make the proofs of a run that has ended once more."""
        if run_id in self._drivers:
            raise Conflict(
                "The run is not finished; acceptance checks run at its end.", code="run-active"
            )
        row = await self.ports.store.read(runs.get_run, run_id)
        if row.state == RunState.UNDONE:
            raise Conflict("this run was rolled back; there is nothing to check", code="run-undone")
        verdicts = await acceptance.prove(self.ports, await thawed(self.ports.store, row))
        await acceptance.keep(self.ports, run_id, verdicts)
        passed = all(verdict.passed for verdict in verdicts)
        await self.ports.store.write(
            runs.move_run,
            run_id,
            self.ports.clock(),
            *verdict(passed),
        )
        self.ports.hub.signal(run_id)

    async def idle(self) -> None:
        """Wait until nothing is running (for tests and orderly ends)."""
        while self._drivers:
            await asyncio.wait([task for _, task in self._drivers.values()])
