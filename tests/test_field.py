"""Strangers' projects, healthy and broken, started for real: nothing broken passes, nothing healthy fails.

`pytest -m field` carries them out; `python tests/test_field.py` prints what came of each, and the counts by kind.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from strangers import environment_of

FOLDER = Path(__file__).with_name("field")
DOKIMON = Path(sys.executable).with_name("dokimon")


def cases() -> Iterator[dict[str, Any]]:
    for path in sorted(FOLDER.glob("*.toml")):
        for case in tomllib.loads(path.read_text("utf-8"))["case"]:
            yield {"field": path.stem, **case}


def lacking(case: dict[str, Any]) -> list[str]:
    return [name for name in case.get("with", _USES.get(case["field"], [])) if not shutil.which(name)]


_USES = {
    "node": ["node", "npm"],
    "ruby": ["ruby"],
    "php": ["php"],
    "go": ["go"],
    "java": ["java", "javac"],
    "perl": ["perl"],
}


def started(case: dict[str, Any]) -> dict[str, Any]:
    """Smoke-check the case in a folder of its own; return the report."""
    with tempfile.TemporaryDirectory(prefix="field-") as name:
        folder = Path(name) / "project"
        (folder / ".git").mkdir(parents=True)
        for path, text in case["files"].items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(text.encode())
            if path.endswith(".sh"):
                (folder / path).chmod(0o755)
        if "setup" in case:
            subprocess.run(["sh", "-c", case["setup"]], cwd=folder, check=True)
        command = [str(DOKIMON), "smoke", "--anyway", "-f", "json"]
        ended = subprocess.run(
            command,
            cwd=folder,
            env=environment_of(name),
            capture_output=True,
            text=True,
            check=False,
            timeout=300,
        )
        if not ended.stdout.startswith("{"):
            return {"verdict": f"refused: {ended.stderr.strip()[:200]}", "runs": []}
        report: dict[str, Any] = json.loads(ended.stdout)
        return report


def fits(case: dict[str, Any], report: dict[str, Any]) -> bool:
    """A broken one must not pass, a healthy one must; and the cause is what it is said to be."""
    right = (report["verdict"] == "passed") == case["works"] and not report["verdict"].startswith("refused")
    told = causes_of(report)
    says = re.search(case.get("says", ""), told, re.IGNORECASE | re.DOTALL) is not None
    first = next((run["command"] for run in report["runs"]), "")
    says = says and re.search(case.get("starts", ""), first) is not None
    return right and says and not ("never" in case and re.search(case["never"], told, re.IGNORECASE | re.MULTILINE))


def causes_of(report: dict[str, Any]) -> str:
    """What is said of why: the causes, their lines and places, the steps; and the reasons."""
    lines = []
    for of in [*(report.get("prepared") or []), *(report.get("runs") or [])]:
        for each in [*of.get("diagnoses", []), *of.get("noticed", [])]:
            steps = " ".join(f"{step['say']} $ {step.get('command', '')}" for step in each.get("remedies", []))
            lines.append(f"{each['cause']} | {each.get('line', '')} | {each.get('at', '')} | {steps}")
        lines.append(of["reason"])
    return "\n".join(lines)


@pytest.mark.field
@pytest.mark.parametrize("case", [pytest.param(each, id=f"{each['field']}: {each['is']}") for each in cases()])
def test_a_strangers_project(case: dict[str, Any]) -> None:
    if missing := lacking(case):
        pytest.skip(f"no {' and no '.join(missing)} on this machine")
    report = started(case)
    assert fits(case, report), (report["verdict"], causes_of(report))


def main(chosen: list[str]) -> None:
    """Carry out those cases whose field or name has one of the words, all by default."""
    wanted = [
        each for each in cases() if not chosen or any(word in f"{each['field']}: {each['is']}" for word in chosen)
    ]
    wanted = [each for each in wanted if not lacking(each)]
    with ThreadPoolExecutor(4) as pool:
        reports = list(pool.map(started, wanted))
    counts: Counter[tuple[str, bool]] = Counter()
    for case, report in zip(wanted, reports, strict=True):
        right = fits(case, report)
        counts[case.get("kind", "healthy"), right] += 1
        reason = "; ".join(each["reason"] for each in report["runs"])
        seconds = report.get("seconds") or 0
        name = f"{case['field']}: {case['is']}"
        print(
            f"{'ok   ' if right else 'WRONG'} {report['verdict']:<8} {seconds:5.1f} s  {name}\n        {reason[:230]}"
        )
    for kind in sorted({kind for kind, _ in counts}):
        right, wrong = counts[kind, True], counts[kind, False]
        print(f"{kind:<24} {right} of {right + wrong} right")


if __name__ == "__main__":
    main(sys.argv[1:])
