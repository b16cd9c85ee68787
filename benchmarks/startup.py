"""How long `fstripe --help` takes against a bare `import click`, side by side in one run.

python benchmarks/startup.py
"""

import statistics
import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 15


def taken(command: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def main() -> None:
    commands = {
        "python -c 'import click'": [sys.executable, "-c", "import click"],
        "fstripe --help": [str(Path(sys.executable).with_name("fstripe")), "--help"],
    }
    times: dict[str, list[float]] = {name: [] for name in commands}
    for _ in range(ROUNDS):
        for name, command in commands.items():
            times[name].append(taken(command))
    base = statistics.median(next(iter(times.values())))
    for name, values in times.items():
        median = statistics.median(values)
        print(f"{name:28} {median * 1000:7.0f} ms  {median / base:5.2f} times the bare import")


if __name__ == "__main__":
    main()
