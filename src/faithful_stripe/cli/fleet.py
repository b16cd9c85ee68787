"""Many servers watched: what begins and ends, a line each, told to whoever wants to hear of it."""

from __future__ import annotations

import json
import shlex
import subprocess
import time
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import ATTENTION, access_of, all_named

if TYPE_CHECKING:
    from ..work.fleet import Change
    from ..work.metrics import Door

TOLD_SECONDS = 30.0
"""How long a command or a web address may take over what it is told."""


def door_of(metrics: str | None, certificate: Path | None, key: Path | None) -> Door | None:
    """Where metrics are to be served; None where they go into a file, or nowhere. Raises UsageError."""
    from ..work.metrics import Door

    address, colon, port = (metrics or "").rpartition(":")
    if not port.isdecimal():
        if certificate or key:
            raise click.UsageError("--metrics-cert and --metrics-key are for metrics served at a port")
        return None
    if not 0 <= int(port[:6]) <= 65535 or (colon and not address):
        raise click.UsageError(f"--metrics {metrics}: expected a file, a port up to 65535, or ADDRESS:PORT")
    if key and not certificate:
        raise click.UsageError("--metrics-key: name its certificate with --metrics-cert")
    return Door(address.strip("[]") or "127.0.0.1", int(port), certificate, key)


def watch_fleet(
    ctx: click.Context, every: float, once: bool, metrics: Door | str | None, command: str | None, post: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Look at every server again and again, and tell what has changed."""
    from ..media.whole import write_text
    from ..redfish.address import check_address
    from ..redfish.target import connect
    from ..work.fleet import Fleet, exposed
    from ..work.metrics import serve_pages

    if post:
        check_address(post)
    access = access_of(ctx)
    fleet = Fleet(all_named(ctx), lambda at: connect(at, access=access))
    if metrics is not None and not isinstance(metrics, str):
        click.echo(f"Metrics at {serve_pages(fleet.page, metrics)}, of one server at /probe?target=AT", err=True)
    standing: dict[tuple[str, str, str], bool] = {}
    try:
        while True:
            began = time.monotonic()
            for change in fleet.look():
                standing[change.at, *change.key] = change.begins
                document = _document(change)
                click.echo(json.dumps(document) if as_json else _line(document))
                _tell(document, command, post)
            if isinstance(metrics, str):
                write_text(Path(metrics), exposed(fleet.collect()).decode(), replace=True)
            if once:
                break
            time.sleep(max(0.0, every - (time.monotonic() - began)))
    except KeyboardInterrupt:
        click.echo("fstripe: stopped watching; nothing was changed", err=True)
    ctx.exit(ATTENTION if any(standing.values()) else 0)


def _document(change: Change) -> dict[str, Any]:
    """A change as it is told to programs: codes, and the words for whoever shows them."""
    from .verdicts import finding_words, step_words
    from .words import where_words

    where = what = to_do = ""
    if change.finding and change.judged:
        seen = change.judged.server
        where, what = where_words(seen, change.finding.subject), finding_words(seen, change.finding)
        to_do = step_words(seen, change.finding.step)
    elif change.trouble:
        where, what, to_do = "server", change.trouble, "look at the server, and at the network"
    return {
        "time": datetime.fromtimestamp(change.time).astimezone().isoformat(timespec="seconds"), "at": change.at,
        "server": change.server, "begins": change.begins, "severity": change.severity.value, "code": change.key[0],
        "of": change.key[1], "where": where, "what": what, "to_do": to_do,
    }  # fmt: skip


def _line(told: dict[str, Any]) -> str:
    when = told["time"][:19].replace("T", " ")
    if not told["begins"]:
        what = "answers again" if told["code"] == "unreachable" else f"{told['code']} of {told['of']}"
        return f"{when}  {told['at']}  ends      {what}"
    return f"{when}  {told['at']}  {told['severity']:8}  {told['where']}: {told['what']}"


def _tell(document: dict[str, Any], command: str | None, post: str | None) -> None:
    """Tell a command and a web address of a change; where that fails a line says so, and the watching goes on."""
    import httpx

    text = json.dumps(document)
    if command:
        try:
            done = subprocess.run(
                shlex.split(command), input=text, text=True, timeout=TOLD_SECONDS, capture_output=True, check=False
            )
            if done.returncode:
                click.echo(f"--run: it ended with status {done.returncode}; watching continues", err=True)
        except (OSError, ValueError, subprocess.TimeoutExpired) as reason:
            click.echo(f"--run: it could not be told ({type(reason).__name__}); watching continues", err=True)
    if post:
        try:
            httpx.post(post, json=document, timeout=TOLD_SECONDS, trust_env=False).raise_for_status()
        except (httpx.HTTPError, httpx.InvalidURL) as reason:
            click.echo(f"--post: it could not be told ({type(reason).__name__}); watching continues", err=True)
