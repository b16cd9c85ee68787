"""`lineup extract` and `lineup serve`: the volume of a lineup, copied out or served."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import ATTENTION, json_option, print_json
from .common import plain as plain_of
from .lineup_parts import map_parts, verdict_parts

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Lineup
    from ..work.extracting import Extract
    from .render import Part


@click.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--range", "wanted", metavar="START:LENGTH", help="Only this part of the volume, such as 0:256MiB.")
@click.option("--partition", type=click.IntRange(min=1), help="Only this partition of the volume's table, from 1.")
@click.option("--part", metavar="NAME", help="Only this logical volume of LVM: GROUP/NAME, or NAME.")
@click.option("--used", is_flag=True, help="Only what its file systems say is in use; holes stand for the rest.")
@click.option(
    "--sha256", "plain", is_flag=True, help="The SHA-256 of OUT as well, however large it is (up to 64 MiB it is)."
)
@json_option
@click.pass_context
def extract(
    ctx: click.Context, lineup_file: Path, out: Path, number: int, wanted: str | None, partition: int | None,
    part: str | None, used: bool, plain: bool, as_json: bool,
) -> None:  # fmt: skip
    """Write the volume of a lineup to a new sparse file OUT, test every row on the way, and print its BLAKE3.

    Image names are looked up from the present folder first, then from the lineup file's. What is missing, or wrong on
    one member, is computed from the others; what cannot be read is left as zeros. OUT.map.txt lists all that, and the
    bytes that do not match and may be wrong; OUT.map lists what cannot be read as rescue copiers do. Interrupted, the
    same command continues where it stopped. Exit status 3 unless all four verdicts on what was written are certain.

    With --used, free space is neither read nor written: what was deleted is not in OUT. Where a file system was not
    unmounted, or its own maps are damaged, what is in use is not known, and nothing is written.

    The BLAKE3 and SHA-256 are those of OUT as it reads, whatever of it stands as holes.

    \b
    Example:
      fstripe lineup extract found.toml volume.img --range 0:256MiB
      fstripe lineup extract found.toml data.img --partition 2
      fstripe lineup extract found.toml gauges.img --part skerry/gauges
      fstripe lineup extract found.toml volume.img --used
    """
    from ..work.checked import volume_used
    from ..work.extracting import extract_pieces as write
    from ..work.lineup import open_array, what_is_read
    from ..work.places import place_of
    from .render import show, waiting

    with open_array(lineup_file, number) as (found, members):
        if found.verdicts.placing != "certain":
            click.echo(f"Warning: order and start of this lineup are {found.verdicts.placing}, not certain.", err=True)
        pieces = place_of(found.opened(members), wanted, partition, part)
        with waiting(f"writing {out.name}") as tell:
            held = volume_used(found, members, pieces) if used else None
            made, tested = write(found, members, what_is_read(found, members), out, pieces, tell, plain, held)
    if as_json:
        print_json({**plain_of(made), "verdicts": tested.verdicts.as_document()})
    else:
        show(_extract_parts(made, tested))
    ctx.exit(0 if tested.verdicts.certain and not made.unreadable else ATTENTION)


def _extract_parts(made: Extract, tested: Lineup) -> list[Part]:
    from ..core.units import binary_size
    from .render import Line

    gone_on = f", resumed from byte {made.resumed}" if made.resumed else ""
    parts: list[Part] = [Line(f"{made.file}: {binary_size(made.size)}, {binary_size(made.data)} of it data{gone_on}.")]
    if made.in_use is not None:
        free = "What was deleted is not in it."
        parts.append(Line(f"{binary_size(made.in_use)} are in use; holes stand for the rest. {free}", "Warning"))
    if made.pieces:
        listed = ", ".join(f"{binary_size(length)} at byte {at}" for at, length in made.pieces)
        parts.append(Line(f"It stands in {len(made.pieces)} pieces on the volume: {listed}."))
    parts += [*verdict_parts(tested.verdicts), *map_parts(tested)]
    for ranges, says, style in (
        (made.computed, "computed from the other members", ""),
        (made.open, "may be wrong: the rows do not match", "Critical"),
        (made.unreadable, "cannot be read, and are zeros", "Critical"),
    ):  # fmt: skip
        if ranges:
            size = sum(length for _at, length in ranges)
            places = "1 place" if len(ranges) == 1 else f"{len(ranges)} places"
            parts.append(Line(f"{size} bytes in {places} {says}.", style))
    if made.map:
        parts.append(Line(f"They are listed in {made.map}"))
    if made.rescue_map:
        parts.append(Line(f"What cannot be read is in {made.rescue_map} as well, as rescue copiers write it."))
    parts.append(Line(f"BLAKE3  {made.blake3}"))
    if made.sha256:
        parts.append(Line(f"SHA-256 {made.sha256}"))
    return parts


@click.command()
@click.argument("lineup_file", metavar="LINEUP", type=click.Path(path_type=Path))
@click.option("--array", "number", type=click.IntRange(min=1), default=1, help="Which array of the lineup, from 1.")
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen at.")
@click.option("--port", type=click.IntRange(0, 65535), default=10809, show_default=True, help="0 takes a free one.")
@json_option
def serve(lineup_file: Path, number: int, host: str, port: int, as_json: bool) -> None:
    """Serve the volume of a lineup read-only over NBD until Ctrl-C, so that it need not be copied first.

    Any NBD client reads it. Every row is tested as it is asked for: what is missing, or wrong on one member, is
    computed from the others; bytes that do not match are said here before they are given. Nobody is asked for a
    password: listen beyond this machine only where everybody may read it.

    \b
    Example:
      fstripe lineup serve found.toml
      nbdcopy nbd://localhost/ volume.img
    """
    from ..media.nbd import NbdServer
    from ..work.checked import CheckedVolume
    from ..work.errors import WorkError
    from ..work.lineup import open_array

    def told(ranges: list[tuple[int, int]]) -> None:
        for a, b in ranges:
            click.echo(f"Warning: {b - a} bytes at {a} do not match, and may be wrong.", err=True)

    with open_array(lineup_file, number) as (found, members):
        if found.verdicts.placing != "certain":
            click.echo(f"Warning: order and start of this lineup are {found.verdicts.placing}, not certain.", err=True)
        volume = CheckedVolume(found, members, told, lineup_file.stem)
        try:
            server = NbdServer(volume, lineup_file.stem, host, port)
        except OSError as reason:
            what = f"{host}:{port} cannot be listened at ({reason.strerror or reason})"
            raise WorkError(what=what, to_do="name another --port or --host") from reason
        with server:
            at = f"nbd://{host}:{server.port}/{lineup_file.stem}"
            if as_json:
                print_json({"at": at, "bytes": volume.size, "verdict": found.verdict})
            else:
                click.echo(f"Serving {volume.size} bytes read-only at {at}; Ctrl-C ends it.")
            try:
                server.serve_forever()
            except KeyboardInterrupt:
                click.echo("Ended; nothing was changed.", err=True)
