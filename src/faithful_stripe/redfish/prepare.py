"""The answers about firmware: attributes and what waits for the restart, boot options, resets, PCIe links."""

from __future__ import annotations

import random
from typing import Any

from werkzeug.wrappers import Response

from ..bench import firmware
from ..bench.errors import NoReset
from . import names
from .answers import Answers, Refused
from .names import Body, link

REGISTRY = "FaithfulStripeFirmware.1.0.0"


class PrepareHandler(Answers):
    """One method per route, `_post` and `_patch` after its name."""

    def bios(self) -> Response:
        return self._ok(self._bios("", firmware.current(self.session.state)))

    def bios_settings(self) -> Response:
        return self._ok(self._bios("/Settings", self.session.state.pending))

    def bios_settings_patch(self) -> Response:
        """Attributes to come into force at the next restart."""
        wanted = self._body().get("Attributes")
        if not isinstance(wanted, dict) or not wanted:
            raise Refused(400, names.BASE + "PropertyMissing", "the request has no Attributes", "give them")
        firmware.ask(self.session.state, wanted)
        return self.bios_settings()

    def _bios(self, end: str, attributes: dict[str, Any]) -> Body:
        path = names.system(self.made.server) + "/Bios"
        body: Body = {
            "@odata.id": path + end,
            "@odata.type": "#Bios.v1_2_1.Bios",
            "Id": "Settings" if end else "Bios",
            "Name": "Firmware attributes" + (" that wait for the next restart" if end else ""),
            "AttributeRegistry": REGISTRY,
            "Attributes": attributes,
        }
        if not end:
            body["@Redfish.Settings"] = {
                "@odata.type": "#Settings.v1_3_5.Settings",
                "SettingsObject": link(path + "/Settings"),
                "SupportedApplyTimes": ["OnReset"],
            }
            body["Actions"] = {"#Bios.ResetBios": {"target": path + "/Actions/Bios.ResetBios"}}
        return body

    def bios_reset_post(self) -> Response:
        """Every attribute as it came from the factory, at the next restart."""
        firmware.ask_factory(self.session.state)
        return Response(status=204)

    def registries(self) -> Response:
        return self._collection("Registries", "MessageRegistryFileCollection", [self._registry_file()])

    def registry_file(self) -> Response:
        return self._ok(self._registry_file())

    def _registry_file(self) -> Body:
        path = names.ROOT + "Registries/" + REGISTRY
        return {
            "@odata.id": path,
            "@odata.type": "#MessageRegistryFile.v1_1_3.MessageRegistryFile",
            "Id": REGISTRY,
            "Name": "Firmware attribute registry",
            "Registry": REGISTRY,
            "Languages": ["en"],
            "Location": [{"Language": "en", "Uri": path + "/registry"}],
        }

    def registry(self) -> Response:
        rows = [_described(a) for a in firmware.registry().values()]
        dependencies = [
            _dependency(a.name, *pair) for a in firmware.registry().values() for pair in a.writable_when.items()
        ]
        return self._ok({
            "@odata.type": "#AttributeRegistry.v1_3_8.AttributeRegistry",
            "Id": REGISTRY,
            "Name": "Firmware attributes",
            "Language": "en",
            "OwningEntity": "Veskarn",
            "RegistryVersion": "1.0.0",
            "RegistryEntries": {"Attributes": rows, "Dependencies": dependencies},
        })  # fmt: skip

    # starting -----------------------------------------------------------------------------------

    def reset_post(self) -> Response:
        """Switch the server on or off, or restart it."""
        kind, session = self._text(self._body(), "ResetType"), self.session
        possible = names.RESETS[session.state.power]
        if kind not in possible:
            raise NoReset(kind=kind, known=", ".join(possible))
        if kind.startswith(("Force", "Power")) and session.state.power:
            session.cut_power(random.Random())  # nobody is asked to end what it does: as if the power were cut
        elif session.state.power:
            session.shut_down()
        if "Restart" in kind or kind.endswith(("On", "Cycle")):
            session.power_on()
        return Response(status=204)

    def system_patch(self) -> Response:
        """The boot order, and what the server starts from at its next start, or at each."""
        boot = self._body().get("Boot")
        if not isinstance(boot, dict) or not boot:
            raise Refused(400, names.BASE + "PropertyMissing", "the request has no Boot.BootOrder", "give the list")
        strange = [name for name in boot if name not in ("BootOrder", *names.OVERRIDE)]
        if strange:
            what = f"Boot.{strange[0]} is no property that can be written here"
            raise Refused(400, names.BASE + "PropertyUnknown", what, f"known: BootOrder, {', '.join(names.OVERRIDE)}")
        order = boot.get("BootOrder")
        if order is not None and not (isinstance(order, list) and all(isinstance(r, str) for r in order)):
            raise Refused(400, names.BASE + "PropertyValueTypeError", "Boot.BootOrder is no list of references", "")
        wish = {names.OVERRIDE[name][0]: value for name, value in boot.items() if name in names.OVERRIDE}
        if wish:
            firmware.check_override(wish)
        if order is not None:
            firmware.set_boot_order(self.session.state, order)
        if wish:
            firmware.override(self.session.state, wish)
        return self._ok(self.made.system())

    def boot_options(self) -> Response:
        options = [self._boot_option(i, r) for i, r in enumerate(firmware.boot_options(self.session.state))]
        return self._collection("Boot options", "BootOptionCollection", options)

    def boot_option(self, number: int) -> Response:
        known = firmware.boot_options(self.session.state)
        if number >= len(known):
            raise self._missing()
        return self._ok(self._boot_option(number, known[number]))

    def _boot_option(self, number: int, reference: str) -> Body:
        shown, related = "Network", []
        for raid, c in self.session.controllers.items():
            for v in c.memory.volumes.values():
                if v.guid.strip() == reference:
                    shown = f"Volume {v.name} of {raid}"
                    related = [link(names.volume(self.made.server, raid, v.number))]
        return {
            "@odata.id": f"{names.system(self.made.server)}/BootOptions/{number}",
            "@odata.type": "#BootOption.v1_0_6.BootOption",
            "Id": str(number),
            "Name": f"Boot option {number}",
            "BootOptionReference": reference,
            "BootOptionEnabled": True,
            "DisplayName": shown,
            "RelatedItem": related,
        }

    # links --------------------------------------------------------------------------------------

    def pcie_devices(self) -> Response:
        devices = [self._device(raid) for raid in self.session.controllers]
        return self._collection("PCIe devices", "PCIeDeviceCollection", devices)

    def pcie_device(self, device: str) -> Response:
        if device not in self.session.controllers:
            raise self._missing()
        return self._ok(self._device(device))

    def _device(self, raid: str) -> Body:
        facts, found = self.session.controllers[raid].facts, firmware.link(self.session.state, raid)
        path = names.system(self.made.server) + "/PCIeDevices/" + raid
        return {
            "@odata.id": path,
            "@odata.type": "#PCIeDevice.v1_13_0.PCIeDevice",
            "Id": raid,
            "Name": f"{facts['maker']} {facts['model']} in {found.slot}",
            "Manufacturer": facts["maker"],
            "Model": facts["model"],
            "FirmwareVersion": facts["firmware"],
            "PCIeInterface": {
                "LanesInUse": found.lanes,
                "MaxLanes": found.most_lanes,
                "PCIeType": f"Gen{found.generation}",
                "MaxPCIeType": f"Gen{found.most_generation}",
            },
            "Slot": {"SlotType": "FullLength", "Location": {"PartLocation": {"ServiceLabel": found.slot}}},
            "PCIeFunctions": link(path + "/PCIeFunctions"),
            "Links": {"Chassis": [link(names.chassis(self.made.server))]},
        }

    def pcie_functions(self, device: str) -> Response:
        return self._collection("PCIe functions", "PCIeFunctionCollection", [self._function(device)])

    def pcie_function(self, device: str) -> Response:
        return self._ok(self._function(device))

    def _function(self, device: str) -> Body:
        if device not in self.session.controllers:
            raise self._missing()
        vendor, _colon, number = self.session.controllers[device].facts["pci"].partition(":")
        return {
            "@odata.id": f"{names.system(self.made.server)}/PCIeDevices/{device}/PCIeFunctions/0",
            "@odata.type": "#PCIeFunction.v1_5_0.PCIeFunction",
            "Id": "0",
            "Name": "Function 0",
            "FunctionId": 0,
            "DeviceClass": "MassStorageController",
            "VendorId": f"0x{vendor.upper()}",
            "DeviceId": f"0x{number.upper()}",
            "Links": {
                "StorageControllers": [
                    link(f"{names.storage(self.made.server, device)}/Controllers/{device}"),
                ],
            },
        }


def _described(a: firmware.Attribute) -> Body:
    """One attribute as a registry entry."""
    body: Body = {
        "AttributeName": a.name,
        "Type": a.kind,
        "DisplayName": a.shown,
        "HelpText": a.help,
        "DefaultValue": a.value,
        "ReadOnly": a.read_only,
        "ResetRequired": True,
        "MenuPath": "./",
    }
    if a.kind == "Enumeration":
        body["Value"] = [{"ValueName": name, "ValueDisplayName": shown} for name, shown in a.values.items()]
    elif a.kind == "Integer":
        body |= {"LowerBound": a.least, "UpperBound": a.most}
    elif a.kind == "String":
        body["MaxLength"] = a.longest
    return body


def _dependency(name: str, other: str, value: str) -> Body:
    """That an attribute can only be written while another one has a value."""
    condition = {
        "MapFromAttribute": other,
        "MapFromProperty": "CurrentValue",
        "MapFromCondition": "NEQ",
        "MapFromValue": value,
    }
    return {
        "Type": "Map",
        "DependencyFor": name,
        "Dependency": {
            "MapFrom": [condition],
            "MapToAttribute": name,
            "MapToProperty": "ReadOnly",
            "MapToValue": True,
        },
    }
