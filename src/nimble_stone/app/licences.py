"""Licence texts of the packages that a plan is made of, and whether they were accepted."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Iterable

from nimble_stone.app.application import Application
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.packages import PackageView
from nimble_stone.store import library


def joined(texts: Iterable[str]) -> str:
    """Licence texts one after the other, each once: a text that a package or several packages
    repeat is accepted once.
    """
    return "\n\n".join(dict.fromkeys(text for text in texts if text))


def sha256_of(text: str) -> str:
    """SHA-256 of a licence text, '' for none."""
    return hashlib.sha256(text.encode()).hexdigest() if text else ""


def licence_text(descriptors: Iterable[Descriptor]) -> str:
    """All licence texts of packages."""
    return joined(text for descriptor in descriptors for text in descriptor.licences)


def licence_sha256(descriptors: Iterable[Descriptor]) -> str:
    """SHA-256 of the licence text, '' when there is none."""
    return sha256_of(licence_text(descriptors))


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
