"""The steps of nodes that live on bare machines. Either an image is written by the system on a
medium and the configuration comes on a second one, or an installer does both by its answer files.
Then the machine boots from its own drive. Pure.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial

from nimble_stone.core import drive_choice
from nimble_stone.core import preparation as prep
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.installer import Installer
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Kind, Step, make

UNPACK_BYTES_PER_S, WRITE_BYTES_PER_S = 200 << 20, 40 << 20
START_S, SWITCH_S, EJECT_S, ENROLL_S, ROOM_S = 60.0, 15.0, 10.0, 10.0, 5.0
"""Until the system on the medium works; until a machine is switched; until a medium is out; until a
node is a host of the estate; until an installer has room for answers.
"""
WRITE_LONGEST_S, SWITCH_LONGEST_S = 4 * 3600.0, 240.0
MACHINE_KINDS: tuple[Kind, ...] = (
    "insert",
    "medium-boot",
    "write",
    "eject",
    "seed",
    "power-on",
    "unseed",
    "insert-installer",
    "install",
)
"""Steps that speak to a machine's controller."""
WRITES = ("insert", "write")
"""Kinds of steps that say which drives the system on the medium wipes and writes."""
OWN_DRIVES = "own_drives"
"""In a step's detail: drives that may hold anything, as the node itself left it there; JSON, serial
number → bytes.
"""
EARLY = ("insert", "insert-installer", "medium-boot", "write", "install", "eject")
WAITING = ("write", "install", "boot", "services")
"""Steps that come first, whatever a role comes after; steps that wait for the machine."""


def unpacking(nodes: Iterable[Node], sheet: Sheet, estate: Estate, pace: float) -> list[Step]:
    """A step for each package that machines get: its image is unpacked once."""
    first: dict[str, Node] = {}
    rooms: dict[str, Node] = {}
    for node in nodes:
        package = sheet.packages.of(node.role)
        if installer_of(sheet, node) is not None:
            rooms.setdefault(node.role, node)
        else:
            first.setdefault(package.sha256 if package else "", node)
    steps = [answer_room(sheet, node, pace) for node in rooms.values()]
    for sha256, node in first.items():
        package = sheet.packages.of(node.role)
        size = package.thin_bytes if package else 0
        steps.append(
            make(
                "unpack",
                f"unpack/{sha256[:12]}",
                "Unpack image",
                node,
                1,
                (),
                pace * (1 + size / UNPACK_BYTES_PER_S),
                node="",
                deadline=WRITE_LONGEST_S,
                detail={
                    "by": node.id,
                    "package": sha256,
                    "action": _action(node, estate, sha256),
                },
            )
        )
    return steps


def of_node(
    sheet: Sheet, node: Node, estate: Estate, wave: int, before: Sequence[str], pace: float
) -> list[Step]:
    """The steps of one node. `before`: keys of steps that must be done before it is switched on for
    good.
    """
    if (installer := installer_of(sheet, node)) is not None:
        return _installing(sheet, node, installer, wave, before, pace)
    ident = node.id
    package = sheet.packages.of(node.role)
    sha256, size = (package.sha256, package.thin_bytes) if package else ("", 0)
    detail = {"action": _action(node, estate, sha256), "power": "Off", "package": sha256}
    step = partial(_step, node, wave, detail, pace)
    drive = node.value(SYSTEM_DRIVE)
    return [
        step("insert", "Insert boot medium", (f"unpack/{sha256[:12]}",), 5.0),
        step("medium-boot", "Boot from medium", (f"insert/{ident}",), SWITCH_S),
        step(
            "write",
            f"Write image to {drive}" if drive else "Write image",
            (f"medium-boot/{ident}",),
            START_S + size / WRITE_BYTES_PER_S,
            WRITE_LONGEST_S,
        ),
        step("eject", "Eject boot medium", (f"write/{ident}",), EJECT_S),
        step("seed", "Insert config ISO", (f"eject/{ident}",), 5.0),
        *_first_boot(sheet, node, step, (f"seed/{ident}", *before)),
        step("unseed", "Eject config ISO", (f"services/{ident}",), EJECT_S),
    ]


def _step(
    node: Node,
    wave: int,
    detail: Mapping[str, str],
    pace: float,
    kind: Kind,
    label: str,
    after: Sequence[str],
    expected: float,
    longest: float = SWITCH_LONGEST_S,
) -> Step:
    """A step of a node's own. What brings its system onto a drive is in the first wave."""
    return make(
        kind,
        f"{kind}/{node.id}",
        label,
        node,
        1 if kind in EARLY else wave,
        tuple(after),
        pace * expected,
        deadline=longest,
        waits=kind in WAITING,
        detail=detail if kind in MACHINE_KINDS else {},
    )


