"""The long run of the kill test: a process at work on a bench, killed at random moments, over and over.

The process writes, pulls and seats drives, lets time pass for rebuilds, makes, initializes and removes a second
volume on the same drives. It says through a pipe what it begins and what is acknowledged. After every kill (and,
every other time, a cut of power that drops what drives had not flushed, after which the volumes are assembled from
the drives) the bench must open, and not one acknowledged byte may differ; of a write that was not acknowledged,
every sector holds its old or its new bytes, and nothing else has changed.

    python benchmarks/crash.py --kills 1000 --seed 1
    python benchmarks/crash.py --every-write "bench new --take" "stock add"
"""

import argparse
import os
import random
import signal
import sys
import tempfile
import time
import traceback
from multiprocessing import Pipe
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.small import SIZE, TEXT

from benchmarks import writes
from faithful_stripe.bench import volumes
from faithful_stripe.bench.bench import Bench, create
from faithful_stripe.bench.volumes import Wish
from faithful_stripe.core.source import read

SECTOR = 512


class Crashing:
    """One bench, killed again and again, and the model of what it acknowledged."""

    def __init__(self, folder: Path, seed: int, level: str = "RAID5") -> None:
        self.rng = random.Random(seed)
        (folder / "d.toml").write_text(TEXT.replace(f"size = {SIZE}", f"size = {SIZE + (2 << 20)}"))
        self.folder = folder / "b"
        create(self.folder, folder / "d.toml")
        bench = Bench(self.folder)
        with bench.session() as s:
            wish = Wish("v", level, tuple("1234"), 4096, size=2 << 20 if level != "RAID6" else 1 << 20)
            made = volumes.create(s.controller, volumes.check(s.controller, wish))
            self.model = bytearray(made.geometry.volume_bytes)
        bench.close()
        self.counts = {"kills": 0, "acknowledged": 0, "interrupted writes": 0, "power cuts": 0, "sectors dropped": 0}
        self.counts |= {"volumes made": 0, "initializations": 0, "pulls and seats": 0}

    def kill_once(self) -> None:
        """Start the process, kill it at a random moment, open the bench and compare."""
        ours, theirs = Pipe()
        seed = self.rng.randrange(1 << 30)
        child = os.fork()
        if child == 0:
            ours.close()
            try:
                work(self.folder, seed, len(self.model), theirs)
            except BaseException:
                theirs.send("".join(traceback.format_exc()))
            finally:
                os._exit(1)
        theirs.close()
        time.sleep(self.rng.uniform(0.0, 0.12))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        pending = self._hear(ours)
        self.counts["kills"] += 1
        cut = random.Random(seed) if self.rng.random() < 0.5 else None
        bench = Bench(self.folder)
        with bench.session(power_cut=cut) as s:
            self.counts["power cuts"] += cut is not None
            self.counts["sectors dropped"] += s.power_lost
            self._compare(read(s.controller.array(s.controller.volume("v")), 0, len(self.model)), pending)
        bench.close()

    def _hear(self, pipe) -> tuple[int, bytes] | None:
        """Take in what was acknowledged; the write that was begun and not, or None."""
        pending = None
        while pipe.poll():
            try:
                message = pipe.recv()
            except EOFError:
                break
            if isinstance(message, str):
                if message not in self.counts:
                    raise AssertionError(f"the process stopped by itself:\n{message}")
                self.counts[message] += 1
            elif message is None:
                if pending:
                    self.model[pending[0] : pending[0] + len(pending[1])] = pending[1]
                    self.counts["acknowledged"] += 1
                pending = None
            else:
                pending = (message[0], random.Random(message[2]).randbytes(message[1]))
        return pending

    def _compare(self, found: bytes, pending: tuple[int, bytes] | None) -> None:
        if pending:
            self.counts["interrupted writes"] += 1
            new = bytearray(self.model)
            new[pending[0] : pending[0] + len(pending[1])] = pending[1]
            first, last = pending[0] // SECTOR * SECTOR, pending[0] + len(pending[1])
            for at in range(first, last, SECTOR):
                old_or_new = (self.model[at : at + SECTOR], new[at : at + SECTOR])
                if found[at : at + SECTOR] not in old_or_new:
                    raise AssertionError(f"sector at {at} holds neither its old nor its new bytes")
                self.model[at : at + SECTOR] = found[at : at + SECTOR]
        if found != self.model:
            at = next(i for i, (a, b) in enumerate(zip(found, self.model, strict=True)) if a != b)
            raise AssertionError(f"acknowledged byte {at} differs after {self.counts}")


