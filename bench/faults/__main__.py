"""Faults put one at a time into healthy projects: how many are seen, and how many are named.

    python bench/faults [--project NAME] [--fault NAME] [--jobs N] [--to FOLDER] [--page FILE] [--sample N] [--by-hand]

Each cell is a copy of a project with one edit, which is smoke-checked. What was said is kept as a line of JSON in FOLDER, so
that an interrupted run goes on where it was. `--page` writes the table into a page, between its two marks.

A cell that passes or does not name its fault is started by hand beside the project unharmed (all cells with `--by-hand`):
where the two starts do not differ, the fault breaks nothing there, and the cell is taken out.
"""

import argparse
import json
import os
import random
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import tomllib
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from by_hand import differs, started

HERE = Path(__file__).parent
DOKIMON = Path(sys.executable).with_name("dokimon")
TOOLS = {
    "py": ["python3"], "js": ["node"], "html": ["python3"], "go": ["go"], "rb": ["ruby"], "php": ["php"], "pl": ["perl"],
    "rs": ["cargo"], "java": ["java"], "c": ["cc", "make"], "sh": ["bash"],
    "cs": ["dotnet"], "ex": ["mix"],
}  # fmt: skip
SETS = ("projects.toml", "starters.toml", "others.toml")
BEGIN, END = "<!-- faults: begin -->", "<!-- faults: end -->"
UNHARMED = "none"


class EditFault(Exception):
    """An edit that does not apply: an error of the matrix, and no pass."""


class Cell(NamedTuple):
    """A project with one fault, or unharmed."""

    project: str
    fault: str


def projects() -> dict[str, dict[str, Any]]:
    """Return the projects whose tools are here; those that cannot be prepared are named, and left out."""
    read = {name: each for file in SETS for name, each in tomllib.loads((HERE / file).read_text("utf-8")).items()}
    found = {}
    for name, each in read.items():
        lacking = [tool for tool in [*TOOLS[each["language"]], *each.get("needs", [])] if not shutil.which(tool)]
        if lacking:
            print(f"{name}: left out, no {' and no '.join(lacking)} here", file=sys.stderr)
        else:
            found[name] = each
    return found


def fetched(name: str, project: dict[str, Any], cache: Path) -> Path | None:
    """Return a folder with the project and what it needs of the registries, fetched once; raises `CalledProcessError`."""
    if "fetch" not in project:
        return None
    folder = cache / name
    if not (folder / ".fetched").exists():
        shutil.rmtree(folder, ignore_errors=True)
        _write(folder, {file: text.lstrip("\n") for file, text in project["files"].items()})
        subprocess.run(["bash", "-c", project["fetch"]], cwd=folder, check=True, capture_output=True, timeout=900)
        (folder / ".fetched").touch()
    return folder


def _write(folder: Path, files: dict[str, str]) -> None:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        path.chmod(0o755 if name.endswith(".sh") else 0o644)


def faults() -> dict[str, dict[str, Any]]:
    """Return the faults, by name."""
    read = tomllib.loads((HERE / "faults.toml").read_text("utf-8"))
    return {name: {**each, "name": name} for name, each in read.items()}


def applies(project: dict[str, Any], fault: dict[str, Any]) -> bool:
    """Whether a fault makes sense in a project."""
    if project["kind"] not in fault.get("kinds", [project["kind"]]):
        return False
    if fault["place"] == "port":
        return _port(project) is not None and "PORT" not in str(project["files"])  # such a one is given a free port
    if fault["place"] == "file":
        return (fault.get("remove") or fault["change"]) in project["files"]
    if fault["place"] in ("start", "handler") and fault["place"] not in project:
        return False
    if "{health:" in fault.get("all", ""):
        return "health" in project
    return project["language"] in fault or "all" in fault or fault["name"] in project


