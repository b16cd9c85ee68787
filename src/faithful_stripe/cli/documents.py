"""A server, its volumes and drives as JSON documents: what the server says, and what was judged of it, side by side."""

from __future__ import annotations

from typing import Any

from ..core.server.assess import Assessment
from ..core.server.condition import Judged
from ..core.server.things import Drive, UseKind, Volume
from .attention import finding_documents
from .common import plain
from .words import spare_words, use_words, work_words


def drive_document(d: Drive) -> dict[str, Any]:
    """A drive."""
    return {**plain(d), "use": use_words(d), "spare": spare_words(d), "status": plain(d.state),
            "spare_for": [u.volume for u in d.used_as(UseKind.DEDICATED_SPARE) if u.volume]}  # fmt: skip


def volume_document(v: Volume, j: Judged) -> dict[str, Any]:
    """A volume: `state`, `margin`, `lost` as judged; `status` as its server calls it."""
    body = plain(v)
    members = body.pop("seats")
    work = [{**plain(w), "name": work_words(w)} for w in v.work]
    return {
        **body,
        "members": members,
        "work": work,
        "status": plain(v.state),
        "state": j.state.value,
        "margin": j.margin,
        "margin_certain": j.certain,
        "margin_elsewhere": j.whole,
        "stretches": plain(j.stretches),
        "lost": plain(j.lost),
        "members_missing": len(j.gone) + j.hidden,
        "chance_of_loss": j.exposure.chance if j.exposure else None,
    }


def server_document(judged: Assessment) -> dict[str, Any]:
    """A whole server."""
    seen = judged.server
    return {
        **plain(seen),
        "drives": [drive_document(d) for d in seen.drives],
        "volumes": [volume_document(v, judged.of(v)) for v in seen.volumes],
        "findings": finding_documents(judged),
    }
