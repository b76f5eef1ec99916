"""How long commands take, next to what they cannot do without: `python bench/startup.py [ROUNDS]`.

With `--compare REV`, each command of this checkout next to the same of that revision, each installed in a fresh environment
of its own: run it before a change is committed that touches what every command loads.

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
_HERE = Path(__file__).parents[1]
_COMPARED = (
    ["--version"], ["--help"], ["needs"], ["verify"], ["verify", "--no-record"], ["verify", "--format", "json"],
    ["tools", "git"], ["path"], ["smoke", "--show-plan"], ["history"],
)  # fmt: skip


def _seconds(command: list[str], folder: Path, environment: dict[str, str] | None = None) -> float:
    started = time.perf_counter()
    subprocess.run(
        command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False
    )
    return time.perf_counter() - started


def main(rounds: int) -> None:
    """Measure and print."""
    dokimon = str(Path(sys.executable).with_name("dokimon"))
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "sample"
        copy_sample(FERRIES, folder)
        commands = {
            "dokimon --version": [dokimon, "--version"],
            "dokimon --help": [dokimon, "--help"],
            "dokimon verify": [dokimon, "verify"],
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


def compare(revision: str, rounds: int) -> None:
    """Measure this checkout and a revision by turns, and print how much longer each command takes now."""
    with tempfile.TemporaryDirectory() as temporary:
        folder, source = Path(temporary) / "sample", Path(temporary) / "source"
        copy_sample(FERRIES, folder)
        source.mkdir()
        archive = subprocess.run(["git", "archive", revision], cwd=_HERE, check=True, capture_output=True).stdout
        subprocess.run(["tar", "x"], cwd=source, input=archive, check=True)
        before, now = _installed(Path(temporary) / "before", source), _installed(Path(temporary) / "now", _HERE)
        home = {**os.environ, "HOME": temporary}
        print(f"{rounds} rounds; this checkout next to {revision}")
        for command in _COMPARED:
            pairs = []
            for number in range(rounds + 1):
                pair = [
                    _seconds([place, *command], folder, home) for place in (now, before)[:: 1 if number % 2 else -1]
                ]
                pairs.append(pair if number % 2 else pair[::-1])
            pairs = pairs[1:]  # the first fills what is kept
            ratio = statistics.median(mine / other for mine, other in pairs)
            mine, other = (statistics.median(each[side] for each in pairs) * 1000 for side in (0, 1))
            print(f"dokimon {' '.join(command)}: {mine:.0f} ms, before {other:.0f} ms: {ratio:.2f} times")


def _installed(place: Path, source: Path) -> str:
    """Install a source in an environment of its own, compiled; return its program."""
    subprocess.run([_PYTHON, "-m", "venv", place], check=True)
    python = str(place / "bin/python")
    subprocess.run([python, "-m", "pip", "install", "-q", str(source)], check=True, stderr=subprocess.DEVNULL)
    subprocess.run([python, "-m", "compileall", "-q", str(place / "lib")], check=False)
    return str(place / "bin/dokimon")


if __name__ == "__main__":
    arguments = sys.argv[1:]
    asked = arguments.index("--compare") if "--compare" in arguments else None
    wanted = arguments.pop(asked + 1) if asked is not None else ""
    numbers = [int(each) for each in arguments if each.isdecimal()]
    if wanted:
        compare(wanted, *(numbers or [20]))
    else:
        main(*(numbers or [20]))
