"""`make fuzz`: seeds of every kind, damaged at random for as long as one likes. Anything but a
value or a FormatError is a bug; so is slowness.

Prints the random seed and the first failing input's path; `python -m tests.fuzz SECONDS SEED`
repeats a run.
"""

from __future__ import annotations

import io
import random
import resource
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path

import pycdlib

from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import envelope, inspect, iso, manifest, signature
from nimble_stone.core.package.contents import examine
from nimble_stone.core.package.given import Given
from nimble_stone.lab.scenario import appliance
from tests.core.test_envelope import RICH

SLOW_S, MUCH = 5.0, 300 << 20


def drained(data: bytes) -> None:
    """Open a disk and read some of it."""
    image = open_image(BytesSource(data))
    for at in range(0, min(len(image.clusters), 512), 64):
        image.read(image.clusters[at : at + 64].tolist())


def seeds(folder: Path) -> dict[str, tuple[bytes, Callable[[bytes], object]]]:
    """name → (a sound input, what reads it)."""
    made: dict[str, tuple[bytes, Callable[[bytes], object]]] = {}
    raw = folder / "d.raw"
    raw.write_bytes(b"boot" * 5000 + bytes(300_000) + b"more" * 5000)
    for name, options in {
        "stream": ["vmdk", "-o", "subformat=streamOptimized"],
        "sparse": ["vmdk"],
        "qcow2": ["qcow2"],
        "packed": ["qcow2", "-c"],
        "old": ["qcow2", "-o", "compat=0.10,cluster_size=512"],
    }.items():
        subprocess.run(
            ["qemu-img", "convert", "-f", "raw", "-O", *options, raw, folder / name], check=True
        )
        made[name] = ((folder / name).read_bytes(), drained)
    made["footer"] = (appliance.vmdk(1 << 20, {0: b"a", 9: b"b"}), drained)
    ova = appliance.ova(mib=1, by=appliance.publisher(), edition=5)
    made["ova"] = (
        ova[:40_000] + ova[-30_000:],
        lambda data: inspect.answer(examine([Given("a.ova", BytesSource(data))])),
    )
    made["descriptor"] = (RICH, envelope.read)
    made["real descriptor"] = (
        appliance.descriptor(1 << 30, 99, edition=5).encode(),
        lambda data: envelope.read(data, "de"),
    )
    made["manifest"] = (
        b"SHA256(a.ovf)= " + b"a" * 64 + b"\nSHA1(b)= " + b"b" * 40 + b"\n",
        manifest.parse,
    )
    by = appliance.publisher()
    made["certificate"] = (
        appliance.sign("a.mf", b"x", by),
        lambda data: signature.check(
            data, b"x", "a.mf", signature.read_certificates(by.authority), time.time()
        ),
    )
    out, image = io.BytesIO(), pycdlib.PyCdlib()
    image.new(vol_ident="HOLM")
    image.write_fp(out)
    made["iso"] = (out.getvalue()[:60_000], lambda data: iso.read(BytesSource(data)))
    return made


def damage(data: bytes, rng: random.Random) -> bytes:
    """Flip, cut, copy, or write a telling number somewhere."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 6)):
        if not out:
            break
        at = rng.randrange(min(len(out), rng.choice((64, 600, 5000, 1 << 30))))
        kind = rng.randrange(5)
        if kind == 0:
            out[at] = rng.randrange(256)
        elif kind == 1:
            del out[at : at + rng.randint(1, 2000)]
        elif kind == 2:
            out[at:at] = out[at : at + rng.randint(1, 2000)]
        elif kind == 3:
            size = rng.choice((1, 2, 4, 8))
            number = rng.choice(
                (
                    0,
                    1,
                    0x7F,
                    0xFF,
                    0x7FFFFFFF,
                    0xFFFFFFFF,
                    (1 << 63) - 1,
                    (1 << 64) - 1,
                    rng.getrandbits(64),
                )
            )
            out[at : at + size] = (number & ((1 << 8 * size) - 1)).to_bytes(
                size, rng.choice(("little", "big"))
            )
        else:
            out = out[:at]
    return bytes(out)


def main(seconds: float, seed: int) -> int:
    """Fuzz; exit code 1 at the first bug."""
    rng, count, end = random.Random(seed), 0, time.monotonic() + seconds
    print(f"fuzzing for {seconds:g} s with seed {seed}")
    with tempfile.TemporaryDirectory() as name:
        corpus = seeds(Path(name))
    for kind, (data, reader) in corpus.items():
        # the seed itself is sound (the shortened OVA is not)
        reader(data) if kind != "ova" else None
    tracemalloc.start()
    while time.monotonic() < end:
        kind = rng.choice(list(corpus))
        data, reader = corpus[kind]
        broken = damage(data, rng)
        began = time.monotonic()
        tracemalloc.reset_peak()
        try:
            reader(broken)
        except FormatError as error:
            assert str(error)
        except BaseException as error:
            path = Path(tempfile.gettempdir()) / f"nimble-stone-fuzz-{kind.replace(' ', '-')}"
            path.write_bytes(broken)
            print(f"BUG in {kind}: {type(error).__name__}: {error}; the input is kept in {path}")
            raise
        count += 1
        peak = tracemalloc.get_traced_memory()[1]
        if time.monotonic() - began > SLOW_S or peak > MUCH:
            print(f"BUG in {kind}: {time.monotonic() - began:.1f} s, {peak >> 20} MiB")
            return 1
    print(
        f"{count} inputs of {len(corpus)} kinds; no bug;"
        f" {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB at most"
    )
    return 0


if __name__ == "__main__":
    sys.exit(
        main(
            float(sys.argv[1]) if len(sys.argv) > 1 else 60,
            int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(1 << 30),
        )
    )
