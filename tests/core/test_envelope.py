"""Descriptors: all that the standard offers and a rollout can use is read; what deviates is said
with place and clause.
"""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import envelope, properties, units
from nimble_stone.core.package.model import Envelope, Noticed, Question
from nimble_stone.core.units import GIB, MIB
from tests.core import ovf
from tests.core.ovf import CPU, MEMORY, NS2, hardware, item, quantity, system

OPTIONS = (
    "<DeploymentOptionSection><Info/><Configuration"
    ' ovf:id="s"><Label>S</Label><Description>few</Description></Configuration>'
    '<Configuration ovf:id="l" ovf:default="true"><Label>L</Label><Description>many</Description>'
    "</Configuration></DeploymentOptionSection>"
)


def read(
    data: bytes, lang: str = "", texts: dict[str, bytes] | None = None
) -> tuple[Envelope, dict[str, Noticed]]:
    found, noticed = envelope.read(data, lang, texts)
    return found, {n.code: n for n in reversed(noticed)}


def worst(noticed: dict[str, Noticed]) -> set[str]:
    return {code for code, n in noticed.items() if n.severity == "blocker"}


@pytest.mark.parametrize("space", [ovf.NS1, NS2])
def test_both_versions_of_the_standard_are_read_without_a_complaint(space: str) -> None:
    found, noticed = read(ovf.envelope(system(), space=space))
    assert noticed == {}
    assert found.version == space[-1]
    assert (found.systems[0].standard.vcpu.normal, found.systems[0].standard.memory.normal) == (
        2,
        4 * GIB,
    )


def test_items_of_version_two_with_their_own_elements() -> None:
    parts = hardware(
        CPU,
        MEMORY,
        '<StorageItem xmlns:sasd="urn:s"><sasd:InstanceID>5</sasd:InstanceID>'
        "<sasd:ResourceType>17</sasd:ResourceType>"
        "<sasd:HostResource>ovf:/disk/d</sasd:HostResource></StorageItem>",
        '<EthernetPortItem xmlns:epasd="urn:e"><epasd:Connection>Yard</epasd:Connection>'
        "<epasd:InstanceID>6</epasd:InstanceID><epasd:ResourceType>10</epasd:ResourceType>"
        "<epasd:ResourceSubType>E1000</epasd:ResourceSubType></EthernetPortItem>",
    )
    found, noticed = read(
        ovf.envelope(
            '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="3"'
            ' ovf:capacityAllocationUnits="byte * 2^30" ovf:format="f"/></DiskSection>',
            '<NetworkSection><Info/><Network ovf:name="Yard"><Description>Out'
            " there</Description></Network></NetworkSection>",
            system(parts=parts),
            space=NS2,
        )
    )
    assert not worst(noticed)
    standard = found.systems[0].standard
    assert standard.disks == ("d",)
    assert [(nic.network, nic.kind) for nic in standard.nics] == [("Yard", "E1000")]
    assert found.disks[0].capacity_bytes == 3 * GIB


def test_items_of_an_option_win_and_the_first_option_is_the_default_unless_one_says_so() -> None:
    parts = hardware(
        CPU,
        MEMORY,
        item(3, 1, more=quantity(8), attributes='ovf:configuration="l"'),
        item(4, 2, more=quantity(32, "GigaBytes"), attributes='ovf:configuration="l"'),
        item(10, 9, attributes='ovf:configuration="s"'),
    )
    found, _ = read(ovf.envelope(OPTIONS, system(parts=parts)))
    by = {h.option: h for h in found.systems[0].hardware}
    assert found.systems[0].standard.option == "l"
    assert {name: (h.vcpu.normal, h.memory.normal, len(h.nics)) for name, h in by.items()} == {
        "l": (8, 32 * GIB, 0),
        "s": (2, 4 * GIB, 1),
    }
    plain, _ = read(ovf.envelope(OPTIONS.replace(' ovf:default="true"', ""), system(parts=parts)))
    assert [option.default for option in plain.options] == [True, False]


