"""`lineup files` and `lineup copy`: the files on a lineup's volume, listed, tested, copied out."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any

import click

from .common import ATTENTION, json_option, print_json

if TYPE_CHECKING:
    from ..work.files import Copied, Listed, Opened, Sampled
    from .render import Cell, Part

NAMED = click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
ARRAY = click.option(
    "--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1."
)
PARTITION = click.option(
    "--partition", type=click.IntRange(min=1), help="Which partition of the volume, from 1, where several may be meant."
)  # fmt: skip
PART = click.option("--part", metavar="NAME", help="Which logical volume of LVM: GROUP/NAME, or NAME.")


@click.command()
@NAMED
@click.argument("path", default=".")
@ARRAY
@PARTITION
@PART
@click.option("--all", "every", is_flag=True, help="Everything below PATH, not only what is in it.")
@click.option("--check", is_flag=True, help="Read every file listed, and test every row it stands on.")
@click.option(
    "--damaged", is_flag=True, help="Only files whose bytes may be wrong, or are lost; of everything below PATH."
)
@click.option(
    "--sample", "count", type=click.IntRange(1, 10_000), metavar="N",
    help="Open N files that carry sums of their content, chosen at random, and say how many are whole.",
)  # fmt: skip
@json_option
@click.pass_context
def files(
    ctx: click.Context, lineup_file: Path, path: str, number: int, partition: int | None, part: str | None, every: bool,
    check: bool, damaged: bool, count: int | None, as_json: bool,
) -> None:  # fmt: skip
    """List the files on the volume of a lineup: size, time, and whether their bytes are sound.

    A file is sound where every row it stands on was read and matches; without redundancy it is only read. What a full
    pass has told is used; else --check reads the files. Of ext2 to 4, XFS, btrfs, NTFS, FAT and exFAT; what was
    deleted is left out. Exit status 3 where a file is damaged, or a sample does not prove itself.

    \b
    Example:
      fstripe lineup files found.toml
      fstripe lineup files found.toml gauges/2026 --all --check
      fstripe lineup files found.toml --damaged
      fstripe lineup files found.toml --sample 20
    """
    from ..work.files import damaged as is_damaged
    from ..work.files import files_of, listing, own_structures_hurt, sample
    from .render import show, waiting

    where = _inside(path)
    with waiting("reading") as tell, files_of(lineup_file, number, partition, part) as opened:
        if count is not None:
            found = sample(opened, count, tell=tell)
            broken = _show_sample(found, count, as_json)
            ctx.exit(ATTENTION if broken or not found else 0)
        seen = list(listing(opened, where, every or damaged, check, tell))
        listed = [one for one in seen if not damaged or is_damaged(one)]
        hidden = own_structures_hurt(opened, seen)
        bad = any(is_damaged(one) for one in listed) or hidden
        if as_json:
            print_json({**_head(opened, hidden), "files": [_plain(o) for o in listed]})
        else:
            show([*_list_parts(opened, listed, damaged), *_hidden_parts(hidden), *_pending_parts(opened)])
    ctx.exit(ATTENTION if bad else 0)


@click.command("copy")
@NAMED
@click.argument("paths", nargs=-1, required=True)
@click.argument("out", type=click.Path(path_type=Path))
@ARRAY
@PARTITION
@PART
@json_option
@click.pass_context
def copy_out(
    ctx: click.Context, lineup_file: Path, paths: tuple[str, ...], out: Path, number: int, partition: int | None,
    part: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Copy files and folders PATH... out of the volume of a lineup into the folder OUT; `.` is everything.

    Every row is tested on the way. Nothing in OUT is replaced; the images are not changed. Exit status 3 where a file
    was not copied, or its bytes may be wrong.

    \b
    Example:
      fstripe lineup copy found.toml gauges/2026 station.toml rescued
    """
    from ..work.files import copy_files, files_of, own_structures_hurt
    from ..work.files import damaged as is_damaged
    from .render import show, waiting

    with waiting("copying") as tell, files_of(lineup_file, number, partition, part) as opened:
        done = list(copy_files(opened, [_inside(p) for p in paths], out, tell))
        hidden = own_structures_hurt(opened, [c.listed for c in done])
    if as_json:
        rows = [{**_plain(c.listed), "to": c.to, "blake3": c.blake3, "trouble": c.trouble} for c in done]
        print_json({**_head(opened, hidden), "files": rows})
    else:
        show([*_copy_parts(done, out), *_hidden_parts(hidden), *_pending_parts(opened)])
    ctx.exit(ATTENTION if hidden or any(c.trouble or is_damaged(c.listed) for c in done) else 0)


def _inside(path: str) -> PurePosixPath:
    """A path as typed, from the file system's root. Raises UsageError where it leaves it."""
    parts = [part for part in PurePosixPath(path.strip("/") or ".").parts if part != "."]
    if ".." in parts:
        raise click.UsageError(f"{path}: .. leads out of the file system")
    return PurePosixPath(*parts)


