"""The installer ISO of the demonstration: Keelson, a plain hypervisor host. Stand-ins have no
processor for a kernel to run on, so it holds a boot sector that says so, and content to be fetched.
"""

from __future__ import annotations

import io
import json
import random

import pycdlib

ID, TITLE, VERSION = "keelson", "KEELSON", "2.1.0"
PRODUCT_FILE, ANSWERS_FILE = "/keelson.json", "/keelson.yaml"
SECTOR = 2048


def iso(*, mib: int = 4) -> bytes:
    """The ISO, with about `mib` MiB of content."""
    made = pycdlib.PyCdlib()
    made.new(
        interchange_level=3,
        joliet=3,
        rock_ridge="1.09",
        vol_ident=f"{TITLE}_{VERSION.replace('.', '_')}",
    )
    product = json.dumps({"product": "Keelson", "version": VERSION}).encode()
    content = random.Random(ID).randbytes(mib << 20)
    for name, plain, data in (
        (PRODUCT_FILE, "/PRODUCT.TXT;1", product),
        ("/system.img", "/SYSTEM.IMG;1", content),
        ("/boot.bin", "/BOOT.BIN;1", b"\xf4" + bytes(SECTOR - 1)),
        ("/efi.img", "/EFI.IMG;1", bytes(SECTOR)),
    ):
        made.add_fp(io.BytesIO(data), len(data), plain, rr_name=name.lstrip("/"), joliet_path=name)
    made.add_eltorito("/BOOT.BIN;1", bootcatfile="/BOOT.CAT;1")
    made.add_eltorito("/EFI.IMG;1", efi=True)
    out = io.BytesIO()
    made.write_fp(out)
    made.close()
    return out.getvalue()