def test_ranges_reservations_and_cores_per_socket() -> None:
    parts = hardware(
        item(
            3,
            1,
            more=quantity(8, Reservation=1000, Limit=4000)
            + '<v:CoresPerSocket xmlns:v="urn:v">4</v:CoresPerSocket>',
        ),
        item(3, 1, more=quantity(4), attributes='ovf:bound="min"'),
        item(3, 1, more=quantity(16), attributes='ovf:bound="max"'),
        item(4, 2, more=quantity(8, "byte * 2^30", Reservation=2)),
    )
    found, noticed = read(ovf.envelope(system(parts=parts)))
    own = found.systems[0].standard
    assert (
        own.vcpu.least,
        own.vcpu.normal,
        own.vcpu.most,
        own.vcpu.reserved,
        own.vcpu.limit,
        own.cores_per_socket,
    ) == (4, 8, 16, 1000, 4000, 4)
    assert (own.memory.normal, own.memory.reserved) == (8 * GIB, 2 * GIB)
    assert not noticed
    _, noticed = read(
        ovf.envelope(
            system(
                parts=hardware(
                    CPU, MEMORY, item(3, 1, more=quantity(4), attributes='ovf:bound="min"')
                )
            )
        )
    )
    assert noticed["ovf-range"].severity == "caution"


def test_controllers_drives_and_what_hangs_where() -> None:
    parts = hardware(
        CPU,
        MEMORY,
        item(6, 3, more="<rasd:ResourceSubType>lsilogic</rasd:ResourceSubType>"),
        item(5, 4),
        item(20, 5, more="<rasd:ResourceSubType>AHCI</rasd:ResourceSubType>"),
        item(
            17,
            6,
            more="<rasd:AddressOnParent>1</rasd:AddressOnParent>"
            "<rasd:HostResource>ovf:/disk/d</rasd:HostResource><rasd:Parent>3</rasd:Parent>",
        ),
        item(
            15,
            7,
            more="<rasd:HostResource>ovf:/file/f</rasd:HostResource><rasd:Parent>4</rasd:Parent>",
        ),
        item(14, 8),
        item(35, 9),
        item(77, 10),
        item(
            17,
            11,
            more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource><rasd:Parent>99</rasd:Parent>",
        ),
    )
    found, noticed = read(
        ovf.envelope(
            '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="9"'
            ' ovf:format="f"/></DiskSection>',
            system(parts=parts),
            references='<File ovf:id="f" ovf:href="tools.iso"/>',
        )
    )
    own = found.systems[0].standard
    assert [(c.kind, c.model) for c in own.controllers] == [
        ("scsi", "lsilogic"),
        ("ide", ""),
        ("sata", "AHCI"),
    ]
    assert [(d.kind, d.content, d.ref, d.controller, d.slot) for d in own.drives] == [
        ("disk", "disk", "d", "3", 1),
        ("cdrom", "file", "f", "4", None),
        ("floppy", "", "", "", None),
        ("disk", "disk", "d", "99", None),
    ]
    assert noticed["ovf-parent"].where.startswith("line ")
    assert "column" in noticed["ovf-parent"].where
    assert noticed["ovf-device"].severity == "note"
    assert "sound card" in own.others[0]


def test_a_collection_with_its_order_of_starting_licences_and_shared_questions() -> None:
    startup = (
        '<StartupSection><Info/><Item ovf:id="b" ovf:order="2" ovf:startDelay="30"/><Item'
        ' ovf:id="a" ovf:order="1" ovf:waitingForGuest="true"/><Item ovf:id="nobody"'
        ' ovf:order="3"/></StartupSection>'
    )
    shared = (
        '<ProductSection ovf:class="site"><Info/><Product>Set</Product><Property ovf:key="zone"'
        ' ovf:type="string"'
        ' ovf:userConfigurable="true"/></ProductSection><EulaSection><Info/><License>All of'
        " it</License></EulaSection>"
    )
    inner = (
        f'<VirtualSystemCollection ovf:id="inner"><Info/>{system("c")}</VirtualSystemCollection>'
    )
    found, noticed = read(
        ovf.envelope(
            "<VirtualSystemCollection"
            f' ovf:id="set"><Info/><Name>Set</Name>{shared}{startup}'
            f"{system('a')}{system('b')}{inner}</VirtualSystemCollection>"
        )
    )
    assert [s.id for s in found.systems] == ["c", "a", "b"]
    assert found.collection is not None
    assert [(s.member, s.delay_s, s.waits_for_guest) for s in found.collection.startup][:2] == [
        ("a", 0, True),
        ("b", 30, False),
    ]
    assert found.collection.collections[0].systems == ("c",)
    assert found.licences == ("All of it",)
    assert [q.key for q in found.questions] == ["site.zone"]
    assert noticed["ovf-startup"].severity == "caution"
    assert not worst(noticed)


