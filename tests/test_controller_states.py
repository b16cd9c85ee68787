"""The controller against a simple model: random writes, failures, pulls, seats, returns, time and restarts.

The model is a plain byte string. While the volume's margin is not negative, not one acknowledged byte may differ.
Histories are drawn with fixed seeds and weights of their own, since what matters (a stale member's return, a second
loss during a rebuild) takes several steps in a row that a uniform draw seldom makes.
"""

import random
from collections import Counter
from pathlib import Path

import pytest

from faithful_stripe.bench import members, volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.arrays.rebuild import check_rows
from faithful_stripe.core.source import read

from .conftest import Wall
from .small import TEXT

pytestmark = pytest.mark.long

STEPS = 70
happened: Counter[str] = Counter()


class History:
    """One random history of a bench and its model."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng = random.Random(seed)
        (folder / "d.toml").write_text(TEXT)
        self.folder, self.wall, self.told = folder / "b", Wall(), list[str]()
        create(self.folder, folder / "d.toml", now=self.wall)
        self.bench = Bench(self.folder, wall=self.wall)
        with self.bench.session() as s:
            volume = volumes.create(s.controller, volumes.check(s.controller, Wish("v", "RAID5", tuple("1234"), 4096)))
            self.model = bytearray(volume.geometry.volume_bytes)

    def step(self) -> None:
        """One step, and the comparison after it."""
        choices = {
            self.write: 6,
            self.lose: 4,
            self.bring: 5,
            self.wait: 4,
            self.by_hand: 1,
            self.restart: 1,
            self.spare: 1,
            self.rearrange: 1,
        }
        (chosen,) = self.rng.choices(list(choices), list(choices.values()))
        self.told.append(chosen.__name__)
        chosen()
        with self.bench.session() as s:
            volume = s.controller.volume("v")
            if s.controller.margin(volume) >= 0:
                assert read(s.controller.array(volume), 0, len(self.model)) == self.model, self.told

    def write(self) -> None:
        length = self.rng.choice([1, 500, 4096, 9000, 60_000])
        where = self.rng.choice([0, 4000, self.rng.randrange(len(self.model) - length)])
        data = self.rng.randbytes(length)
        with self.bench.session() as s:
            volume = s.controller.volume("v")
            if s.controller.margin(volume) < 0:
                return
            s.controller.before_write(volume)
            s.journal.write(s.controller.array(volume), volume.number, where, data)
        self.model[where : where + length] = data

    def lose(self) -> None:
        """A member is pulled or fails; now and then one too many (then it is only pulled)."""
        with self.bench.session() as s:
            volume = s.controller.volume("v")
            there = [m for m in volume.members if m.state != "lost"]
            enough = s.controller.margin(volume) > 0
            if there and (enough or self.rng.random() < 0.15):
                member = self.rng.choice(there)
                dies = enough and self.rng.random() < 0.2 and sum(not d.fault for d in s.state.drives.values()) > 4
                happened["a rebuilding member lost"] += member.state == "rebuilding"
                s.fail(member.serial) if dies else s.pull(member.serial)

    def bring(self) -> None:
        """For a lost member: the same drive or another one, in its bay or in a free one."""
        with self.bench.session() as s:
            volume = s.controller.volume("v")
            lost = [m for m in volume.members if m.state == "lost"]
            if not lost:
                self.replace_what_a_spare_stands_in_for(s, volume)
                return
            member = self.rng.choice(lost)
            there = s.state.in_bay(member.bay)
            if there:
                s.pull(there.serial)
            loose = [d for d in s.state.drives.values() if d.bay is None and not d.fault]
            mine = [d for d in loose if d.serial == member.serial]
            free = [bay for bay in "56" if s.state.in_bay(bay) is None]
            if loose:
                drive = self.rng.choice(mine if mine and self.rng.random() < 0.7 else loose)
                bay = self.rng.choice(free) if free and self.rng.random() < 0.2 else member.bay
                stale = drive.serial == member.serial and member.generation != volume.generation
                happened["a stale member back"] += stale
                s.seat(bay, drive.serial)

    def replace_what_a_spare_stands_in_for(self, s, volume) -> None:
        for member in volume.members:
            loose = [d for d in s.state.drives.values() if d.bay is None and not d.fault]
            if member.home and loose:
                if s.state.in_bay(member.home):
                    s.pull(member.home)
                s.medium(loose[0]).discard(0, loose[0].size)  # blank, as a replacement is
                s.seat(member.home, loose[0].serial)
                return

    def wait(self) -> None:
        self.wall.now += self.rng.choice([0.1, 0.5, 4.0])

    def by_hand(self) -> None:
        with self.bench.session() as s:
            volume = s.controller.volume("v")
            free = [d for d in s.state.drives.values() if d.works and not s.controller.memory.in_use(d.serial)]
            lost = any(m.state == "lost" for m in volume.members)
            if free and lost and s.controller.margin(volume) >= 0:
                members.rebuild_onto(s.controller, volume, str(self.rng.choice(free).bay))

    def spare(self) -> None:
        """A free drive becomes a hot spare, or a spare a free drive."""
        with self.bench.session() as s:
            loose = [d for d in s.state.drives.values() if d.bay is None and not d.fault]
            if loose and s.state.in_bay("6") is None:
                s.seat("6", loose[0].serial)
            seated = [d for d in s.state.drives.values() if d.works and not s.controller.memory.in_use(d.serial)]
            if seated:
                drive = self.rng.choice(seated)
                if drive.serial in s.controller.memory.spares:
                    members.remove_spare(s.controller, str(drive.bay))
                else:
                    members.add_spare(s.controller, str(drive.bay), [], self.rng.random() < 0.7)

    def restart(self) -> None:
        self.bench.close()
        self.bench = Bench(self.folder, wall=self.wall)
        if self.rng.random() < 0.5:
            with self.bench.session(power_cut=self.rng):
                pass

    def rearrange(self) -> None:
        """The power goes; two drives change places, or one is taken out; the power comes back."""
        with self.bench.session(power_cut=self.rng, stay_off=True):
            pass
        with self.bench.session() as s:
            seated = [d for d in s.state.drives.values() if d.bay]
            one, other = self.rng.sample(seated, 2)
            a, b = str(one.bay), str(other.bay)
            s.pull(a)
            s.pull(b)
            if self.rng.random() < 0.85:
                s.seat(a, other.serial)
                s.seat(b, one.serial)
            else:
                s.seat(a, one.serial)
            happened["rearranged"] += 1
        with self.bench.session() as s:
            s.power_on()

    def end(self) -> None:
        """All work done and, if the volume is whole, all parity true."""
        self.wall.now += 60
        with self.bench.session() as s:
            happened.update(event.message_id.rsplit(".", 1)[1] for event in s.events())
            volume = s.controller.volume("v")
            if not volume.lost:
                array = s.controller.array(volume)
                assert not [bad for _row, some in check_rows(array, 0, array.geometry.rows) for bad in some], self.told
        self.bench.close()


@pytest.mark.parametrize("group", range(2))
def test_no_acknowledged_byte_differs_within_the_margin(tmp_path, group):
    happened.clear()
    for seed in range(group * 10, group * 10 + 10):
        folder = tmp_path / str(seed)
        folder.mkdir()
        history = History(folder, seed)
        for _ in range(STEPS):
            history.step()
        history.end()
    for what in (
        "RebuildStarted", "RebuildDone", "MemberReturned", "VolumeFailure", "DriveFailure", "DriveNotTaken",
        "SpareTookOver", "CopyDone", "PowerOn",
        "a stale member back", "rearranged", "a rebuilding member lost",
    ):  # fmt: skip
        assert happened[what] >= 1, (what, happened)  # a history in which it never happens proves nothing
