"""Descriptors for tests: every feature of the standard that is read, as text that can be varied."""

from __future__ import annotations

NS1 = "http://schemas.dmtf.org/ovf/envelope/1"
NS2 = "http://schemas.dmtf.org/ovf/envelope/2"
RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"


def item(
    kind: int,
    ident: int,
    *,
    more: str = "",
    attributes: str = "",
    tag: str = "Item",
    space: str = "rasd",
) -> str:
    return (
        f"<{tag} {attributes}><{space}:ElementName>e{ident}</{space}:ElementName>"
        f"<{space}:InstanceID>{ident}</{space}:InstanceID>"
        f"<{space}:ResourceType>{kind}</{space}:ResourceType>{more}</{tag}>"
    )


def quantity(value: int, unit: str = "", **more: int) -> str:
    rest = "".join(f"<rasd:{name}>{amount}</rasd:{name}>" for name, amount in more.items())
    return (
        f"<rasd:AllocationUnits>{unit}</rasd:AllocationUnits>" if unit else ""
    ) + f"<rasd:VirtualQuantity>{value}</rasd:VirtualQuantity>{rest}"


CPU = item(3, 1, more=quantity(2))
MEMORY = item(4, 2, more=quantity(4096, "byte * 2^20"))


def hardware(*items: str, attributes: str = 'ovf:transport="iso"', before: str = "") -> str:
    return (
        "<VirtualHardwareSection"
        f" {attributes}><Info>Hardware</Info>{before}{''.join(items)}</VirtualHardwareSection>"
    )


def system(ident: str = "vm", *, inside: str = "", parts: str | None = None) -> str:
    return (
        f'<VirtualSystem ovf:id="{ident}"><Info>A system</Info><Name>{ident}</Name>{inside}'
        f"{parts if parts is not None else hardware(CPU, MEMORY)}</VirtualSystem>"
    )


def envelope(*content: str, references: str = "", space: str = NS1, lang: str = "") -> bytes:
    language = f' xml:lang="{lang}"' if lang else ""
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>\n<Envelope xmlns="{space}" xmlns:ovf="{space}"'
        f' xmlns:rasd="{RASD}"'
        f"{language}>\n<References>{references}</References>\n"
        + "\n".join(content)
        + "\n</Envelope>\n"
    ).encode()
