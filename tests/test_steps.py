"""Steps that are offered, carried out: the cause that they are of is gone after them, or they show what has to be known.

`pytest -m real` carries out those that fetch nothing; `python tests/test_steps.py [WORD ...]` all, and prints what came.
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
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from dokimon.core.diagnosis.causes import known_causes
from strangers import environment_of

STEPS = tomllib.loads(Path(__file__).with_name("steps.toml").read_text("utf-8"))["step"]
DOKIMON = Path(sys.executable).with_name("dokimon")
SMOKE = [str(DOKIMON), "smoke", "--anyway", "-f", "json"]


def lacking(case: dict[str, Any]) -> list[str]:
    return [name for name in case.get("with", []) if not shutil.which(name)]


def carried_out(case: dict[str, Any]) -> tuple[str, str, str]:
    """What came of the step ("gone", "shows", else what went wrong), the step, and what was said in the end."""
    with tempfile.TemporaryDirectory(prefix="step-") as home:
        folder = Path(home) / "project"
        (folder / ".git").mkdir(parents=True)
        for path, text in case["files"].items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(text.encode())
        environment = environment_of(home) | case.get("environment", {})
        if "setup" in case:
            subprocess.run(["bash", "-c", case["setup"]], cwd=folder, env=environment, check=True)
        first = _said(_in_shell(" ".join(SMOKE), folder, environment))
        named = next((each for each in first if each["name"] == case["cause"]), None)
        if named is None:
            return f"another cause: {[each['name'] for each in first]}", "", json.dumps(first)[:600]
        step = next((each["command"] for each in named["remedies"] if "command" in each), None)
        if step is None:
            return "no command", "", json.dumps(named)
        return _after(step.replace("=…", "=1"), case, folder, environment)


def _after(step: str, case: dict[str, Any], folder: Path, environment: dict[str, str]) -> tuple[str, str, str]:
    """Carry the step out in a shell, as a reader does, and check once more in that shell."""
    if case["then"] == "shows":
        ended = _in_shell(step, folder, environment)
        said = f"{ended.stdout}{ended.stderr}"
        return "shows" if said.strip() else "shows nothing", step, said[:300]
    ended = _in_shell(f"{step}\necho 'and now:'\n{' '.join(SMOKE)}", folder, environment)
    told = _said(ended)
    stays = any(each["name"] == case["cause"] for each in told)
    return "stays" if stays or "and now:" not in ended.stdout else "gone", step, f"{told}{ended.stderr}"[:600]


def _in_shell(line: str, folder: Path, environment: dict[str, str]) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["bash", "-c", line], cwd=folder, env=environment, capture_output=True, text=True, check=False, timeout=280
    )


def _said(ended: subprocess.CompletedProcess[str]) -> list[dict[str, Any]]:
    start = ended.stdout.find("{\n") if "{\n" in ended.stdout else ended.stdout.find('{"')
    report = json.loads(ended.stdout[start:]) if start >= 0 else {}
    parts = [*(report.get("prepared") or []), *(report.get("runs") or [])]
    return [each for part in parts for each in part.get("diagnoses", [])]


@pytest.mark.real
@pytest.mark.parametrize("case", STEPS, ids=[each["cause"] for each in STEPS])
def test_a_step_that_is_offered(case: dict[str, Any]) -> None:
    if case.get("registry"):
        pytest.skip("it fetches something: python tests/test_steps.py")
    if missing := lacking(case):
        pytest.skip(f"no {' and no '.join(missing)} on this machine")
    came, step, said = carried_out(case)
    assert came == case["then"], (step, said)


def _commands() -> list[str]:
    return sorted({step.command for cause in known_causes().values() for step in cause.steps if step.command})


def test_no_step_holds_a_word_that_the_reader_must_replace() -> None:
    assert [
        each for each in _commands() if re.search(r"\b(?:NAME|SCRIPT|FOLDER|PACKAGE|MODULE|FILE|PATH)\b(?!=)", each)
    ] == []


@pytest.mark.program
@pytest.mark.parametrize("command", [each for each in _commands() if each.startswith("dokimon ")])
def test_a_step_that_calls_dokimon_is_a_call_that_it_takes(command: str, tmp_path: Path) -> None:
    ended = subprocess.run(
        [str(DOKIMON), *command.split()[1:]], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert ended.returncode in (0, 1, 3), ended.stderr


def main(words: list[str]) -> None:
    """Carry out the steps whose cause has one of the words, all by default."""
    wanted = [case for case in STEPS if not words or any(word in case["cause"] for word in words)]
    wanted = [case for case in wanted if not lacking(case)]
    with ThreadPoolExecutor(3) as pool:
        came = list(pool.map(carried_out, wanted))
    for case, (what, step, said) in zip(wanted, came, strict=True):
        right = what == case["then"]
        print(
            f"{'ok   ' if right else 'WRONG'} {what:<8} {case['cause']:<26} $ {step}"
            + ("" if right else f"\n      {said}")
        )
    print(Counter(what for what, _, _ in came))


if __name__ == "__main__":
    main(sys.argv[1:])