def edited(project: dict[str, Any], fault: dict[str, Any]) -> dict[str, str]:
    """Return the files of a project with the fault in it; raises `EditFault`."""
    files = {name: text.lstrip("\n") for name, text in project["files"].items()}
    if fault["place"] == "port":
        return files
    if fault["place"] == "file":
        name = fault.get("remove") or fault["change"]
        if name not in files:
            raise EditFault(f"there is no {name}")
        files[name] = fault.get("to", "")
        return {each: text for each, text in files.items() if each != fault.get("remove")}
    name, lines = project["file"], files[project["file"]].splitlines()
    code = _code(project, fault)
    if fault["place"] == "top":
        first = next((n for n, line in enumerate(lines) if not re.match(r"#!|<\?php|package |\s*$", line)), 0)
        lines.insert(first, code)
    else:
        pattern = re.compile(project[fault["place"]])
        at = next((n for n, line in enumerate(lines) if pattern.search(line)), None)
        if at is None:
            raise EditFault(f"no line of {name} is {fault['place']}")
        indent = re.match(r"\s*", lines[at])
        lines[at:at] = [(indent[0] if indent else "") + line for line in code.splitlines()]
    return {**files, name: "\n".join(lines) + "\n"}


def _code(project: dict[str, Any], fault: dict[str, Any]) -> str:
    code = project.get(fault.get("name")) or fault.get(project["language"]) or fault["all"]
    esm = project.get("esm")
    words = {
        "{fs}": '(await import("node:fs"))' if esm else 'require("fs")',
        "{http}": "http",
        "{import}": 'import "saltmarsh-charts";' if esm else 'require("saltmarsh-charts");',
    }
    for word, put in words.items():
        code = code.replace(word, put)
    if esm and "await import" in code:
        code = code.replace('(await import("node:fs"))', "process.getBuiltinModule('fs')")
    return re.sub(r"\{(reply|health):(\d+):([\w/]+):(.*)\}", lambda found: _replied(project, *found.groups()), code)


def _replied(project: dict[str, Any], which: str, status: str, kind: str, body: str) -> str:
    """Return the code by which a project answers with a status, a type and a body: always, or at its /health alone."""
    answer = str(project["reply"]).replace("{status}", status).replace("{type}", kind)
    answer = answer.replace("{body}", json.dumps(body))
    return answer if which == "reply" else str(project["health"]).replace("{}", answer)


@contextmanager
def laid_out(
    project: dict[str, Any], fault: dict[str, Any] | None, ready: Path | None
) -> Iterator[tuple[Path, dict[str, str]]]:
    """Give a copy of a project, from what is `ready` where it had to be fetched, and the variables to start it with."""
    with tempfile.TemporaryDirectory(prefix="fault-", ignore_cleanup_errors=True) as home:
        folder = Path(home) / "project"
        if ready:
            shutil.copytree(ready, folder, symlinks=True)
        (folder / ".git").mkdir(parents=True)
        whole, files = edited(project, {"place": "port"}), edited(project, fault or {"place": "port"})
        _write(folder, {name: text for name, text in files.items() if not ready or text != whole.get(name)})
        for name in project["files"].keys() - files.keys():
            (folder / name).unlink(missing_ok=True)
        kept = {name: value for name, value in os.environ.items() if not name.startswith(("DOKIMON_", "VIRTUAL_ENV"))}
        for tool in ("rustup", "cargo"):
            kept.setdefault(f"{tool.upper()}_HOME", str(Path.home() / f".{tool}"))
        own = {"HOME": home, "XDG_CACHE_HOME": f"{home}/cache", "XDG_STATE_HOME": f"{home}/state"}
        own["GOMODCACHE"] = kept.get("GOMODCACHE", str(Path.home() / "go/pkg/mod"))
        own["GOCACHE"] = kept.get("GOCACHE", str(Path.home() / ".cache/go-build"))
        own["PATH"] = f"{Path(sys.executable).resolve().parent}:{kept['PATH']}"
        yield folder, {**kept, **own}


def carried_out(
    cell: Cell, project: dict[str, Any], fault: dict[str, Any] | None, ready: Path | None, by_hand: bool
) -> dict[str, Any]:
    """Smoke-check one cell and return what came of it; `fault` is none where the project is unharmed."""
    with laid_out(project, fault, ready) as (folder, variables), _held(project, fault):
        ended = subprocess.run(
            [DOKIMON, "smoke", "--anyway", "-f", "json"],
            cwd=folder, env=variables, capture_output=True, text=True, check=False, timeout=400,
        )  # fmt: skip
        found = _judged(cell, fault or {"named": ""}, ended.stdout, ended.stderr)
        if not fault or not (by_hand or found["verdict"] == "passed" or not found["named"]):
            return found
        harmed = started(project, _hand_port(project), folder, variables)
    with laid_out(project, None, ready) as (folder, variables):
        whole = started(project, _hand_port(project), folder, variables)
    return {**found, "by_hand": {"shows": differs(harmed, whole), "harmed": harmed, "whole": whole}}