def _first_boot(
    sheet: Sheet, node: Node, step: Callable[..., Step], after: Sequence[str]
) -> list[Step]:
    """The node starts from its own drive, and comes up."""
    times, ident = sheet.kit.durations, node.id
    boots, comes_up = times.boot, times.services
    return [
        step("power-on", "Switch on", after, SWITCH_S),
        step("boot", "Boot", (f"power-on/{ident}",), START_S + boots.expected, boots.longest),
        step("services", "Services", (f"boot/{ident}",), comes_up.expected, comes_up.longest),
    ]


def installer_of(sheet: Sheet, node: Node) -> Installer | None:
    """How the node is installed; None where its image is written."""
    role = sheet.kit.role(node.role)
    return role.installer if role else None


def answer_room(sheet: Sheet, node: Node, pace: float) -> Step:
    """The installer ISO with room for answers, made once for all nodes of a role."""
    package = sheet.packages.of(node.role)
    return make(
        "answer-room",
        f"answer-room/{node.role}",
        "Prepare installer",
        node,
        1,
        (),
        pace * ROOM_S,
        node="",
        deadline=WRITE_LONGEST_S,
        detail={"by": node.id, "package": package.sha256 if package else ""},
    )


def _installing(
    sheet: Sheet,
    node: Node,
    installer: Installer,
    wave: int,
    before: Sequence[str],
    pace: float,
) -> list[Step]:
    """The steps of a node that an installer puts onto its machine."""
    ident = node.id
    package = sheet.packages.of(node.role)
    detail = {"power": "Off", "package": package.sha256 if package else ""}
    step = partial(_step, node, wave, detail, pace)
    return [
        step("insert-installer", "Insert installer", (f"answer-room/{node.role}",), 5.0),
        step("medium-boot", "Boot from installer", (f"insert-installer/{ident}",), SWITCH_S),
        step(
            "install",
            "Install",
            (f"medium-boot/{ident}",),
            START_S + installer.expected,
            installer.longest,
        ),
        step("eject", "Eject installer", (f"install/{ident}",), EJECT_S),
        *_first_boot(sheet, node, step, (f"eject/{ident}", *before)),
    ]


def enrolling(
    sheet: Sheet, nodes: Iterable[Node], estate: Estate, steps: Sequence[Step], pace: float
) -> list[Step]:
    """A step for each node that becomes a hypervisor host: at the very end, when the cluster is
    formed. `steps`: all others.
    """
    formed = [step.key for step in steps if step.kind == "call" and not step.node]
    # without a cluster step, no host is used before all nodes are there
    before = formed or [step.key for step in steps if step.kind in ("services", "call")]
    wave = max((step.wave for step in steps), default=0) + 1
    found = []
    for node in nodes:
        role = sheet.kit.role(node.role)
        if role is None or role.becomes_host is None:
            continue
        machine = estate.machine(node.value("host"))
        # where the cluster stands already, the node is formed when it has joined
        own = [step.key for step in steps if step.kind == "call" and step.node == node.id]
        found.append(
            make(
                "enroll",
                f"enroll/{node.id}",
                "Add as host",
                node,
                wave,
                tuple(dict.fromkeys((_last(sheet, node), *before, *own))),
                pace * ENROLL_S,
                deadline=SWITCH_LONGEST_S,
                detail={
                    "site": machine.site if machine else "",
                    "user": role.becomes_host.user,
                    "datastore": role.becomes_host.datastore,
                },
            )
        )
    return found


def _last(sheet: Sheet, node: Node) -> str:
    """The node's own last step."""
    done = "services" if installer_of(sheet, node) is not None else "unseed"
    return f"{done}/{node.id}"


def _action(node: Node, estate: Estate, sha256: str) -> str:
    """Writing the image to the system drive, which holds nothing; '' while there is none."""
    name, serial = node.value("host"), node.value(SYSTEM_DRIVE)
    facts = estate.machine_facts.get(name)
    drives = drive_choice.drives_of(facts) if facts else ()
    drive = next((one for one in drives if one.serial == serial), None)
    if drive is None or not sha256:
        return ""
    wanted = prep.WipeDrive(serial=drive.serial, size_bytes=drive.size_bytes)
    return prep.WriteImage(host=name, drive=wanted, package=sha256).model_dump_json()