def test_properties_of_every_kind_with_classes_instances_categories_and_defaults_per_option() -> (
    None
):
    section = (
        '<ProductSection ovf:class="net" ovf:instance="eth0"><Info/><Product>P</Product>'
        "<Vendor>V</Vendor><Version>1.2</Version><FullVersion>1.2-9</FullVersion>"
        "<Category>Network</Category>"
        '<Property ovf:key="mtu" ovf:type="uint16" ovf:userConfigurable="true" ovf:value="1500"'
        ' ovf:qualifiers="MinValue(576) MaxValue(9000)"><Label>MTU</Label>'
        '<Value ovf:value="9000" ovf:configuration="l"/><Value ovf:value="1"'
        ' ovf:configuration="nope"/></Property>'
        "<Category>Login</Category>"
        '<Property ovf:key="pw" ovf:type="string" ovf:userConfigurable="true" ovf:password="true"'
        ' ovf:value="admin" ovf:qualifiers="MinLen(8),MaxLen(20)"/>'
        '<Property ovf:key="mode" ovf:type="string" ovf:value="x"'
        """ ovf:qualifiers='ValueMap{"a)","b"}'/>"""
        '<Property ovf:key="addr" ovf:type="ip"/><Property ovf:type="string"/></ProductSection>'
        '<ProductSection ovf:class="net"><Info/><Property ovf:key="on" ovf:type="boolean"'
        ' ovf:value="maybe"/></ProductSection>'
    )
    found, noticed = read(ovf.envelope(OPTIONS, system(inside=section)))
    by = {q.key: q for q in found.systems[0].questions}
    assert list(by) == ["net.mtu.eth0", "net.pw.eth0", "net.mode.eth0", "net.addr.eth0", "net.on"]
    mtu, pw = by["net.mtu.eth0"], by["net.pw.eth0"]
    assert (mtu.type, mtu.low, mtu.high, mtu.default, mtu.per_option, mtu.category) == (
        "uint16",
        576,
        9000,
        "1500",
        (("l", "9000"),),
        "Network",
    )
    assert (pw.secret, pw.minimum, pw.maximum, pw.category) == (True, 8, 20, "Login")
    assert by["net.mode.eth0"].choices == ("a)", "b")
    assert by["net.addr.eth0"].type == "string"
    assert {
        "ovf-password-default",
        "ovf-default",
        "ovf-property-type",
        "ovf-option",
        "ovf-property",
    } <= set(noticed)
    assert noticed["ovf-property"].clause == "DSP0243 9.5"


def test_texts_in_the_wished_language_its_family_or_the_packages_own() -> None:
    strings = (
        '<Strings xml:lang="de-DE"><Msg ovf:msgid="lic">Lizenz</Msg><Msg'
        ' ovf:msgid="n">Hof</Msg></Strings><Strings xml:lang="fr" ovf:fileRef="fr"/>'
    )
    data = ovf.envelope(
        '<NetworkSection><Info/><Network ovf:name="N"><Description'
        ' ovf:msgid="n">Yard</Description></Network></NetworkSection>',
        system(
            inside='<EulaSection><Info/><License ovf:msgid="lic">Licence</License></EulaSection>'
        ),
        strings,
        references='<File ovf:id="fr" ovf:href="fr.xml"/>',
        lang="en",
    )
    french = {
        "fr.xml": (
            f'<Strings xmlns:ovf="{ovf.NS1}" xml:lang="fr"><Msg ovf:msgid="lic">La'
            " licence</Msg></Strings>".encode()
        )
    }
    assert envelope.text_files(data) == {"fr.xml"}
    for request, licence, network in (
        ("", "Licence", "Yard"),
        ("de", "Lizenz", "Hof"),
        ("de-AT", "Lizenz", "Hof"),
        ("fr", "La licence", "Yard"),
        ("zz", "Licence", "Yard"),
    ):
        found, noticed = read(data, request, french)
        assert (found.licences[0], found.networks[0].description) == (licence, network), request
        assert not worst(noticed)
    assert read(data, "de", {})[1]["ovf-strings"].severity == "caution"
    only_id = data.replace(b">Licence<", b"><")
    # better another language than none
    assert read(only_id, "", french)[0].licences == ("Lizenz",)