@contextmanager
def _held(project: dict[str, Any], fault: dict[str, Any] | None) -> Iterator[None]:
    """Hold the port of a project while a cell whose fault is that is carried out."""
    port = _port(project)
    if not fault or fault["place"] != "port" or not port:
        yield
        return
    with socket.create_server(("127.0.0.1", port)):
        yield


def _hand_port(project: dict[str, Any]) -> int | None:
    """Return the port that a start by hand is asked at: its command's, else the source's; none of what is no server."""
    if project["kind"] not in ("server", "page"):
        return None
    named = re.search(r"\b87\d\d\b", project["by_hand"])
    return int(named[0]) if named else _port(project)


def _port(project: dict[str, Any]) -> int | None:
    """Return the port that the source of a project names."""
    port = re.search(r"(?<!\d)87\d\d(?!\d)", " ".join(project["files"].values()))
    return int(port[0]) if port else None


def _judged(cell: Cell, fault: dict[str, Any], out: str, err: str) -> dict[str, Any]:
    if not out.startswith("{"):
        return {**cell._asdict(), "verdict": "refused", "named": False, "told": err.strip()[-300:]}
    report = json.loads(out)
    told = []
    for of in [*(report.get("prepared") or []), *(report.get("runs") or [])]:
        told.append(of["reason"])
        told += [f"{each['cause']} | {each.get('line', '')} | {each.get('at', '')}" for each in of.get("diagnoses", [])]
        told += [each["seen"] for each in of.get("checks", []) if each["verdict"] in ("failed", "unsure")]
        told += [each["name"] for each in of.get("checks", []) if each["verdict"] in ("failed", "unsure")]
    text = "\n".join(told)
    named = re.search(fault["named"], text) is not None
    return {**cell._asdict(), "verdict": report["verdict"], "named": named, "told": text[:1500]}


def table(found: list[dict[str, Any]]) -> str:
    """Return the table of what came of all cells, a row for each project, with its totals, as Markdown."""
    by_cell = {(each["project"], each["fault"]): each for each in found}
    rows = list(dict.fromkeys(each["project"] for each in found))
    columns = list(dict.fromkeys(each["fault"] for each in found if each["fault"] != UNHARMED))
    hidden = [each for each in found if not _shows(each)]
    found = [each for each in found if _shows(each)]
    numbers = "; ".join(f"{number} {name}" for number, name in enumerate(columns, 1))
    lines = [
        f"| project | {' | '.join(map(str, range(1, len(columns) + 1)))} | named |",
        "|---" * (len(columns) + 2) + "|",
    ]
    for name in rows:
        signs = " | ".join(_sign(by_cell.get((name, fault))) for fault in columns)
        lines.append(f"| {name} | {signs} | {_share([each for each in found if each['project'] == name])} |")
    shares = " | ".join(_share([each for each in found if each["fault"] == fault]) for fault in columns)
    broken = [each for each in found if each["fault"] != UNHARMED]
    lines.append(f"| all | {shares} | {_share(broken)} |")
    unharmed = [each for each in found if each["fault"] == UNHARMED]
    verdicts = Counter(each["verdict"] for each in broken)
    named = sum(each["named"] for each in broken if each["verdict"] != "passed")
    totals = (
        f"{len(broken)} cells: {verdicts['failed']} failed, {verdicts['unsure']} unsure, {verdicts['passed']} passed, "
        f"{verdicts['refused']} not started; of those that did not pass {named} name the fault. "
        f"Unharmed, {sum(each['verdict'] == 'passed' for each in unharmed)} of {len(unharmed)} pass."
    )
    key = "n: failed or unsure, and the fault is named; s: the same, and it is not; **P**: it passed, and should not."
    out = [f"{each['project']}, {each['fault']} ({each['verdict']})" for each in hidden]
    taken = f"Taken out, since started by hand they do as the unharmed do: {'; '.join(out)}." if out else ""
    return "\n".join([totals, taken, "", key, f"The faults: {numbers}.", "", *lines])


