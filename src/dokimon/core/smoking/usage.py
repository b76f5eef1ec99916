"""A command-line program that wants arguments: told by its usage message, and looked at by its help and its version."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.output import Output
from dokimon.core.processes.readiness import Awaited, wait_until_up
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.reading.manifest import toml_or_nothing
from dokimon.core.report.model import Check, CheckVerdict, Run
from dokimon.core.text import clean

_WANTS = expression(
    r"(?i)^[ \t]*usage\b\s*:?|^[ \t]*(?:synopsis|syntax)\s*:|\btry ['\"`]?.{1,60}(?:--help|-h|help)\b"
    r"|for more information,? try"
    r"|the following (?:required )?arguments (?:are required|were not provided)"
    r"|missing (?:required )?(?:argument|command|operand)|required (?:option|argument|flag).{0,60}(?:not|missing)"
    r"|too few arguments|not enough arguments|requires? at least \d+ arg|expected (?:at least )?\w+ arguments?"
    r"|no (?:command|task|input files?|arguments?|application \w+(?: \w+)?) (?:given|specified|provided)"
    r"|^[ \t]*(?:available )?(?:commands|subcommands|options):?\s*$"
)
_FIRST_LINES = 8
"""Among which the usage stands, where a program only shows its help."""

_FAILED = expression(
    r"^Traceback \(most recent call last\)|^panic: |\bat .+:\d+:\d+\)?$|Segmentation fault|core dumped"
    r"|panicked at |^(?:Exception|Error) in thread |Uncaught |^Unhandled "
)
_WITHIN = 20.0
_ENDS_OPTIONS = {"npm": "--", "cargo": "--", "dotnet": "--"}
"""Programs that start another one, and what stands before the arguments that are for that one."""

_CANNOT_PASS_ON = frozenset({"make", "mvn", "gradle", "just", "task", "mix", "sh", "bash"})


def look_at_help(
    run: Run, folder: Path, argv: list[str], variables: Mapping[str, str], lines: Sequence[str], halt: threading.Event
) -> Run:
    """Return the run judged by its help, where it wants arguments or has only shown its help; else as it is."""
    line = next((line for line in lines if _WANTS.search(line)), None)
    if line is None or any(_FAILED.search(each) for each in lines):
        return run
    rest = [each.strip() for each in lines[lines.index(line) + 1 :] if each.strip()]
    whole = f"{line.strip()} {rest[0]}" if re.fullmatch(r"\W*\w+:\W*", line) and rest else line.strip()
    shown = clean(whole, 100)
    if run.exit_status == 0 and lines.index(line) >= _FIRST_LINES:
        return run  # something that it printed while it worked
    if run.exit_status == 0:
        version = _version_check(folder, argv, variables, halt)
        checks = (*run.checks, *([version] if version else []))
        return _judged(run, checks, f"it shows its help (“{shown}”) and ends")
    if not _passes_on(argv):
        reason = f"it wants arguments (“{shown}”): say in dokimon.toml what it is started with"
        return msgspec.structs.replace(run, kind="program", verdict="unsure", reason=reason)
    help_check = _asked(folder, argv, "--help", variables, halt)
    if help_check is None:
        return run
    status, text = help_check
    # Many a program shows its help as if it were a fault, with another exit status than 0.
    is_help = bool(text.strip()) and (status == 0 or any(_WANTS.search(each) for each in text.splitlines()))
    verdict: CheckVerdict = "passed" if is_help and not _FAILED.search(text) else "failed"
    seen = f"{len(text.splitlines())} lines, {how_ended(status)}"
    checks = (Check(name="--help", verdict=verdict, expected="its help", seen=seen),)
    version = _version_check(folder, argv, variables, halt)
    return _judged(run, (*checks, *([version] if version else [])), f"it wants arguments (“{shown}”)")


def look_at_command(
    run: Run, folder: Path, argv: list[str], variables: Mapping[str, str], lines: Sequence[str], halt: threading.Event
) -> Run:
    """Return the run of a command that failed without arguments, left open where its help works.

    Many a command wants a file, a folder or a service to work on, and says so in its own words.
    """
    if any(_FAILED.search(each) for each in lines) or not _passes_on(argv):
        return run
    answer = _asked(folder, argv, "--help", variables, halt)
    if answer is None or answer[0] != 0 or not answer[1].strip():
        return run
    said = next((clean(each.strip(), 100) for each in lines if each.strip()), None)
    reason = (
        f"it {how_ended(run.exit_status)}{f' (“{said}”)' if said else ''}, but its --help works: say in dokimon.toml "
    )
    reason += "what it is started with"
    seen = f"{len(answer[1].splitlines())} lines, {how_ended(0)}"
    checks = [Check(name="--help", verdict="passed", expected="its help", seen=seen)]
    if version := _version_check(folder, argv, variables, halt):
        checks.append(version)
    return msgspec.structs.replace(
        run, kind="program", verdict="unsure", reason=reason, checks=tuple(checks), diagnoses=()
    )


def _judged(run: Run, checks: tuple[Check, ...], reason: str) -> Run:
    wrong = next((check for check in checks if check.verdict == "failed"), None)
    if wrong:
        reason = f"{reason}; {wrong.name}: {wrong.seen} (expected: {wrong.expected})"
    return msgspec.structs.replace(
        run, kind="program", verdict="failed" if wrong else "passed", reason=reason, checks=checks
    )


def _version_check(folder: Path, argv: list[str], variables: Mapping[str, str], halt: threading.Event) -> Check | None:
    """Hold what `--version` says against the version of the manifest; None where one of both is not to be had."""
    declared = version_of(folder)
    answer = _asked(folder, argv, "--version", variables, halt) if declared else None
    if declared is None or answer is None or answer[0] != 0:
        return None
    version, place = declared
    said = re.search(r"\d+\.\d+[\w.+-]*", answer[1])
    if said is None:
        return None
    fits = re.search(rf"(?<![\d.]){re.escape(version)}(?![\d])", answer[1]) is not None
    verdict: CheckVerdict = "passed" if fits else "failed"
    return Check(name="--version", verdict=verdict, expected=f"{version}, as {place} says", seen=clean(said[0], 60))


def _passes_on(argv: list[str]) -> bool:
    """Whether what is started gets the arguments behind its command; a shell passes them on where its line says so."""
    return Path(argv[0]).name not in _CANNOT_PASS_ON or any('"$@"' in word for word in argv[1:3])


def _asked(
    folder: Path, argv: list[str], option: str, variables: Mapping[str, str], halt: threading.Event
) -> tuple[int | None, str] | None:
    """Return how the program ends with one option, and what it prints; None where it does not end in time."""
    name = Path(argv[0]).name
    if not _passes_on(argv):
        return None
    output = Output()
    more = [_ENDS_OPTIONS[name]] if name in _ENDS_OPTIONS else []
    try:
        tree = Tree.start([*argv, *more, option], folder, variables, output)
    except StartFault:
        return None
    try:
        state = wait_until_up(tree, Awaited(within=_WITHIN, ends=True), halt)
        output.wait(1.0)
        stop(tree)
    finally:
        tree.close()
    return (tree.exit_status, output.text()) if state.how == "ended" else None


def _json(text: str) -> Any:
    try:
        return json.loads(text or "{}")
    except (ValueError, RecursionError):
        return {}


def version_of(folder: Path) -> tuple[str, str] | None:
    """Return the version that a manifest in the folder gives the project, and the name of the manifest."""
    for name, ways in (
        ("pyproject.toml", (("project", "version"), ("tool", "poetry", "version"))),
        ("package.json", (("version",),)),
        ("Cargo.toml", (("package", "version"),)),
    ):
        text = text_of(folder / name)
        data: Any = _json(text) if name.endswith(".json") else toml_or_nothing(text)
        for way in ways:
            found = data
            for key in way:
                found = found.get(key) if isinstance(found, dict) else None
            if isinstance(found, str):
                return found, name
    found = re.search(r"^version\s*=\s*(\d\S*)", text_of(folder / "setup.cfg"), re.MULTILINE)
    return (found[1], "setup.cfg") if found else None