def test_disks_by_unit_by_property_empty_shared_and_built_on_another() -> None:
    disks = (
        '<DiskSection><Info/><Disk ovf:diskId="a" ovf:fileRef="f" ovf:capacity="2048"'
        ' ovf:capacityAllocationUnits="MegaBytes" ovf:populatedSize="77" ovf:format="x"/><Disk'
        ' ovf:diskId="b" ovf:capacity="${data.size}" ovf:capacityAllocationUnits="byte * 2^30"'
        ' ovf:format="x"/><Disk ovf:diskId="c" ovf:capacity="1" ovf:parentRef="a"'
        ' ovf:format="x"/><Disk ovf:diskId="d" ovf:capacity="1" ovf:parentRef="e"'
        ' ovf:format="x"/><Disk ovf:diskId="e" ovf:capacity="1" ovf:parentRef="d"'
        ' ovf:format="x"/></DiskSection>'
    )
    asked = (
        '<ProductSection ovf:class="data"><Info/><Property ovf:key="size" ovf:type="uint32"'
        ' ovf:value="12" ovf:userConfigurable="true"/></ProductSection>'
    )
    found, noticed = read(
        ovf.envelope(
            disks,
            system(inside=asked),
            references=(
                '<File ovf:id="f" ovf:href="a.vmdk" ovf:size="9" ovf:compression="gzip"'
                ' ovf:chunkSize="4"/>'
            ),
        )
    )
    by = {d.id: d for d in found.disks}
    assert (
        by["a"].capacity_bytes,
        by["a"].populated_bytes,
        by["b"].capacity_bytes,
        by["b"].capacity_key,
        by["c"].parent,
    ) == (2 * GIB, 77, 12 * GIB, "data.size", "a")
    assert (found.files[0].packed, found.files[0].chunk_bytes) == ("gzip", 4)
    assert worst(noticed) == {"ovf-disk-parent"}


@pytest.mark.parametrize(
    ("content", "code", "severity"),
    [
        (system(parts=""), "ovf-missing", "blocker"),
        (system(parts=hardware(CPU)), "ovf-hardware", "blocker"),
        (system(parts=hardware(CPU, item(4, 2, more=quantity(4096)))), "ovf-unit", "caution"),
        (
            system(parts=hardware(CPU, item(4, 2, more=quantity(1 << 50, "byte * 2^30")))),
            "ovf-hardware",
            "blocker",
        ),
        (
            system(
                parts=hardware(
                    CPU, MEMORY, item(10, 3, more="<rasd:Connection>Nowhere</rasd:Connection>")
                )
            ),
            "ovf-connection",
            "caution",
        ),
        (system(parts=hardware(CPU, MEMORY, CPU)), "ovf-item", "caution"),
        (
            system(
                parts=hardware(
                    CPU,
                    MEMORY,
                    before=(
                        "<System><v:VirtualSystemType"
                        " xmlns:v='urn:v'>abacus-9</v:VirtualSystemType></System>"
                    ),
                )
            ),
            "ovf-family",
            "note",
        ),
        (system() + system("two"), "ovf-systems", "blocker"),
        ("", "ovf-systems", "blocker"),
        ("<EncryptionSection><Info/></EncryptionSection>" + system(), "ovf-encrypted", "blocker"),
        (
            '<PlacementGroupSection ovf:required="false"><Info/></PlacementGroupSection>'
            + system(),
            "ovf-section-unused",
            "note",
        ),
        (system(inside="<Odd xmlns='urn:odd'/>"), "ovf-section", "note"),
        (system(inside="<OddSection xmlns='urn:odd'/>"), "ovf-section", "blocker"),
        (system(inside="<EulaSection><Info/></EulaSection>"), "ovf-licence", "caution"),
    ],
)
def test_deviations_are_noticed_with_their_weight(content: str, code: str, severity: str) -> None:
    noticed = read(ovf.envelope(content))[1]
    assert noticed[code].severity == severity
    assert not noticed[code].clause or noticed[code].clause.startswith("DSP0243 ")


