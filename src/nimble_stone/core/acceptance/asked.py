"""Checks that a kit writes itself: a call and what its answer must say; ports that must be closed;
plain HTTP that leads to HTTPS; and which nodes reach which.
"""

from __future__ import annotations

from dataclasses import dataclass

import re2

from nimble_stone.core.acceptance.model import Kind, Mesh, Subject
from nimble_stone.core.kit.checks import HOSTS, NODES
from nimble_stone.core.plan.filled import filled
from nimble_stone.core.plan.sheet import Node, reached

PREFIX = "check:"
"""Under which what a check of a kit's own found is kept, by the check's id."""


@dataclass(frozen=True)
class Wish:
    """What a value must be. Empty: not asked for. `least` and `most` are numbers, give or take
    `tolerance`.
    """

    equals: str | None = None
    matches: str = ""
    least: float | None = None
    most: float | None = None
    unit: str = ""


@dataclass(frozen=True)
class Pair:
    """Whether one node reaches another: names; `shut`: the ports on which it does not. `asked` is
    False where the source could not be asked: then nothing is known.
    """

    source: str
    target: str
    reached: bool = True
    shut: tuple[int, ...] = ()
    asked: bool = True


@dataclass(frozen=True)
class Closed:
    """A port, and whether it takes connections."""

    port: int
    open: bool = False


def subject_node(subject: Subject) -> Node | None:
    """The node that a check asks; the first one for the cluster."""
    return subject.node or (subject.sheet.nodes[0] if subject.sheet.nodes else None)


def number_of(text: str, subject: Subject, node: Node) -> float | None:
    """The number that a template gives, None where it gives none."""
    found = filled(text, node, subject.sheet) if text else ""
    try:
        return float(found) if found else None
    except ValueError:
        return None


def wish(subject: Subject) -> Wish | None:
    """What the plan says a value must be; None for a node whose role the check is not for."""
    proof, node = subject.proof, subject_node(subject)
    if node is None or (subject.node and proof.roles and not node.has_any(proof.roles)):
        return None
    equals = None if proof.equals is None else filled(proof.equals, node, subject.sheet)
    return Wish(
        equals,
        proof.matches,
        number_of(proof.at_least, subject, node),
        number_of(proof.at_most, subject, node),
        proof.unit,
    )


def fits(wanted: Wish, found: str, tolerance: float) -> bool:
    """Whether a value will do. Numbers are compared as numbers."""
    if wanted.equals is not None and not _same(wanted.equals, found, tolerance):
        return False
    if wanted.matches and re2.fullmatch(wanted.matches, found) is None:
        return False
    if wanted.least is None and wanted.most is None:
        return True
    try:
        number = float(found)
    except ValueError:
        return False
    low = wanted.least is None or number >= wanted.least - tolerance
    return low and (wanted.most is None or number <= wanted.most + tolerance)


def _same(wanted: str, found: str, tolerance: float) -> bool:
    if wanted == found:
        return True
    try:
        return abs(float(wanted) - float(found)) <= tolerance
    except ValueError:
        return False


def _wish_text(wanted: Wish, tolerance: float) -> str:
    unit = f" {wanted.unit}" if wanted.unit else ""
    parts = []
    if wanted.equals is not None:
        off = f" ± {tolerance:g}" if tolerance else ""
        parts.append(f"{wanted.equals}{off}{unit}")
    if wanted.matches:
        parts.append(f"like {wanted.matches}")
    if wanted.least is not None:
        parts.append(f"at least {wanted.least:g}{unit}")
    if wanted.most is not None:
        parts.append(f"at most {wanted.most:g}{unit}")
    return ", ".join(parts) or "an answer"


def pairs(subject: Subject) -> tuple[Pair, ...] | None:
    """Every node of the roles is reached: by every other one, by its host, or by bays."""
    roles, sheet = subject.proof.roles, subject.sheet
    nodes = [node for node in sheet.nodes if not roles or node.has_any(roles)]
    if subject.proof.source == NODES:
        found = [Pair(one.name, other.name) for one in nodes for other in nodes if one != other]
    elif subject.proof.source == HOSTS:
        found = [Pair(n.value("host"), n.name) for n in nodes if not n.on_machine]
    else:
        found = [Pair(bay, node.name) for bay in bays_of(subject) for node in nodes]
    return tuple(found) or None


def bays_of(subject: Subject) -> list[str]:
    """The bays from which nodes must be reached; none where the plan names none."""
    node = subject_node(subject)
    text = filled(subject.proof.source, node, subject.sheet) if node else ""
    return list(dict.fromkeys(filter(None, (one.strip() for one in text.split(",")))))


def _pair_text(pair: Pair) -> str:
    ports = ":" + "+".join(map(str, pair.shut)) if pair.shut else ""
    return f"{pair.source} → {pair.target}{ports}"


def _pairs_text(found: tuple[Pair, ...]) -> str:
    lost = [pair for pair in found if pair.asked and not pair.reached]
    silent = dict.fromkeys(pair.source for pair in found if not pair.asked)
    good = sum(pair.asked and pair.reached for pair in found)
    text = f"{good} of {len(found)} pairs"
    if lost:
        more = f" and {len(lost) - 4} more" if len(lost) > 4 else ""
        text += f"; lost: {', '.join(_pair_text(pair) for pair in lost[:4])}{more}"
    if silent:
        more = f" and {len(silent) - 4} more" if len(silent) > 4 else ""
        text += f"; could not be asked: {', '.join(list(silent)[:4])}{more}"
    return text


def mesh(found: tuple[Pair, ...]) -> Mesh | None:
    """The pairs as a drawing has them; none where others than the nodes ask. Cost: O(pairs)."""
    nodes = tuple(dict.fromkeys(pair.source for pair in found))
    if set(nodes).isdisjoint(pair.target for pair in found):
        return None
    number = {name: at for at, name in enumerate(nodes)}
    lost: list[list[int]] = [[] for _ in nodes]
    for pair in found:
        if pair.asked and not pair.reached and pair.target in number:
            lost[number[pair.source]].append(number[pair.target])
    silent = dict.fromkeys(number[pair.source] for pair in found if not pair.asked)
    return Mesh(nodes, tuple(tuple(sorted(one)) for one in lost), tuple(silent))


def _closed(subject: Subject) -> tuple[Closed, ...] | None:
    node = subject_node(subject)
    if node is None or (subject.proof.roles and not node.has_any(subject.proof.roles)):
        return None
    return tuple(Closed(port) for port in subject.proof.ports) or None


def _closed_text(found: tuple[Closed, ...]) -> str:
    return ", ".join(f"{one.port} {'open' if one.open else 'closed'}" for one in found)


def _redirect(subject: Subject) -> str | None:
    node = subject_node(subject)
    if node is None or (subject.proof.roles and not node.has_any(subject.proof.roles)):
        return None
    port = subject.sheet.kit.access.port or subject.sheet.kit.service.port
    return f"https://{reached(subject.sheet.kit, node)}" + ("" if port == 443 else f":{port}")


def leads_to(wanted: str, found: str) -> bool:
    """Whether a Location leads to that place, or below it; a name may stand for the address."""
    scheme, _, rest = found.partition("://")
    return scheme == "https" and (
        found.startswith(wanted) or (":" not in wanted[8:] and bool(rest))
    )


KINDS = (
    Kind("call", "node", wish, str, fits, _wish_text),
    Kind("closed", "node", _closed, _closed_text),
    Kind("redirect", "node", _redirect, str, lambda wanted, found, _: leads_to(wanted, found)),
    Kind("reach", "cluster", pairs, _pairs_text, mesh=mesh),
)
