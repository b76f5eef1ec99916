"""Many checkouts in one call: `python bench/several.py [ROUNDS]`.

A folder of 200 small projects of six ecosystems, each with sources and a folder that tools filled. Measured: how long
finding them takes, next to a walk that skips what tools filled; and `dokimon verify` of all of them, cold (no answer of any
tool known) and warm.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dokimon.core.declarations.walking import FILLED_BY_TOOLS
from dokimon.core.jobs.several import checkouts_in

PROJECTS = 200
MANIFESTS = (
    ("package.json", json.dumps({"name": "board", "engines": {"node": ">=18"}, "scripts": {"start": "node a.js"}})),
    ("pyproject.toml", '[project]\nname = "tides"\nversion = "1"\nrequires-python = ">=3.9"\n'),
    ("go.mod", "module saltmarsh.example/buoy\n\ngo 1.22\n"),
    ("Cargo.toml", '[package]\nname = "pier"\nversion = "0.1.0"\nrust-version = "1.75"\n'),
    ("composer.json", json.dumps({"require": {"php": "^8.1"}})),
    ("Gemfile", 'ruby ">= 3.1"\n'),
)


def make(folder: Path) -> None:
    for number in range(PROJECTS):
        project = folder / f"quay{number % 10}" / f"project{number:03}"
        for name, count in (("src", 40), ("node_modules/package", 30)):
            (project / name).mkdir(parents=True)
            for each in range(count):
                (project / name / f"file{each}.js").write_text("")
        name, text = MANIFESTS[number % len(MANIFESTS)]
        (project / name).write_text(text)


def walk(folder: str) -> None:
    waiting = [folder]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for each in entries:
                if each.is_dir(follow_symlinks=False) and each.name not in FILLED_BY_TOOLS:
                    waiting.append(each.path)


def seconds(call: object) -> float:
    begun = time.perf_counter()
    call()  # type: ignore[operator]
    return time.perf_counter() - begun


def verify(folder: Path, home: Path) -> float:
    environment = {**os.environ, "HOME": str(home)}
    dokimon = Path(sys.executable).with_name("dokimon")
    return seconds(
        lambda: subprocess.run([dokimon, "verify", "-q"], cwd=folder, env=environment, check=False, capture_output=True)
    )


def main(rounds: int) -> None:
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made, "fleet")
        make(folder)
        walk(str(folder))
        found = [(seconds(lambda: checkouts_in([folder])), seconds(lambda: walk(str(folder)))) for _ in range(rounds)]
        print(f"found, next to the walk: {statistics.median(mine / other for mine, other in found):.2f}")
        cold, warm = [], []
        for number in range(max(rounds // 5, 3)):
            home = Path(made, f"home{number}")
            home.mkdir()
            cold.append(verify(folder, home))
            warm.append(verify(folder, home))
            shutil.rmtree(home)
        print(
            f"verify of {PROJECTS} projects: {statistics.median(cold):.1f} s cold, {statistics.median(warm):.1f} s warm"
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 15)
