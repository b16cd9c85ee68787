"""Cluster: images that are taken to belong together, what is read of them, and in which way their lineup is sought."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property

from ..evidence.membership import Membership
from ..hypotheses.pile_table import Table
from ..structures.anchors import Anchors


class Way(Enum):
    """Which layouts are looked at."""

    USUAL = "usual"
    """Those that are usual, with strips that are powers of two."""

    UNSEEN = "unseen"
    """With members that hold nothing where anything stands, and only so."""

    ODD = "odd"
    """With strips that need not be powers of two, too."""

    RARE = "rare"
    """The layouts that are rare, and no others."""


@dataclass(frozen=True)
class Cluster:
    """Images that are taken to belong together.

    taken   images that are another answer's
    alone   without what else lies about
    """

    table: Table
    images: set[int]
    grounds: Sequence[Anchors]
    taken: set[int]
    alone: bool = False
    way: Way = Way.USUAL

    @cached_property
    def groups(self) -> list[Membership]:
        """The relations that hold among these images."""
        return [g for g in self.table.groups if set(g.images) <= self.images]

    @cached_property
    def files(self) -> list[Anchors]:
        """What states addresses in a volume, a file system's before what only counts up."""
        return [g for g in sorted(self.grounds, key=lambda a: (a.ground.guessed, -len(a))) if not g.ground.table]

    @cached_property
    def tables(self) -> list[Anchors]:
        """Partition tables and their like."""
        return [g for g in self.grounds if g.ground.table]

    @cached_property
    def starts(self) -> list[int]:
        """Where partition tables say that something begins, in bytes of the volume."""
        return sorted({s for g in self.tables for s in g.ground.starts})

    @property
    def primary(self) -> Anchors | None:
        """What says most."""
        return next(iter([*self.files, *self.tables]), None)

    @cached_property
    def mirrors(self) -> list[Membership]:
        """The relations of images that hold the same."""
        return [g for g in self.groups if g.kind == "copies"]

    @property
    def mirrored(self) -> bool:
        """Whether all there is are copies."""
        return bool(self.groups) and len(self.mirrors) == len(self.groups)

    def only(self, images: set[int], grounds: Sequence[Anchors] | None = None, alone: bool = True) -> Cluster:
        """Some of the images, by what is read of them: of these alone, if not said otherwise."""
        return replace(self, images=images, grounds=self.grounds if grounds is None else grounds, alone=alone)

    def by(self, way: Way) -> Cluster:
        """The same images, in another way."""
        return replace(self, way=way)
