"""The answer of `package inspect --json`: what other programs rely on. Unknown values are None,
never missing.
"""

from __future__ import annotations

from typing import Any

from nimble_stone.core.package import descriptor
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.package.model import Envelope, Hardware, Question, System


def answer(contents: Contents) -> dict[str, Any]:
    """The contents as JSON data, by the documented contract (docs/packages.md)."""
    read = contents.envelope
    return {
        "format": contents.format,
        "integrity": {
            "manifest": contents.integrity.manifest,
            "algorithm": contents.integrity.algorithm or None,
            "signature": contents.integrity.signature,
            "signer": _signer(contents),
        },
        "systems": [_system(system) for system in read.systems] if read else [],
        "networks": (
            [{"name": n.name, "description": n.description or None} for n in read.networks]
            if read
            else []
        ),
        "disks": _disks(contents),
        "sizes": (
            [
                {
                    "id": s.id,
                    "label": s.label or None,
                    "description": s.description or None,
                    "default": s.default,
                    "vcpu": s.vcpu or None,
                    "memory_bytes": s.memory_bytes or None,
                }
                for s in descriptor.sizes(read)
            ]
            if read and read.options
            else []
        ),
        "properties": [_property(q) for q in _questions(read)] if read else [],
        "licences": [{"text": text} for text in read.licences] if read else [],
        "findings": [
            {
                "severity": f.severity,
                "code": f.code,
                "message": f.message,
                "where": f.where or None,
                "clause": f.clause or None,
            }
            for f in contents.findings
        ],
        "iso": (
            {
                "label": contents.iso.label,
                "boots_bios": contents.iso.boots_bios,
                "boots_uefi": contents.iso.boots_uefi,
                "volume_bytes": contents.iso.volume_bytes,
            }
            if contents.iso
            else None
        ),
        "kernel": {"version": contents.kernel or None} if contents.format == "kernel" else None,
    }


def _signer(contents: Contents) -> dict[str, Any] | None:
    signer = contents.integrity.signer
    if signer is None:
        return None
    return {
        "subject": signer.subject,
        "issuer": signer.issuer,
        "not_before": signer.not_before,
        "not_after": signer.not_after,
        "fingerprint": signer.fingerprint,
        "chain": list(signer.chain),
    }


def _questions(read: Envelope) -> list[Question]:
    return [*read.questions, *(q for system in read.systems for q in system.questions)]


def _system(system: System) -> dict[str, Any]:
    product = next(
        (p for p in system.products if p.product), system.products[0] if system.products else None
    )
    standard: Hardware = system.standard
    return {
        "id": system.id or None,
        "name": system.name or None,
        "product": (product.product or None) if product else None,
        "vendor": (product.vendor or None) if product else None,
        "version": (product.version or product.full_version or None) if product else None,
        "vcpu": standard.vcpu.normal,
        "memory_bytes": standard.memory.normal,
        "nics": [
            {"name": nic.name or None, "network": nic.network or None} for nic in standard.nics
        ],
        "disks": list(standard.disks),
    }


def _disks(contents: Contents) -> list[dict[str, Any]]:
    if contents.envelope is None:
        return [
            {
                "id": disk.name,
                "file": disk.name,
                "capacity_bytes": disk.capacity_bytes,
                "populated_bytes": disk.populated_bytes,
            }
            for disk in contents.disks
        ]
    hrefs = {file.id: file.href for file in contents.envelope.files}
    return [
        {
            "id": disk.id,
            "file": hrefs.get(disk.file_id),
            "capacity_bytes": disk.capacity_bytes or None,
            "populated_bytes": disk.populated_bytes,
        }
        for disk in contents.envelope.disks
    ]


def _property(question: Question) -> dict[str, Any]:
    bounded = question.low is None and question.high is None
    return {
        "key": question.key,
        "type": question.type,
        "label": question.label if question.labelled else None,
        "category": question.category or None,
        "default": question.default if question.given else None,
        "user_configurable": question.asked,
        "password": question.secret,
        "min_length": question.minimum if bounded else None,
        "max_length": question.maximum if bounded else None,
        "values": list(question.choices) if question.choices else None,
        "description": question.description or None,
    }
