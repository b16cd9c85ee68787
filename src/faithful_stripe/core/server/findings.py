"""What may need attention, and what to do about it, as codes with facts: sentences are made from them elsewhere."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from .things import Drive, Health, Part, Volume


class Code(StrEnum):
    """Kinds of findings, the most dangerous first: the order of the list is the order of the to-do list."""

    VOLUME_OFFLINE = "volume-offline"
    VOLUME_LOST = "volume-lost"
    VOLUME_DEGRADED = "volume-degraded"
    VOLUME_UNFINISHED = "volume-unfinished"
    VOLUME_WEAK = "volume-weak"
    VOLUME_INCONSISTENT = "volume-inconsistent"
    VOLUME_UNWELL = "volume-unwell"
    VOLUME_NOT_KNOWN = "volume-not-known"
    VOLUME_REBUILDING = "volume-rebuilding"
    VOLUME_INITIALIZING = "volume-initializing"
    DRIVE_FAILED = "drive-failed"
    DRIVE_OFFLINE = "drive-offline"
    DRIVE_FLAPPING = "drive-flapping"
    DRIVE_PREDICTED = "drive-predicted"
    DRIVE_WORN = "drive-worn"
    DRIVE_UNREADABLE = "drive-unreadable"
    DRIVE_UNWELL = "drive-unwell"
    DRIVE_SLOW = "drive-slow"
    CACHE_UNPROTECTED = "cache-unprotected"
    PART_UNWELL = "part-unwell"
    ROLLUP_UNEXPLAINED = "rollup-unexplained"
    NO_STORAGE = "no-storage"
    SERVER_OFF = "server-off"
    LID_OPEN = "lid-open"
    CONTROLLER_DIRECT = "controller-direct"
    SPARE_UNFIT = "spare-unfit"
    SPARE_POOR = "spare-poor"
    STOOD_IN_FOR = "stood-in-for"
    FOUND = "found"
    GAP = "gap"


class StepCode(StrEnum):
    """Kinds of things to do next."""

    BRING_BACK = "bring-back"
    LEAVE_SEATED = "leave-seated"
    WAIT_FOR_WORK = "wait-for-work"
    REPLACE = "replace"
    AFTER_WORK = "after-work"
    RESUME_REBUILD = "resume-rebuild"
    REPAIR = "repair"
    COPY_FIRST = "copy-first"
    RESTORE = "restore"
    TAKE_OUT = "take-out"
    RESEAT = "reseat"
    COPY_BACK = "copy-back"
    FOLLOW_SERVER = "follow-server"
    LOOK = "look"
    RESTORE_POWER = "restore-power"
    CLOSE_LID = "close-lid"
    SET_STORAGE_MODE = "set-storage-mode"
    WRITE_THROUGH = "write-through"
    CHOOSE_SPARE = "choose-spare"
    ADOPT_OR_FORGET = "adopt-or-forget"


@dataclass(frozen=True)
class Subject:
    """What a finding is about: kind ("volume", "drive", "controller", "server", "found", "path"), name, path."""

    kind: str
    name: str
    path: str = ""
    controller: str = ""


@dataclass(frozen=True)
class Step:
    """One thing to do, and with what."""

    code: StepCode
    subject: Subject
    facts: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Finding:
    """Something that needs attention: what kind, how bad, of what, the facts, and what to do first about it."""

    code: Code
    severity: Health
    subject: Subject
    facts: dict[str, Any] = field(default_factory=dict)
    step: Step | None = None


def of_volume(v: Volume) -> Subject:
    return Subject("volume", v.name, v.path, v.controller)


def of_drive(d: Drive) -> Subject:
    return Subject("drive", d.bay, d.path, d.controller)


def of_part(p: Part) -> Subject:
    return Subject(p.kind.value, p.name, p.path)