def work(folder: Path, seed: int, size: int, pipe) -> None:
    """Keep a bench busy until killed; every write is told before it begins and when it is acknowledged."""
    rng = random.Random(seed)
    bench = Bench(folder)
    while True:
        with bench.session() as s:
            volume = s.controller.volume("v")
            healthy = not volume.lost
        chosen = rng.random()
        if chosen < 0.6:
            length = rng.choice([700, 5000, 30_000, 200_000])
            where, fill = rng.randrange(size - length), rng.randrange(1 << 30)
            pipe.send((where, length, fill))
            with bench.session() as s:
                volume = s.controller.volume("v")
                s.controller.before_write(volume)
                s.save_and_go_on()
                array = s.controller.array(volume)
                s.journal.write(array, volume.number, where, random.Random(fill).randbytes(length))
            pipe.send(None)
        elif chosen < 0.7:
            pipe.send("pulls and seats")
            with bench.session() as s:
                lost = [m for m in s.controller.volume("v").members if m.state == "lost"]
                if healthy:
                    s.pull(rng.choice(s.controller.volume("v").members).serial)
                elif lost:
                    loose = [d.serial for d in s.state.drives.values() if d.bay is None]
                    if loose and s.state.in_bay(lost[0].bay) is None:
                        s.seat(lost[0].bay, lost[0].serial if lost[0].serial in loose else rng.choice(loose))
        elif chosen < 0.9:
            with bench.session() as s:
                s.advance(rng.choice([0.2, 1.0, 5.0]))
        else:
            _second_volume(bench, rng, pipe)


def _second_volume(bench: Bench, rng: random.Random, pipe) -> None:
    """Make a volume that shares the drives, initialize it once more, or remove it."""
    method = rng.choice(volumes.METHODS)
    with bench.session() as s:
        second = next((v for v in s.controller.memory.volumes.values() if v.name == "second"), None)
        first = s.controller.volume("v")
        if second and not second.lost and not s.controller.jobs_of(second) and rng.random() < 0.6:
            volumes.initialize(s.controller, second, method)
            pipe.send("initializations")
        elif second:
            volumes.delete(s.controller, second)
        elif not first.lost:
            bays = tuple(m.bay for m in first.members)
            wish = Wish("second", "RAID5", bays, 4096)
            volumes.create(s.controller, volumes.check(s.controller, wish), method)
            pipe.send("volumes made")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--kills", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--every-write", nargs="*", metavar="COMMAND", help="instead: every call that changes a file")
    parser.add_argument("--step", type=int, default=1, help="of --every-write: only every so many calls")
    chosen = parser.parse_args()
    if chosen.every_write is not None:
        writes.main(chosen.every_write, chosen.step)
    start = time.monotonic()
    for number, level in enumerate(("RAID5", "RAID6", "RAID10")):
        with tempfile.TemporaryDirectory() as scratch:
            crashing = Crashing(Path(scratch), chosen.seed + number, level)
            for _ in range(-(-chosen.kills // 3)):
                crashing.kill_once()
            counts = ", ".join(f"{count} {what}" for what, count in crashing.counts.items())
            print(f"{level:7} {counts}; 0 lost bytes, 0 benches that do not open")
    print(f"{time.monotonic() - start:.0f} s")


if __name__ == "__main__":
    main()
