"""`python tests/real/compare.py [FOLDER ...]`: hold what Dokimon says of each tool against what the tool itself prints.

The folders are put first on PATH. Prints a table in Markdown: each copy that a command reaches, its version as Dokimon knows
it and how, the line in which the program names it, and whether both agree. Ends with 1 where one does not.
"""

from __future__ import annotations

import datetime
import os
import platform
import subprocess
import sys
import tempfile
from pathlib import Path

from dokimon.core.jobs.tools import tools_report
from dokimon.core.jobs.workspace import open_workspace

_MORE_WAYS = {"java": ["-version"], "javac": ["-version"], "go": ["version"], "ant": ["-version"], "scala": ["-version"],
    "gradle": ["--version"], "erlang": ["-noshell", "-eval", 'io:fwrite("~s", [erlang:system_info(otp_release)]), halt().'],
    "openssl": ["version"], "lua": ["-v"], "hugo": ["version"], "zig": ["version"], "tclsh": None, "ffmpeg": ["-version"],
    "nginx": ["-v"], "adb": ["version"], "android-sdk": None, "kubectl": ["version", "--client"], "vim": ["--version"],
    "qmake": ["-query", "QT_VERSION"]}  # fmt: skip


def main() -> None:
    """Compare, and print the table."""
    with tempfile.TemporaryDirectory() as place:
        environment = {**os.environ, "PATH": os.pathsep.join([*sys.argv[1:], os.environ["PATH"]]), "JAVA_OPTS": ""}
        workspace = open_workspace(Path(place), environment)
        names = workspace.catalogue.names()
        report = tools_report(workspace, names, environment, asked=(), with_parts=False, fresh=True)
        rows, wrong, unknown = [], 0, 0
        for copy in report.installations:
            if not copy.reached:
                continue
            line = _says(copy.tool, copy.program, environment, place)
            words = line.split() if line else []
            # Erlang's own answer is the line alone: 25, of 25.2.3.
            agrees = copy.version is not None and any(
                copy.version in word or (word.isdecimal() and copy.version.startswith(f"{word}.")) for word in words
            )
            if copy.version is None:
                unknown += 1
            elif not agrees:
                wrong += 1
            shown = line.strip()[:70].replace("|", "\\|") if line else "nothing with a version"
            how = {"file": "a file", "asked": "asked", "cache": "asked before"}.get(
                copy.known_by or "", copy.reason or ""
            )
            verdict = "yes" if agrees else ("not known" if copy.version is None else "no")
            rows.append(f"| {copy.tool} | {copy.version or '?'} | {how[:60]} | {shown} | {verdict} |")
    today = f"{datetime.datetime.now(datetime.UTC):%Y-%m-%d}"
    print(
        f"{today}, {report.system.release if report.system else platform.system()}: {len(rows)} tools reached, ", end=""
    )
    print(f"{len(rows) - wrong - unknown} agree, {wrong} do not, {unknown} not known.\n")
    print("| tool | Dokimon says | known by | the tool prints | agree |\n|---|---|---|---|---|")
    print("\n".join(rows))
    sys.exit(1 if wrong else 0)


def _says(tool: str, program: str, environment: dict[str, str], place: str) -> str | None:
    """Return the line in which a program names its version, asked as a person would; None where it has none."""
    ways = _MORE_WAYS.get(tool, ["--version"])
    if ways is None:
        return None
    try:
        ended = subprocess.run(
            [program, *ways], cwd=place, env=environment, stdin=subprocess.DEVNULL, capture_output=True, text=True,
            timeout=60, check=False, errors="replace",
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired):
        return None
    lines = [line for line in (ended.stdout + "\n" + ended.stderr).splitlines() if any(char.isdigit() for char in line)]
    return " ".join(lines[:4]) if lines else None


if __name__ == "__main__":
    main()
