"""How long commands take, next to what they cannot do without: `python bench/startup.py [ROUNDS]`.

Each round runs all of them once, in turn, so that a slow moment of the machine hits all alike; the figures are the
medians of the ratios within a round.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dokimon.core.jobs.verify import verify
from dokimon.demo.sample import FERRIES, copy_sample

_PYTHON = sys.executable
_DOKIMON = str(Path(sys.executable).with_name("dokimon"))


def _seconds(command: list[str], folder: Path) -> float:
    started = time.perf_counter()
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "sample"
        copy_sample(FERRIES, folder)
        commands = {
            "dokimon --version": [_DOKIMON, "--version"],
            "dokimon --help": [_DOKIMON, "--help"],
            "dokimon verify": [_DOKIMON, "verify"],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        typer, slowest = [], []
        for _ in range(rounds):
            typer.append(_seconds([_PYTHON, "-c", "import typer"], folder))
            for name, command in commands.items():
                times[name].append(_seconds(command, folder))
            asked = verify(folder, os.environ).installations
            slowest.append(max((copy.seconds or 0 for copies in asked.values() for copy in copies), default=0))
        print(f"{rounds} rounds; python -c 'import typer': median {statistics.median(typer) * 1000:.0f} ms")
        print(f"the slowest tool that verify had to ask: median {statistics.median(slowest) * 1000:.0f} ms")
        for name, measured in times.items():
            less = slowest if name == "dokimon verify" else [0.0] * rounds
            ratios = [(mine - tool) / base for mine, tool, base in zip(measured, less, typer, strict=True)]
            text = " (less the slowest tool)" if name == "dokimon verify" else ""
            print(
                f"{name}: median {statistics.median(measured) * 1000:.0f} ms, "
                f"{statistics.median(ratios):.2f} times `import typer`{text}"
            )


if __name__ == "__main__":
    main()
