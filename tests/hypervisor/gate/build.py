"""The appliance's image, and the kit that says how it is spoken to."""

from __future__ import annotations

from pathlib import Path

from tests.hypervisor import cloud_image

TESTS = Path(__file__).parents[2]
SERVICE = """[Unit]
Description=Sluice
After=network-online.target cloud-init.service
Wants=network-online.target
[Service]
ExecStart=/usr/bin/python3 /opt/sluice/serve.py
[Install]
WantedBy=multi-user.target
"""
IMAGE = """
    image:
      sizes: [{id: small, vcpu: 1, memory_mib: 384}]
      disk_gib: 2
      user_data: |
        #cloud-config
        hostname: "@{name}"
        manage_etc_hosts: true
        locale: C.UTF-8"""


def product() -> cloud_image.Product:
    """A Debian server with the appliance in it."""
    files = {
        "opt/sluice/sluice.py": (TESTS / "support/sluice.py").read_text(),
        "opt/sluice/serve.py": (TESTS / "hypervisor/gate/serve.py").read_text(),
        "etc/systemd/system/sluice.service": SERVICE,
    }
    return cloud_image.Product("sluice", ("openssl", "python3"), files, ("sluice.service",))


def kit() -> str:
    """That of the other tests, for the image; nothing is asked by SSH."""
    text = (TESTS / "data/sluice.yaml").read_text()
    start, end = text.index("environment:"), text.index("certificates:")
    text = f"{text[:start]}environment: {{}}\nssh: false\n\n{text[end:]}"
    text = text.replace('{product: Gauge Collector, versions: ["4."]}', "{product: sluice}")
    role = (
        "  - {id: gate, label: gate, short: gat, count: {least: 1, most: 9, usual: 2}, apart: true}"
    )
    assert role in text
    block = (
        "  - id: gate\n    label: gate\n    short: gat\n    count: {least: 1, most: 9, usual: 2}"
    )
    text = text.replace(role, block + IMAGE)
    return text[: text.index("  - {id: reach,")]