def test_an_unknown_namespace_is_read_with_a_word_and_something_else_is_no_envelope() -> None:
    assert (
        read(ovf.envelope(system(), space="http://disk.holm.example/our/own/envelope"))[1][
            "ovf-namespace"
        ].severity
        == "caution"
    )
    with pytest.raises(FormatError, match="not an OVF envelope"):
        envelope.read(b"<letter><Envelope/></letter>")


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("byte * 2^20", MIB),
        ("byte*2^30", GIB),
        ("byte * 1024", 1024),
        ("MegaBytes", MIB),
        ("GB", GIB),
        ("byte * 10^6", 10**6),
        ("kilobyte", 1000),
        ("byte", 1),
        ("hertz * 10^6", None),
        ("byte * 2^999", None),
        ("byte * 9999999999999^9", None),
        ("", None),
    ],
)
def test_units(text: str, size: int | None) -> None:
    assert units.bytes_per(text) == size


def question(kind: str = "string", **more: object) -> Question:
    return Question("k", "K", "", "", kind, "", False, True, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("asked", "text", "fits"),
    [
        (question("uint8"), "255", True),
        (question("uint8"), "256", False),
        (question("sint8"), "-128", True),
        (question("uint8"), "-1", False),
        (question("uint16", low=5, high=9, minimum=5, maximum=9), "4", False),
        (question("boolean"), "True", True),
        (question("boolean"), "yes", False),
        (question("real32"), "1.5e3", True),
        (question("real64"), "1,5", False),
        (question(minimum=2, maximum=3), "abcd", False),
        (question(minimum=2), "a", False),
        (question(choices=("a", "b")), "c", False),
        (question(choices=("a", "b")), "a", True),
    ],
)
def test_values_are_held_against_type_and_qualifiers(
    asked: Question, text: str, fits: bool
) -> None:
    assert (properties.misfit(asked, text) == "") is fits


RICH = ovf.envelope(
    OPTIONS,
    '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="9" ovf:format="f"/></DiskSection>',
    system(
        inside=(
            '<ProductSection ovf:class="c"><Info/><Property ovf:key="k" ovf:type="uint8"'
            ' ovf:qualifiers="MinLen(1)"/></ProductSection>'
        ),
        parts=hardware(
            CPU,
            MEMORY,
            item(10, 3),
            item(17, 4, more="<rasd:HostResource>ovf:/disk/d</rasd:HostResource>"),
        ),
    ),
)


@settings(max_examples=300, deadline=None)
@given(st.data())
def test_any_damage_gives_findings_or_a_format_error_and_nothing_else(data: st.DataObject) -> None:
    damaged = bytearray(RICH)
    for _ in range(data.draw(st.integers(min_value=1, max_value=4))):
        at = data.draw(st.integers(min_value=0, max_value=len(damaged) - 1))
        what = data.draw(st.sampled_from(["flip", "cut", "copy"]))
        if what == "flip":
            damaged[at] = data.draw(st.integers(min_value=0, max_value=255))
        elif what == "cut":
            del damaged[at : at + data.draw(st.integers(min_value=1, max_value=60))]
        else:
            damaged[at:at] = damaged[at : at + data.draw(st.integers(min_value=1, max_value=200))]
        if not damaged:
            return
    try:
        envelope.read(bytes(damaged))
    except FormatError as error:
        assert str(error)


@given(st.text(max_size=80))
def test_any_qualifier_text_is_survived(text: str) -> None:
    clean = "".join(c for c in text if c.isprintable() and c not in "<>&\"'")
    data = ovf.envelope(
        system(
            inside=(
                '<ProductSection><Info/><Property ovf:key="k" ovf:type="string"'
                f' ovf:qualifiers="{clean}"/></ProductSection>'
            )
        )
    )
    assert envelope.read(data)[0].systems[0].questions[0].key == "k"


def test_a_size_asked_for_by_a_property_takes_that_very_property() -> None:
    """DSP0243 9.1: the full key first; the short form only where one property alone has it."""
    products = (
        '<ProductSection ovf:class="other"><Info/><Property ovf:key="size" ovf:type="uint32"'
        ' ovf:value="7"/></ProductSection><ProductSection><Info/><Property ovf:key="size"'
        ' ovf:type="uint32" ovf:value="3"/></ProductSection>'
    )
    disk = (
        '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="${size}"'
        ' ovf:capacityAllocationUnits="byte * 2^30"/></DiskSection>'
    )
    found, _ = read(ovf.envelope(disk, system(inside=products)))
    assert found.disks[0].capacity_bytes == 3 * GIB
    found, noticed = read(
        ovf.envelope(
            disk.replace("${size}", "${size}"),
            system(inside=products.replace("<ProductSection><", '<ProductSection ovf:class="b"><')),
        )
    )
    assert found.disks[0].capacity_bytes == 0, "two properties of that name: none is taken"
    assert "ovf-disk-capacity" in noticed


