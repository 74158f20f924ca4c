"""Whether a kit's templates, conditions and calls ask for what the sheet has, of whom there is."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from nimble_stone.core import reply, shell_words
from nimble_stone.core.installing import answers
from nimble_stone.core.kit import expression, membership
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.checks import ONCE
from nimble_stone.core.kit.installer import MEDIUM, REPORTS
from nimble_stone.core.kit.setup import ITEM
from nimble_stone.core.kit.systems import FIRST, ITSELF

if TYPE_CHECKING:
    from nimble_stone.core.kit.model import Kit

NO_COLUMNS = ("all.", "list.", "count.", "carries.", "balanced.")
COUNTED = {"n", "count", "mark", "role", "roles"}
"""What templates may name and nobody sets."""


def check(kit: Kit) -> None:
    """Raises ValueError for the first fault."""
    _check_installers(kit)
    _check_images(kit)
    _check_changing(kit, {role.id for role in kit.roles})
    _check_conditions(kit)
    _check_templates(kit)
    _check_calls(kit)


def _check_installers(kit: Kit) -> None:
    """Installers are for machines, and their answer files ask for what the sheet has."""
    known = kit.names_known() | kit.certificate_parts() | set(REPORTS) | set(MEDIUM)
    for role in kit.roles:
        if role.installer is None:
            continue
        place = "hosts" if role.installer.vm else "machines"
        if role.lives_on != place:
            raise ValueError(
                f"role “{role.id}” has an installer"
                + (" with hardware for VMs" if role.installer.vm else "")
                + f": say “lives_on: {place}”"
            )
        texts = {f"answer file {one.path}": one.text for one in role.installer.answers}
        if role.installer.netboot is not None:
            texts["netboot.args"] = role.installer.netboot.args
        for what, text in texts.items():
            for name in answers.names(text):
                if name.removeprefix("first.") not in known:
                    raise ValueError(f"{what} asks for “{name}”, which this kit never defines")


def _check_images(kit: Kit) -> None:
    """A role has an image or an installer; user data asks for what the sheet has."""
    known = kit.names_known() | kit.certificate_parts()
    secrets = {f"hashed.{question.id}" for question in kit.questions if question.secret}
    for role in kit.roles:
        if role.image is None:
            continue
        if role.installer is not None:
            raise ValueError(f"role “{role.id}” has an image and an installer: leave one out")
        for what, text in (("user_data", role.image.user_data), ("args", role.image.args)):
            for name in answers.names(text):
                if name.removeprefix("first.") not in known | secrets:
                    raise ValueError(
                        f"{what} of role “{role.id}” asks for “{name}”, which this kit never"
                        " defines"
                    )


def _check_changing(kit: Kit, roles: set[str]) -> None:
    """Each setting changes one way only."""
    known = kit.names_known() | kit.certificate_parts()
    columns = {name for name in kit.names_known() if not name.startswith(NO_COLUMNS)}
    columns = columns - COUNTED | {f"certificate.{one.id}" for one in kit.certificates}
    seen: set[tuple[str, str]] = set()
    for one in kit.changing:
        if fault := one.fault(roles, columns):
            raise ValueError(f"changing “{one.id}” {fault}")
        for call in one.calls():
            _check_call_texts(f"changing “{one.id}”", call, known | one.names())
        own = {(role, column) for role in one.roles or roles for column in one.values}
        if twice := own & seen:
            raise ValueError(f"two entries of changing name “{sorted(twice)[0][1]}”")
        seen |= own


def _check_conditions(kit: Kit) -> None:
    """Conditions read what the sheet has."""
    known = kit.names_known()
    for question in kit.questions:
        reads(f"question “{question.id}”", question.when, known)
    for role in kit.roles:
        reads(f"role “{role.id}”: copies_by", role.copies_by, known)
    for step in kit.forming:
        reads(f"setup step “{step.id}”", step.when, known)
    for check in kit.acceptance:
        reads(f"acceptance check “{check.id}”", check.when, known)


def _check_templates(kit: Kit) -> None:
    """Templates ask for what the sheet has."""
    known = kit.names_known()
    for place, environment in [
        ("", kit.environment),
        *((f"role “{role.id}”: ", role.environment) for role in kit.roles),
    ]:
        for key, template in environment.items():
            _templates(f"{place}environment “{key}”", template, known | kit.certificate_parts())
    for one in kit.lists:
        if "{list." in one.each:
            raise ValueError(f"list “{one.id}” has a list in it")
        _templates(f"list “{one.id}”", one.each, known)
    for certificate in kit.certificates:
        for template in certificate.names:
            _templates(f"certificate “{certificate.id}”", template, known)


def _check_calls(kit: Kit) -> None:
    """Calls ask for what the sheet has."""
    known = kit.names_known() | kit.certificate_parts()
    plain = kit.names_known() - {one.id for one in kit.questions if one.secret}
    for step in kit.forming:
        item = {ITEM} if step.over else set[str]()
        for call in (step.call, step.observe, step.undo):
            _check_call_texts(f"setup step “{step.id}”", call, known | item)
        # it is told in the open, so it names no secret, kept value or key
        _templates(f"setup step “{step.id}”: makes", step.makes, plain | item, "open")
        _check_asks(kit, f"setup step “{step.id}”", step.asks)
    for one in kit.joins_and_leaves:
        found = {f"kept.{name}" for name in one.finds.keep} if one.finds else set[str]()
        for call in membership.calls(one):
            _check_call_texts(membership.named(one), call, known | found)
        _check_asks(kit, membership.named(one), one.asks)
    for check in kit.acceptance:
        what = f"acceptance check “{check.id}”"
        for text in (
            check.equals or "",
            check.at_least,
            check.at_most,
            check.worst,
            check.source,
        ):
            _templates(what, text, known)
        _check_call_texts(what, check.call, known)
        _check_reading(what, check.value, known)
        _check_asks(kit, what, check.asks)
        for part in check.parts():
            _check_call_texts(f"{what}, “{part.label}”", part.call, known | {ONCE})
            _templates(f"{what}, “{part.label}”", part.equals or "", known | {ONCE})
            _check_reading(f"{what}, “{part.label}”", part.value, known | {ONCE})
    _check_access(kit, known)
    _check_systems(kit, known)


def _check_access(kit: Kit, known: set[str]) -> None:
    """Who asks is somebody the kit knows."""
    calls = [
        *(
            call
            for step in kit.forming
            if not is_system(kit, step.asks)
            for call in (step.call, step.observe)
        ),
        *(
            call
            for one in kit.joins_and_leaves
            if not is_system(kit, one.asks)
            for call in membership.calls(one)
        ),
        *(check.call for check in kit.acceptance if not is_system(kit, check.asks)),
        *(part.call for check in kit.acceptance for part in check.parts()),
    ]
    for call in calls:
        if call is not None and call.login == "bearer" and not kit.access.bearer:
            raise ValueError(
                f"a call to “{call.path}” logs in by “bearer”; say in `access` which token"
            )
    _templates("access: bearer", kit.access.bearer, known)
    if kit.access.certificate not in {"", *(one.id for one in kit.certificates)}:
        raise ValueError(f"access: “{kit.access.certificate}” is not a certificate of this kit")
    session, first = kit.access.session, kit.access.first_password
    if session is not None:
        _check_call_texts("session", session.login, known | {"user", "password"})
        _check_call_texts("session", session.logout, known)
    if first is not None:
        _check_call_texts("first_password", first.change, known)


def _check_call_texts(what: str, call: Call | None, known: set[str]) -> None:
    if call is None:
        return
    for text in call.templates():
        # a shell has braces of its own
        if text != call.ssh:
            _templates(what, text, known)
    for name in shell_words.names(call.ssh):
        _templates(what, f"{{{name}}}", known)
    for reading in call.readings():
        _check_reading(what, reading, known)


def _check_reading(what: str, reading: str, known: set[str]) -> None:
    for name in reply.names(reading):
        _templates(f"{what}: “{reading}”", f"{{{name}}}", known)


def is_system(kit: Kit, asks: str) -> bool:
    """Whether a system outside the plan is asked."""
    return any(one.id == asks for one in kit.systems)


def _check_asks(kit: Kit, what: str, asks: str) -> None:
    if asks not in (ITSELF, FIRST) and not is_system(kit, asks):
        raise ValueError(f"{what} asks “{asks}”, which is not a system of this kit")


def _check_systems(kit: Kit, known: set[str]) -> None:
    """Where systems are and who asks them is filled in from what the sheet has."""
    for one in kit.systems:
        what = f"system “{one.id}”"
        texts = (one.address, one.trust, one.host_key, one.user, one.password, one.bearer)
        for text in texts:
            _templates(what, text, known)
        if one.host_key and not any(call.ssh for call in kit.calls_to(one.id)):
            raise ValueError(f"{what}: `host_key` is for SSH; nothing asks it by SSH")
        if one.session is not None:
            _check_call_texts(what, one.session.login, known | {"user", "password"})
            _check_call_texts(what, one.session.logout, known)


def _templates(what: str, template: str, known: set[str], told: str = "") -> None:
    for name in re.findall(r"\{([^}]*)\}", template):
        # empty braces stand for themselves, such as an empty JSON object
        if not name or name.removeprefix("first.") in known:
            continue
        if told:
            raise ValueError(f"{what} is told in the {told}; it cannot name “{name}”")
        if not name.startswith("kept."):
            raise ValueError(f"{what} asks for “{name}”, which this kit never defines")


def reads(what: str, formula: str, known: set[str]) -> None:
    """A formula reads known names. Raises ValueError."""
    if formula and (unknown := expression.parse(formula).names - known):
        raise ValueError(f"{what} reads “{sorted(unknown)[0]}”, which this kit never defines")
