"""Every built-in template of .NET, fresh from `dotnet new`: what Dokimon says, and its time beside a bare run.

    python bench/dotnet_templates.py [TEMPLATE ...]

A bare run is counted until the program ends or says that it listens or has started. Prints a table for docs/field-trial.md.
"""

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

DOKIMON = Path(sys.executable).with_name("dokimon")
TEMPLATES = [
    "console:C#", "console:F#", "console:VB", "worker:C#", "worker:F#", "web:C#", "web:F#", "webapi:C#", "webapi:F#",
    "webapiaot:C#", "mvc:C#", "mvc:F#", "webapp:C#", "blazor:C#", "blazorwasm:C#", "grpc:C#", "mcpserver:C#", "winforms:C#",
    "classlib:C#", "classlib:F#", "classlib:VB", "razorclasslib:C#", "xunit:C#", "nunit:C#", "mstest:C#",
]  # fmt: skip
UP = re.compile(r"Now listening on|Application started")


def made(template: str, language: str, folder: Path) -> bool:
    """Make a fresh project of a template; return whether that worked."""
    command = ["dotnet", "new", template, "-lang", language, "-n", "Tides", "-o", str(folder), "--no-restore"]
    ended = subprocess.run(command, capture_output=True, text=True, check=False)
    (folder / ".git").mkdir(parents=True, exist_ok=True)
    return ended.returncode == 0


def checked(folder: Path) -> tuple[str, float]:
    """Return what a smoke check says, and its seconds."""
    began = time.monotonic()
    ended = subprocess.run(
        [DOKIMON, "smoke", "--anyway", "-f", "json"], cwd=folder, capture_output=True, text=True, check=False
    )
    spent = time.monotonic() - began
    if not ended.stdout.startswith("{"):
        return ended.stderr.strip().partition("\n")[2].partition("\n")[0].removeprefix("dokimon: ")[:90], spent
    report = json.loads(ended.stdout)
    failed = next((each for each in report.get("prepared") or [] if each["verdict"] == "failed"), None)
    if failed:
        return f"not prepared: {(failed['diagnoses'] or [{'cause': failed['reason']}])[0]['cause']}"[:120], spent
    return f"{report['verdict']}: {report['runs'][0]['reason']}", spent


def bare(folder: Path) -> float | None:
    """Return the seconds of a bare `dotnet run` until it is up or has ended well; None where it failed."""
    began = time.monotonic()
    run = subprocess.Popen(
        ["dotnet", "run"],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        start_new_session=True,
    )
    up = any(UP.search(line) for line in run.stdout or ())
    spent = time.monotonic() - began
    if up:
        os.killpg(run.pid, signal.SIGINT)
    return spent if (run.wait(30) == 0 or up) else None


def main(chosen: list[str]) -> None:
    """Print a row for each template."""
    print("| template | what Dokimon says | smoke | bare run |\n|---|---|---|---|")
    for each in chosen or TEMPLATES:
        template, _, language = each.partition(":")
        with tempfile.TemporaryDirectory() as name:
            one, two = Path(name) / "one", Path(name) / "two"
            if not (made(template, language, one) and made(template, language, two)):
                print(f"| {each} | `dotnet new` fails here | | |")
                continue
            said, spent = checked(one)
            alone = bare(two) if said.startswith("passed") else None
            print(f"| {each} | {said} | {spent:.1f} s | {f'{alone:.1f} s' if alone else ''} |", flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
