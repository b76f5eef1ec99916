"""`verify` next to a shell that asks each tool in turn: `python bench/twelve_tools.py [ROUNDS]`.

Twelve tools, or those of them that are on PATH, which the manifests of five ecosystems and a dokimon.toml ask for. Each
round runs all sides once, one after the other, so that a slow moment of the machine hits all alike; the figures are the
medians of the ratios within a round.
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


_MANIFESTS = {
    "package.json": """{
  "name": "board", "version": "1.4.0",
  "engines": {"node": ">=12", "npm": ">=6"},
  "scripts": {"start": "node server.js"},
  "dependencies": {"express": "^4.18.0"}
}""",
    "pyproject.toml": """[build-system]
requires = ["hatchling>=1.26"]
build-backend = "hatchling.build"
[project]
name = "tides"
version = "1.0"
requires-python = ">=3.8"
dependencies = ["httpx>=0.27", "pip>=20"]
""",
    "CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(buoy C)\nadd_executable(buoy buoy.c)\n",
    "Cargo.toml": '[package]\nname = "pier"\nversion = "0.1.0"\nedition = "2021"\nrust-version = "1.60"\n',
    "pom.xml": """<?xml version="1.0"?>
<project xmlns="http://maven.apache.org/POM/4.0.0">
  <modelVersion>4.0.0</modelVersion>
  <groupId>example.saltmarsh</groupId><artifactId>quay</artifactId><version>1.0</version>
  <properties><maven.compiler.release>11</maven.compiler.release></properties>
</project>
""",
}
_NEEDED = ("git", "gcc", "javac", "pip", "cargo")
"""What dokimon.toml asks for besides: five needs."""


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
        for name, text in _MANIFESTS.items():
            (folder / name).write_text(text)
        needs = "".join(f'[[need]]\ntool = "{tool}"\nversion = ">=0.1"\n' for tool in _NEEDED)
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
