"""`verify` next to a shell that asks each tool in turn: `python bench/twelve_tools.py [ROUNDS]`.

Twelve tools, or those of them that are on PATH. Each round runs all sides once, one after the other, so that a slow
moment of the machine hits all alike; the figures are the medians of the ratios within a round.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))

_ASKED = {
    "node": "node --version", "npm": "npm --version", "python": "python --version", "pip": "pip --version",
    "git": "git --version", "gcc": "gcc --version", "cmake": "cmake --version", "java": "java -version",
    "javac": "javac -version", "maven": "mvn --version", "cargo": "cargo --version", "rustc": "rustc --version",
}  # fmt: skip


def _seconds(command: list[str], folder: Path, environment: dict[str, str]) -> float:
    started = time.perf_counter()
    subprocess.run(
        command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False
    )
    return time.perf_counter() - started


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    # A Python environment would hide the machine's own python and pip from both sides.
    own = str(Path(sys.executable).parent)
    path = os.pathsep.join(each for each in os.environ["PATH"].split(os.pathsep) if each != own)
    here = {tool: line for tool, line in _ASKED.items() if shutil.which(line.split()[0], path=path)}
    with tempfile.TemporaryDirectory() as temporary:
        folder, kept = Path(temporary) / "harbour", Path(temporary) / "kept"
        folder.mkdir()
        needs = "".join(f'[[need]]\ntool = "{tool}"\nversion = ">=0.1"\n' for tool in here)
        (folder / "dokimon.toml").write_text(f"format = 1\n{needs}")
        shell = ["/bin/sh", "-c", "; ".join(here.values())]
        verify = [_DOKIMON, "verify"]
        environment = {**os.environ, "PATH": path}
        with_cache = {**environment, "XDG_CACHE_HOME": str(kept)}
        _seconds(verify, folder, with_cache)
        times: dict[str, list[float]] = {"shell": [], "without": [], "with": []}
        for number in range(rounds):
            times["shell"].append(_seconds(shell, folder, environment))
            empty = str(Path(temporary) / f"empty{number}")
            times["without"].append(_seconds(verify, folder, {**environment, "XDG_CACHE_HOME": empty}))
            times["with"].append(_seconds(verify, folder, with_cache))
    print(f"{rounds} rounds; {len(here)} tools: {', '.join(here)}")
    print(f"a shell asking each in turn: median {statistics.median(times['shell']) * 1000:.0f} ms")
    for name in ("without", "with"):
        ratios = [mine / theirs for mine, theirs in zip(times[name], times["shell"], strict=True)]
        median = statistics.median(times[name]) * 1000
        print(
            f"dokimon verify {name} its cache: median {median:.0f} ms, {statistics.median(ratios):.2f} times the shell"
        )


if __name__ == "__main__":
    main()
