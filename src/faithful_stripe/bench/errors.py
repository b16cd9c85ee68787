"""What the bench and its controller refuse, each with its Redfish message and HTTP status.

BenchError            the folder, the description, the hands
ControllerRefusal     what a RAID controller answers to a request it will not carry out
+-- UnknownBay, EmptyBay, DriveInUse, DriveFailed, UnlikeDrives, NameTaken, ...
"""

from __future__ import annotations

from typing import ClassVar

from ..core.errors import StripeError


class BenchError(StripeError):
    template = "bench {bench}: {what}"
    remedy = "{to_do}"


class ControllerRefusal(StripeError):
    """`message_id` is the key in our Redfish message registry; `status` the HTTP status."""

    message_id: ClassVar[str] = "FaithfulStripe.1.0.Refused"
    status: ClassVar[int] = 400


class UnknownBay(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnknownBay", 404
    template = "there is no bay {bay} {where}"
    remedy = "bays there: {bays}"


class EmptyBay(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.EmptyBay", 409
    template = "bay {bay} is empty"
    remedy = "seat a drive there, or name another bay"


class BayTaken(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.BayTaken", 409
    template = "bay {bay} holds drive {serial}"
    remedy = "pull it first, or choose another bay"


class UnknownDrive(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnknownDrive", 404
    template = "no drive with serial number {serial} {where}"
    remedy = "known there: {known}"


class DriveInUse(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.DriveInUse", 409
    template = "bay {bay}: drive {serial} is a member of volume {volume}"
    remedy = "choose free drives; `survey` lists them"


class DriveFailed(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.DriveFailed", 409
    template = "bay {bay}: drive {serial} has failed"
    remedy = "replace it, or choose another drive"


class NamedTwice(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.NamedTwice"
    template = "bay {bay} is named twice"
    remedy = "name every drive once"


class UnlikeDrives(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnlikeDrives", 409
    template = "the drives differ in {what}: {values}"
    remedy = "choose drives that are alike{unless}"


class NameTaken(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NameTaken", 409
    template = "there is a volume {name} already"
    remedy = "choose another name"


class BadName(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.BadName"
    template = "{name!r} cannot be a volume's name"
    remedy = "use 1 to 15 letters, digits, dashes or underscores, a letter or digit first"


class UnknownVolume(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnknownVolume", 404
    template = "there is no volume {name}"
    remedy = "volumes here: {known}"


class VolumeFailed(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.VolumeFailed", 409
    template = "volume {name} has failed: members {members} are missing, more than {level} survives"
    remedy = "bring one of these drives back as it was; nothing has been written"


class NothingToRebuild(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NothingToRebuild", 409
    template = "volume {name} has no member to rebuild"
    remedy = "`survey` shows the state of its members"


class NothingToForce(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NothingToForce", 409
    template = "volume {name} can be read: there is nothing to force"
    remedy = "`survey` shows the state of its members"


class TooFewToForce(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.TooFewToForce", 409
    template = "volume {name}: too few of its missing members are seated and answer"
    remedy = "seat them again; `volume rescue` shows which"


class TooSmall(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.TooSmall", 409
    template = "bay {bay}: drive {serial} holds {found} bytes, volume {volume} needs {needed} of each member"
    remedy = "use a drive at least as large as the others"


class WorkRunning(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.WorkRunning", 409
    template = "volume {name}: {work} is running"
    remedy = "wait until it is done (`watch`)"


class NoMethod(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.NoMethod"
    template = "{method!r} is no way to initialize"
    remedy = "known: {known}"


class NotWhole(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NotWhole", 409
    template = "volume {name} is missing a member"
    remedy = "rebuild it first (`survey` shows what is missing)"


class NotReady(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NotReady", 409
    template = "volume {name} is being initialized in the foreground"
    remedy = "wait until it is done (`watch`)"


class NoRoom(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NoRoom", 409
    template = "these drives have no room for {wanted} bytes"
    remedy = "at most {most} bytes ({text}) fit"


class DriveIsSpare(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.DriveIsSpare", 409
    template = "bay {bay}: drive {serial} is a hot spare"
    remedy = "remove it as a spare first (`spare remove {bay}`), or choose another drive"


class PoweredOff(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.PoweredOff", 409
    template = "the server is off"
    remedy = "restore the power first (on a bench: `bench power-on`)"


class NotHot(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NotHotPluggable", 409
    template = "bay {bay}: this chassis has no hot swap, and the server is on"
    remedy = "shut it down first (on a bench: `bench cut-power --stay-off`), then {act}"


class UnknownController(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnknownController", 404
    template = "there is no controller {name}"
    remedy = "controllers here: {known}"


class WhichController(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.WhichController", 409
    template = "controllers {known} have a volume {name} each"
    remedy = "say which: --controller ID"


class NothingFound(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NoForeignVolume", 404
    template = "no set-up here describes a volume {name}"
    remedy = "found here: {known}"


class FoundUnfit(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.FoundUnfit", 409
    template = "volume {name} of another controller cannot be adopted: {why}"
    remedy = "{advice}"


class BadSetting(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.BadSetting"
    template = "{name}: expected {expected}, found {found!r}"
    remedy = "nothing was changed; `controller show` lists the settings"


class BadAttribute(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.BadAttribute"
    template = "firmware attribute {name}: {what}"
    remedy = "{advice}"


class NoVolumesOffered(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NoVolumesOffered", 409
    template = "the controllers offer no volumes: the storage mode is not RAID"
    remedy = "set it and restart: fstripe firmware set DiskControllerUse=Raid, then fstripe firmware restart"


class NoReset(ControllerRefusal):
    message_id = "Base.1.18.ActionParameterNotSupported"
    template = "ResetType {kind!r} is not possible now"
    remedy = "possible: {known}"


class NoSpare(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.NoSpare", 409
    template = "bay {bay}: drive {serial} is not a hot spare"
    remedy = "`survey` shows which are"


class UnknownPart(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UnknownPart", 404
    template = "there is no part {name} with firmware of its own"
    remedy = "parts here: {known}"


class BadPackage(ControllerRefusal):
    message_id = "Update.1.1.VerificationFailed"
    template = "the firmware package was refused: {what}"
    remedy = "{advice}"


class UpdateRunning(ControllerRefusal):
    message_id, status = "FaithfulStripe.1.0.UpdateRunning", 409
    template = "firmware is being written to {part}"
    remedy = "wait until that is done, then begin the next"


class NoCache(ControllerRefusal):
    message_id = "FaithfulStripe.1.0.NoCache"
    template = "there is no cache policy {policy}"
    remedy = "offered: {known}"