def _head(opened: Opened, hidden: int) -> dict[str, Any]:
    return {
        "partition": opened.part.number, "holds": opened.part.what, "structures_hurt_bytes": hidden,
        "log_pending": opened.system.pending,
    }  # fmt: skip


def _plain(one: Listed) -> dict[str, Any]:
    entry = one.entry
    return {
        "path": str(entry.path), "kind": entry.kind.value, "bytes": entry.size, "modified": _time(entry.modified),
        "tested": one.tested, "testable": one.protected, "wrong_bytes": one.wrong, "lost_bytes": one.lost,
    }  # fmt: skip


def _time(seconds: int) -> str:
    try:
        return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%dT%H:%M:%SZ") if seconds else ""
    except (OverflowError, ValueError, OSError):
        return ""


def _state(one: Listed) -> Cell:
    from ..core.units import binary_size
    from .render import Cell

    if one.lost:
        return Cell(f"lost: {binary_size(one.lost)}", "Critical")
    if one.wrong:
        return Cell(f"may be wrong: {binary_size(one.wrong)}", "Critical")
    if one.entry.kind.value != "file":
        return Cell("")
    if not one.tested:
        return Cell("not tested", "dim")
    return Cell("sound", "good") if one.protected else Cell("read, not testable", "Warning")


def _list_parts(opened: Opened, listed: list[Listed], damaged: bool) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line, Table

    where = opened.part.name or (f"partition {opened.part.number}" if opened.part.number else "the volume")
    parts: list[Part] = [Line(f"{opened.part.what or 'File system'} on {where}", "head")]
    table = Table("", [">size", "modified (UTC)?1", "state", "path"])
    for one in listed:
        size = "" if one.entry.kind.value == "folder" else binary_size(one.entry.size)
        name = f"{one.entry.path}/" if one.entry.kind.value == "folder" else str(one.entry.path)
        table.add(size, _time(one.entry.modified)[:16].replace("T", " "), _state(one), name)
    if listed:
        parts.append(table)
    elif damaged:
        known = opened.mapped
        words = "No file stands on bytes that may be wrong or are lost."
        parts.append(
            Line(words, "good") if known else Line("Not tested: add --check, or solve with --full.", "Warning")
        )
    else:
        parts.append(Line("Nothing is there."))
    return parts


def _hidden_parts(hidden: int) -> list[Part]:
    """That files may be missing here, where the file system's own structures are hurt."""
    from ..core.units import binary_size
    from .render import Line

    says = f"{binary_size(hidden)} of the file system's own structures cannot be read or may be wrong:"
    return [Line(f"{says} files and folders may be missing here.", "Critical")] if hidden else []


def _pending_parts(opened: Opened) -> list[Part]:
    """That what changed last may not be in its place."""
    from .render import Line

    if not opened.system.pending:
        return []
    says = "It was not unmounted: its log holds changes that are not in their places yet. What changed last may be old"
    return [Line(f"{says} or missing here; a system that mounts a copy of the volume plays the log back.", "Warning")]


def _show_sample(found: list[Sampled], count: int, as_json: bool) -> bool:
    """Print it; whether any file does not prove itself."""
    from ..work.files import Proof
    from .render import Cell, Line, Table, show

    broken = sum(one.proof is Proof.BROKEN for one in found)
    if as_json:
        rows = [{"path": str(s.entry.path), "proof": s.proof.value} for s in found]
        print_json({"asked": count, "opened": len(found), "whole": len(found) - broken, "files": rows})
        return bool(broken)
    if not found:
        show([Line("No file there carries sums of its content: pictures (PNG), archives and documents do.", "Warning")])
        return False
    table = Table("", ["", "path"])
    for one in found:
        table.add(Cell(one.proof.value, "good" if one.proof is Proof.WHOLE else "Critical"), str(one.entry.path))
    words = f"{len(found) - broken} of {len(found)} files that prove themselves are whole."
    show([table, Line(words, "Critical" if broken else "good")])
    return bool(broken)


def _copy_parts(done: list[Copied], out: Path) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line, Table

    right = [c for c in done if not c.trouble]
    hurt = [c for c in right if c.listed.wrong or c.listed.lost]
    size = sum(c.listed.entry.size for c in right)
    files = "1 file" if len(right) == 1 else f"{len(right)} files"
    parts: list[Part] = [Line(f"{files} ({binary_size(size)}) copied to {out}.", "good" if not hurt else "")]
    if hurt:
        table = Table("", ["state", "path"])
        for one in hurt:
            table.add(_state(one.listed), str(one.listed.entry.path))
        parts += [Line("Not to be relied on:", "Critical"), table]
    for one in done:
        if one.trouble:
            parts.append(Line(f"Not copied: {one.listed.entry.path}: {one.trouble}", "Warning"))
    return parts
