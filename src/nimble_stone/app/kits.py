"""The kits a server knows: those that ship with it, and those in its data folder, which are seen as
soon as they change.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import resources
from pathlib import Path
from threading import Lock

from nimble_stone.core import yaml_text
from nimble_stone.core.errors import FormatError, InputError, StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.yaml_bounds import MAX_BYTES

LOOK_S = 0.05
NOT_THE_FILES = ("kit-unreadable", "yaml-too-slow")


@dataclass(frozen=True)
class FaultyKit:
    """A kit file that cannot be used, and why; `passing`: it may be the machine, not the file."""

    file: str
    message: str
    passing: bool = False


@dataclass(frozen=True)
class Kits:
    """Kits by id, and files that are none."""

    kits: dict[str, Kit]
    faulty: tuple[FaultyKit, ...] = ()


def read_kit(text: str, name: str) -> Kit:
    """A kit file. Raises FormatError or Faults, each fault with its line."""
    return yaml_text.read(text, Kit, f"kit file {name}")


@lru_cache(maxsize=1)
def _shipped() -> tuple[Kit, ...]:
    """Read once: it takes about a second."""
    entries = sorted(resources.files("nimble_stone.kits").iterdir(), key=lambda entry: entry.name)
    return tuple(
        read_kit(entry.read_text(encoding="utf-8"), entry.name)
        for entry in entries
        if entry.name.endswith(".yaml")
    )


def shipped() -> dict[str, Kit]:
    """The kits that ship. Raises FormatError or Faults for one that is wrong."""
    return {kit.id: kit for kit in _shipped()}


def kits_in(own: Path, base: dict[str, Kit]) -> Kits:
    """The kits that ship and those in a folder, which may replace them. A faulty file does not keep
    the others away.
    """
    kits, faulty = dict(base), []
    for path in _files(own):
        try:
            kit = read_kit(_text(path), path.name)
            kits[kit.id] = kit
        except StoneError as error:
            passing = error.code in NOT_THE_FILES
            faulty.append(FaultyKit(path.name, str(error), passing))
    return Kits(kits, tuple(faulty))


def load_kits(own: Path | None = None) -> dict[str, Kit]:
    """Kit by id: those that ship, then those in the folder `own`. Raises FormatError or Faults for
    a kit that is wrong.
    """
    found = kits_in(own, shipped()) if own is not None else Kits(shipped())
    if found.faulty:
        raise InputError(found.faulty[0].message, code="kit-faulty")
    return found.kits


def _files(folder: Path) -> list[Path]:
    return sorted(folder.glob("*.yaml")) if folder.is_dir() else []


def _text(path: Path) -> str:
    try:
        if path.stat().st_size > MAX_BYTES:
            raise FormatError(f"kit file {path.name} is larger than 1 MiB", code="yaml-too-large")
        return path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise FormatError(
            f"kit file {path.name} is not text in UTF-8", place=f"byte {error.start}"
        ) from error
    except OSError as error:
        raise FormatError(
            f"kit file {path.name} cannot be read: {error.strerror}", code="kit-unreadable"
        ) from error


@dataclass
class KitFolder:
    """The kits of a data folder, read again when a file there came, went or changed."""

    folder: Path
    monotonic: Callable[[], float]
    _base: dict[str, Kit] = field(default_factory=dict)
    _kits: Kits = field(default_factory=lambda: Kits({}))
    _seen: tuple[tuple[str, int, int], ...] | None = None
    _looked: float = float("-inf")
    _looking: Lock = field(default_factory=Lock)

    def look(self) -> Kits:
        """What there is now. Reads files: call it beside the event loop."""
        with self._looking:
            return self._look()

    def _look(self) -> Kits:
        now = self.monotonic()
        if now - self._looked < LOOK_S:
            return self._kits
        self._looked = now
        self._base = self._base or shipped()
        seen = tuple(
            (path.name, path.stat().st_mtime_ns, path.stat().st_size)
            for path in _files(self.folder)
            if path.exists()
        )
        if seen != self._seen or any(one.passing for one in self._kits.faulty):
            self._seen, self._kits = seen, kits_in(self.folder, self._base)
        return self._kits

    def forget(self) -> None:
        """A file was written here: the next look is a new one."""
        self._looked = float("-inf")

    @property
    def is_fresh(self) -> bool:
        """Whether there is nothing to look for yet."""
        return self.monotonic() - self._looked < LOOK_S

    @property
    def last(self) -> Kits:
        """What was there at the last look."""
        return self._kits