def _shows(found: dict[str, Any]) -> bool:
    """Whether a fault shows where the cell is started by hand: taken for granted where nobody looked."""
    return "by_hand" not in found or bool(found["by_hand"]["shows"])


def _sign(found: dict[str, Any] | None) -> str:
    if found is None:
        return ""
    if not _shows(found):
        return "–"
    return "**P**" if found["verdict"] == "passed" else "n" if found["named"] else "s"


def _share(found: list[dict[str, Any]]) -> str:
    broken = [each for each in found if each["fault"] != UNHARMED]
    return f"{sum(each['named'] and each['verdict'] != 'passed' for each in broken)}/{len(broken)}"


def main() -> None:
    """Carry out the cells that are asked for and not known yet; print those that pass or are not named, and the totals."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--project", action="append")
    parser.add_argument("--fault", action="append")
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--to", type=Path, default=Path(tempfile.gettempdir()) / "dokimon-faults")
    parser.add_argument("--page", type=Path)
    parser.add_argument("--by-hand", action="store_true", help="start each cell by hand too, and keep what both showed")
    parser.add_argument("--sample", type=int, help="this many cells alone, the same each time; fails where one passes")
    asked = parser.parse_args()
    known, edits = projects(), faults()
    cells = [
        Cell(name, fault)
        for name in asked.project or known
        for fault in [UNHARMED, *edits]
        if (fault == UNHARMED or applies(known[name], edits[fault])) and fault in (asked.fault or [fault])
    ]
    if asked.sample:
        cells = random.Random(34).sample(cells, min(asked.sample, len(cells)))
    asked.to.mkdir(parents=True, exist_ok=True)
    kept = asked.to / "cells.jsonl"
    done = (
        {} if not kept.exists() else {(each["project"], each["fault"]): each for each in map(json.loads, kept.open())}
    )
    left = [cell for cell in cells if cell not in done]

    def go(cell: Cell) -> None:
        project, fault = known[cell.project], edits.get(cell.fault)
        found = carried_out(cell, project, fault, ready[cell.project], asked.by_hand)
        done[cell] = found
        with kept.open("a") as file:
            file.write(json.dumps(found) + "\n")

    # Two cells of one project want the same port: the projects go side by side, the faults of each in their turn.
    ready: dict[str, Path | None] = {}
    for name in dict.fromkeys(cell.project for cell in left):
        try:
            ready[name] = fetched(name, known[name], asked.to / "fetched")
        except (subprocess.SubprocessError, OSError) as wrong:
            said = getattr(wrong, "stderr", b"") or b""
            print(f"{name}: left out, it cannot be prepared here: {wrong}\n{said.decode()[-400:]}", file=sys.stderr)
            cells = [cell for cell in cells if cell.project != name]
    left = [cell for cell in left if cell.project in ready]
    turns = [[cell for cell in left if cell.project == name] for name in known]
    with ThreadPoolExecutor(asked.jobs) as pool:
        list(pool.map(lambda mine: [go(cell) for cell in mine], turns))
    found = [done[cell] for cell in cells]
    for each in found:
        if each["verdict"] == ("failed" if each["fault"] == UNHARMED else "passed") or not each["named"]:
            print(f"{each['project']:14} {each['fault']:24} {each['verdict']:8} {each['told'][:260]!r}")
            if "by_hand" in each:
                print(f"{'':14} by hand: {each['by_hand']['shows'] or 'as the unharmed: taken out'}")
    text = table(found)
    print(text.partition("\n")[0])
    if asked.page:
        page = asked.page.read_text("utf-8")
        head, tail = page.partition(BEGIN)[0], page.partition(END)[2]
        asked.page.write_text(f"{head}{BEGIN}\n{text}\n{END}{tail}", "utf-8")
    wrong = [each for each in found if _shows(each) and (each["verdict"] == "passed") != (each["fault"] == UNHARMED)]
    sys.exit(1 if asked.sample and wrong else 0)


if __name__ == "__main__":
    main()