def test_references_are_relative_references() -> None:
    found, noticed = read(
        ovf.envelope(system(), references='<File ovf:id="f" ovf:href="./disk%20one.vmdk"/>')
    )
    assert (found.files[0].href, worst(noticed)) == ("disk one.vmdk", set())
    for evil in ("..%2Fetc%2Fshadow", "./../x", "a%5Cb", "%00"):
        assert "ovf-file" in worst(
            read(ovf.envelope(system(), references=f'<File ovf:id="f" ovf:href="{evil}"/>'))[1]
        )


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("byte * 1024 * 1024", MIB),
        ("byte*2^10*2^10", MIB),
        ("kibibyte * 1024", MIB),
        ("byte * 2^60 * 2^60", None),
        ("byte * ", None),
    ],
)
def test_units_may_have_several_factors(text: str, size: int | None) -> None:
    assert units.bytes_per(text) == size


def test_forms_of_types_and_qualifiers_that_are_seen_in_the_field() -> None:
    def ask(more: str) -> Question:
        section = (
            '<ProductSection><Info/><Property ovf:key="k" ovf:userConfigurable="true"'
            f" {more}/></ProductSection>"
        )
        return read(ovf.envelope(system(inside=section)))[0].systems[0].questions[0]

    assert ask('ovf:type=\'string["a","b c"]\'').choices == ("a", "b c")
    assert (ask('ovf:type="int(1..100)"').low, ask('ovf:type="int(1..100)"').high) == (1, 100)
    assert (ask('ovf:type="string(2..8)"').minimum, ask('ovf:type="String"').type) == (2, "string")
    assert ask(
        """ovf:type="string" ovf:qualifiers='Values{"One","Two"} ValueMap{"1","2"}'"""
    ).choices == ("1", "2")
    assert ask("""ovf:type="string" ovf:qualifiers='ValueMap{"say \\"hi\\"","b}"}'""").choices == (
        'say "hi"',
        "b}",
    )


def test_places_that_cannot_be_are_told() -> None:
    twice = [
        item(
            17,
            number,
            more="<rasd:Parent>9</rasd:Parent><rasd:AddressOnParent>0</rasd:AddressOnParent>",
        )
        for number in (7, 8)
    ]
    ring = [
        item(6, 9, more="<rasd:Parent>10</rasd:Parent>"),
        item(6, 10, more="<rasd:Parent>9</rasd:Parent>"),
    ]
    noticed = read(ovf.envelope(system(parts=hardware(CPU, MEMORY, *twice, *ring))))[1]
    assert {"ovf-address", "ovf-parent"} <= set(noticed)
    disk = (
        '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="1000"'
        ' ovf:populatedSize="2000"/></DiskSection>'
    )
    assert "ovf-disk-populated" in read(ovf.envelope(disk, system()))[1]


def test_an_empty_disk_needs_no_format() -> None:
    disk = '<DiskSection><Info/><Disk ovf:diskId="d" ovf:capacity="1000"/></DiskSection>'
    assert "ovf-disk-format" not in read(ovf.envelope(disk, system()))[1]


def test_a_device_nobody_knows_stops_a_rollout_only_where_the_package_insists() -> None:
    for attributes, weight in (
        ('ovf:required="true"', {"ovf-device-required"}),
        ('ovf:required="false"', set()),
        ("", set()),
    ):
        odd = item(77, 9, attributes=attributes)
        assert worst(read(ovf.envelope(system(parts=hardware(CPU, MEMORY, odd))))[1]) == weight


def test_references_may_lead_into_folders_but_not_out_of_the_package() -> None:
    """RFC 3986, 4.2 and 5.2.4, as DSP0243 7.1 has it."""
    references = (
        '<File ovf:id="f" ovf:href="disks/d%20one.vmdk"/><File ovf:id="g"'
        ' ovf:href="./disks/./two.vmdk"/><File ovf:id="h" ovf:href="disks/../three.vmdk"/>'
    )
    found, noticed = read(ovf.envelope(system(), references=references))
    assert ([file.href for file in found.files], worst(noticed)) == (
        ["disks/d one.vmdk", "disks/two.vmdk", "three.vmdk"],
        set(),
    )
    for bad in (
        "../x.vmdk",
        "a/../../x.vmdk",
        "/etc/passwd",
        "disks/",
        "a//b",
        "a\\b",
        "..",
        "%2e%2e/x",
        "a%00b",
    ):
        assert worst(
            read(ovf.envelope(system(), references=f'<File ovf:id="f" ovf:href="{bad}"/>'))[1]
        ) == {"ovf-file"}, bad


