"""Licence texts of the packages that a plan is made of, and whether they were accepted."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Iterable

from nimble_stone.app.application import Application
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.packages import PackageView
from nimble_stone.store import library


def licence_text(descriptors: Iterable[Descriptor]) -> str:
    """All licence texts of packages, one after the other, each once."""
    return "\n\n".join(
        dict.fromkeys(text for descriptor in descriptors for text in descriptor.licences if text)
    )


def licence_sha256(descriptors: Iterable[Descriptor]) -> str:
    """SHA-256 of the licence text, '' when there is none."""
    text = licence_text(descriptors)
    return hashlib.sha256(text.encode()).hexdigest() if text else ""


def accepted(licence: str, by: str, now: float) -> dict[str, str]:
    """What a plan says of a licence that was accepted. `licence`: SHA-256 of its text; `now`: epoch
    seconds.
    """
    at = datetime.datetime.fromtimestamp(now, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return {"by": by, "at": at, "text": licence}


async def licences_recorded(app: Application, used: Iterable[PackageView]) -> bool:
    """Whether a person accepted the licence of every one of these packages on the package's own
    page.
    """
    texts = {licence_sha256([package.descriptor]) for package in used} - {""}
    return all([await app.store.read(library.accepted, text) for text in texts])
