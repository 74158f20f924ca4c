"""The inspection medium of the lab: stand-ins have no processor for a kernel to run on, so it holds
the job alone. `make inspection-image` makes the real one.
"""

from __future__ import annotations

import io
from pathlib import Path

import pycdlib

from nimble_stone.core.inspection import job


def write(path: Path) -> None:
    """Write the image, unless there is one."""
    if path.exists():
        return
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, joliet=3, rock_ridge="1.09", vol_ident="INSPECTION")
    data = job.placeholder()
    iso.add_fp(
        io.BytesIO(data),
        len(data),
        "/JOB.TXT;1",
        rr_name=job.FILE,
        joliet_path=f"/{job.FILE}",
    )
    part = path.with_suffix(".part")
    iso.write(str(part))
    iso.close()
    part.replace(path)