def test_memory_without_a_unit_is_read_as_mib_and_said_so() -> None:
    found, noticed = read(
        ovf.envelope(system(parts=hardware(CPU, item(4, 2, more=quantity(4096)))))
    )
    assert found.systems[0].standard.memory.normal == 4096 * MIB
    assert (noticed["ovf-unit"].severity, noticed["ovf-unit"].clause) == ("caution", "DSP0243 8.3")


def test_a_count_is_a_count_of_allocation_units() -> None:
    """CIM's VirtualQuantityUnits is “count” where nothing is said: of the units in
    AllocationUnits.
    """
    for word in ("count", " Count "):
        memory = item(
            4,
            2,
            more=quantity(8, "byte * 2^30", Reservation=2)
            + f"<rasd:VirtualQuantityUnits>{word}</rasd:VirtualQuantityUnits>",
        )
        processor = item(
            3,
            1,
            more=quantity(2, "hertz * 10^6", Reservation=500)
            + f"<rasd:VirtualQuantityUnits>{word}</rasd:VirtualQuantityUnits>",
        )
        found, noticed = read(ovf.envelope(system(parts=hardware(processor, memory))))
        own = found.systems[0].standard
        assert (own.vcpu.normal, own.vcpu.reserved, own.memory.normal, own.memory.reserved) == (
            2,
            500,
            8 * GIB,
            2 * GIB,
        )
        assert noticed == {}


def test_a_reservation_is_in_allocation_units_even_where_the_quantity_has_its_own() -> None:
    memory = item(
        4,
        2,
        more=quantity(4, "byte * 2^20", Reservation=512)
        + "<rasd:VirtualQuantityUnits>byte * 2^30</rasd:VirtualQuantityUnits>",
    )
    own = read(ovf.envelope(system(parts=hardware(CPU, memory))))[0].systems[0].standard
    assert (own.memory.normal, own.memory.reserved) == (4 * GIB, 512 * MIB)


def test_two_disks_may_be_made_from_one_file() -> None:
    """DSP0243 9.1 gives each disk an id of its own and does not ask for a file of its own."""
    disks = "".join(
        f'<Disk ovf:diskId="{d}" ovf:fileRef="f" ovf:capacity="1" ovf:capacityAllocationUnits="byte'
        ' * 2^30" ovf:format="x"/>'
        for d in "ab"
    )
    parts = hardware(
        CPU,
        MEMORY,
        item(6, 3),
        *(
            item(
                17,
                n,
                more=(
                    f"<rasd:HostResource>ovf:/disk/{d}</rasd:HostResource>"
                    "<rasd:Parent>3</rasd:Parent>"
                    f"<rasd:AddressOnParent>{n}</rasd:AddressOnParent>"
                ),
            )
            for n, d in ((4, "a"), (5, "b"))
        ),
    )
    found, noticed = read(
        ovf.envelope(
            f"<DiskSection><Info/>{disks}</DiskSection>",
            system(parts=parts),
            references='<File ovf:id="f" ovf:href="d.vmdk"/>',
        )
    )
    assert ([disk.file_id for disk in found.disks], found.systems[0].standard.disks) == (
        ["f", "f"],
        ("a", "b"),
    )
    assert noticed == {}


def test_a_product_section_of_another_namespace_is_no_product_section() -> None:
    foreign = (
        '<x:ProductSection xmlns:x="urn:quay" {}><Info/><Property ovf:key="k"'
        ' ovf:type="string"/></x:ProductSection>'
    )
    found, noticed = read(ovf.envelope(system(inside=foreign.format('ovf:required="false"'))))
    assert (found.systems[0].questions, worst(noticed)) == ((), set())
    assert "ovf-section" in worst(read(ovf.envelope(system(inside=foreign.format(""))))[1]), (
        "required unless it says otherwise (7.1)"
    )
