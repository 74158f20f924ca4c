"""The sequence of host preparation, and the run as it is kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from pydantic import TypeAdapter

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Datastore, Estate
from nimble_stone.core.runs.states import RunState
from nimble_stone.core.step import Step
from nimble_stone.store.runs import RunRow

ACTION: TypeAdapter[prep.Action] = TypeAdapter(prep.Action)
PARTS = ("insert", "boot", "report", "end")
"""The steps of an inspection, in their order."""
WRITING = ("unpack", *PARTS)
"""Those of writing an image."""
_PART_LABELS = {
    "unpack": "Unpack image",
    "insert": "Insert inspection medium",
    "boot": "Boot from medium",
    "report": "Report",
    "end": "Eject medium",
}
_PART_EXPECTED_S = {"unpack": 10.0, "insert": 5.0, "boot": 15.0, "report": 60.0, "end": 15.0}
_REPORT_LONGEST_S, _PART_LONGEST_S = 900.0, 240.0
_WRITE_EXPECTED_S, _WRITE_LONGEST_S = 240.0, 4 * 3600.0
"""How long it takes depends on image and drive; a medium is on offer no longer than that."""
ORDER = {
    "inspect": 0,
    "wipe-drives": 0,
    "write-image": 0,
    "ssh-key": 0,
    "names": 1,
    "time-source": 1,
    "wipe-disk": 1,
    "remove-vm": 1,
    "carry-network": 2,
    "isolated-network": 2,
    "start-network": 2,
    "rename-datastore": 2,
    "datastore-folder": 3,
    "datastore-disk": 3,
    "datastore-nfs": 3,
    "start-datastore": 3,
    "fencing-volume": 4,
    "refuse-passwords": 5,
}
"""In which order a host's own actions come: disks are wiped before they are used, passwords refused
when all else is done.
"""


def steps_of(work: prep.Preparation, estate: Estate) -> list[Step]:
    """The sequence: hosts side by side, the actions of one host one after the other. Raises
    Conflict for two actions on the same thing.
    """
    found: list[Step] = []
    last: dict[str, str] = {}
    for action in sorted(work.actions, key=lambda a: (ORDER[a.kind], a.host)):
        key = f"{action.kind}:{action.host}:{prep.target(action)}"
        if any(step.key.startswith(key) for step in found):
            raise Conflict(
                f"{prep.label(action)} on {action.host} is requested twice", code="twice"
            )
        if isinstance(action, prep.MetalAction):
            if any(step.host == action.host for step in found):
                raise Conflict(f"{action.host} can boot for one thing at a time", code="twice")
            found += _inspection(action, key, estate)
            continue
        host = estate.host(action.host)
        facts = estate.facts.get(action.host)
        before: dict[str, str] = {}
        if (
            isinstance(action, prep.RenameStore)
            and facts is not None
            and (store := facts.datastore(action.name) or facts.datastore(action.to))
        ):
            before = {"store": store.model_dump_json()}
        if isinstance(action, prep.AddKey) and host is not None:
            before = {"login": host.credential}
        found.append(
            Step(
                key,
                "ground",
                prep.label(action),
                "",
                action.host,
                "",
                sum(step.host == action.host for step in found),
                (last[action.host],) if action.host in last else (),
                4.0,
                120.0,
                detail={"action": action.model_dump_json(), **before},
            )
        )
        last[action.host] = key
    return found


def _inspection(action: prep.MetalAction, key: str, estate: Estate) -> list[Step]:
    """The steps of one machine, one after the other; its power as it was found goes with them."""
    facts = estate.machine_facts.get(action.host)
    power = facts.power if facts else ""
    inspects = isinstance(action, prep.InspectMachine)
    report_label = "Report" if inspects else f"{prep.label(action).capitalize()} and report"
    expected, longest = dict(_PART_EXPECTED_S), {"report": _REPORT_LONGEST_S}
    parts: tuple[str, ...] = PARTS
    if isinstance(action, prep.WriteImage):
        parts = WRITING
        expected["report"] = _WRITE_EXPECTED_S
        longest = {"report": _WRITE_LONGEST_S, "unpack": _WRITE_LONGEST_S}
    steps: list[Step] = []
    for number, part in enumerate(parts):
        steps.append(
            Step(
                f"{key}:{part}",
                "ground",
                _PART_LABELS[part] if part != "report" else report_label,
                "",
                action.host,
                "",
                number,
                (steps[-1].key,) if steps else (),
                expected[part],
                longest.get(part, _PART_LONGEST_S),
                waits=part == "report",
                detail={"action": action.model_dump_json(), "part": part, "power": power},
            )
        )
    return steps


def kind_of(step: Step) -> str:
    """Which kind carries the step out."""
    part = step.detail.get("part")
    return f"inspect-{part}" if part else action_of(step).kind


def action_of(step: Step) -> prep.Action:
    """The step's action."""
    return ACTION.validate_json(step.detail["action"])


def before_of(step: Step) -> Datastore | None:
    """The datastore that is renamed, as it was."""
    return Datastore.model_validate_json(step.detail["store"]) if "store" in step.detail else None


def row_of(run: str, work: prep.Preparation, steps: Sequence[Step], now: float) -> RunRow:
    """The run as it is kept; packages that it writes stay as long as it is known."""
    written = {
        f"{action.host} drive {action.drive.serial}": action.package
        for action in work.actions
        if isinstance(action, prep.WriteImage)
    }
    return RunRow(
        run,
        ", ".join(dict.fromkeys(action.host for action in work.actions))[:200],
        "",
        RunState.RUNNING,
        {
            "work": work.model_dump(mode="json"),
            "steps": [asdict(step) for step in steps],
            "packages": written,
        },
        now,
        None,
        "groundwork",
    )


def steps_in(row: RunRow) -> dict[str, Step]:
    """Steps of a kept run."""
    return {
        item["key"]: Step(**{**item, "after": tuple(item["after"])}) for item in row.doc["steps"]
    }


def busy(rows: Sequence[RunRow], steps: Sequence[Step]) -> str:
    """The run under way that works on one of the same things, '' when there is none."""
    wanted = {thing for step in steps for thing in prep.things(action_of(step))}
    return next(
        (
            row.id
            for row in rows
            if any(wanted & prep.things(action_of(step)) for step in steps_in(row).values())
        ),
        "",
    )
