"""Installer media as machines and foreign tools see them: what GNU tools made is changed here, read
by xorriso, and booted by both kinds of firmware.
"""

from __future__ import annotations

import hashlib
import shutil
import subprocess
from pathlib import Path

import pytest

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package.contents import Contents, Member
from nimble_stone.packages import installers

MENU = "/boot/grub/grub.cfg"
PATHS = ["/answers/one.yaml", MENU, "/deep/er/two.xml"]
TEXTS = {
    MENU: "serial\nterminal_output serial\necho I-AM-NEW\nsleep 1\nhalt\n",
    "/answers/one.yaml": 'one: "mud & flats"\n',
    "/deep/er/two.xml": "<two/>\n",
}
FIRMWARE = Path("/usr/share/OVMF/OVMF_CODE_4M.fd")


def run(*words: str | Path, **more: object) -> str:
    done = subprocess.run(
        [str(word) for word in words], check=True, capture_output=True, text=True, **more
    )  # type: ignore[call-overload]
    return str(done.stdout)


def stored(folder: Path, iso: Path) -> Contents:
    digest = hashlib.sha256(iso.read_bytes()).hexdigest()
    (folder / "blobs").mkdir(exist_ok=True)
    shutil.copy(iso, folder / "blobs" / digest)
    size = iso.stat().st_size
    return Contents(digest, size, (Member(iso.name, size, 0, digest, False, digest),), "iso")


@pytest.fixture(scope="module")
def tree(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("tree")
    (folder / "boot/grub").mkdir(parents=True)
    (folder / "deep/er").mkdir(parents=True)
    (folder / "boot/grub/grub.cfg").write_text("echo I-AM-OLD\n")
    (folder / "deep/er/Payload with a long name.bin").write_bytes(bytes(range(256)) * 4000)
    return folder


@pytest.fixture(scope="module")
def medium(tree: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What a machine would fetch of an ISO by grub-mkrescue."""
    folder = tmp_path_factory.mktemp("medium")
    iso = folder / "rescue.iso"
    run("grub-mkrescue", "-o", iso, tree)
    contents, told = stored(folder, iso), []
    made = installers.make(folder, contents, PATHS, lambda done, total: told.append((done, total)))
    assert told
    # another time it is there already
    assert installers.make(folder, contents, PATHS, lambda *_: told.clear()) == made
    assert told
    data = bytearray(made.path.read_bytes())
    for path, text in TEXTS.items():
        data[made.rooms[path] : made.rooms[path] + installers.ROOM] = installers.in_room(text)
    out = folder / "fetched.iso"
    out.write_bytes(data)
    return out


def test_xorriso_reads_the_answers_and_everything_else(
    medium: Path, tree: Path, tmp_path: Path
) -> None:
    run("xorriso", "-indev", medium, "-osirrox", "on", "-extract", "/", tmp_path / "all")
    for path, text in TEXTS.items():
        assert (tmp_path / f"all{path}").read_text().rstrip("\n") + "\n" == text
    payload = "deep/er/Payload with a long name.bin"
    assert (tmp_path / "all" / payload).read_bytes() == (tree / payload).read_bytes()


@pytest.mark.parametrize("firmware", ["bios", "uefi"])
def test_it_boots(medium: Path, tmp_path: Path, firmware: str) -> None:
    """The boot menu of the ISO was replaced by the kit's."""
    line = ["qemu-system-x86_64", "-accel", "tcg", "-m", "256", "-display", "none", "-net", "none"]
    if firmware == "uefi":
        own = tmp_path / "vars.fd"
        shutil.copy("/usr/share/OVMF/OVMF_VARS_4M.fd", own)
        for unit, (file, only) in enumerate(((FIRMWARE, ",readonly=on"), (own, ""))):
            line += ["-drive", f"if=pflash,format=raw,unit={unit},file={file}{only}"]
    log = tmp_path / "serial.log"
    line += ["-serial", f"file:{log}", "-cdrom", str(medium), "-no-reboot"]
    process = subprocess.Popen(line)
    try:
        process.wait(120)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    text = log.read_text(errors="replace")
    assert "I-AM-NEW" in text
    assert "I-AM-OLD" not in text


def test_an_iso_without_long_names_takes_short_ones(tree: Path, tmp_path: Path) -> None:
    iso = tmp_path / "plain.iso"
    run("xorriso", "-as", "mkisofs", "-o", iso, "-V", "PLAIN", "--norock", tree / "boot")
    made = installers.make(tmp_path, stored(tmp_path, iso), ["/ks.cfg"], lambda *_: None)
    listed = run("xorriso", "-indev", made.path, "-find", "/", "-type", "f")
    assert "ks.cfg" in listed.lower()


def test_what_is_no_iso_is_refused_by_name(tmp_path: Path) -> None:
    file = tmp_path / "no.iso"
    file.write_bytes(bytes(64 << 10))
    with pytest.raises(FormatError, match="cannot be changed"):
        installers.make(tmp_path, stored(tmp_path, file), ["/a"], lambda *_: None)


def test_a_small_medium_for_the_second_drive_is_read_by_its_label(tmp_path: Path) -> None:
    file = tmp_path / "answers.iso"
    file.write_bytes(installers.labelled({"/deep/a.yaml": "a: 1\n", "/b.xml": "<b/>"}, "ANSWERS"))
    run("xorriso", "-indev", file, "-osirrox", "on", "-extract", "/", tmp_path / "all")
    assert (tmp_path / "all/deep/a.yaml").read_text() == "a: 1\n"
    assert (tmp_path / "all/b.xml").read_text() == "<b/>"
    assert 'LABEL="ANSWERS"' in run("blkid", "-p", "-o", "full", file).replace("_ENC", "")
