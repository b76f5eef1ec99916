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
from dokimon.core.processes.to_end import run_to_end
from dokimon.core.processes.tree import StartFault
from dokimon.core.reading.manifest import toml_or_nothing
from dokimon.core.report.model import Check, CheckVerdict
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


class Usage(msgspec.Struct, frozen=True, kw_only=True):
    """What was made of a program that wants arguments; `checks` are all that it comes to, None where they stay."""

    verdict: CheckVerdict
    reason: str
    checks: tuple[Check, ...] | None = None


class Ended(msgspec.Struct, frozen=True, kw_only=True):
    """A program that has ended: how it was started, what it printed, and what was checked of it."""

    folder: Path
    argv: tuple[str, ...]
    variables: Mapping[str, str]
    lines: Sequence[str]
    exit_status: int | None
    checks: tuple[Check, ...]
    halt: threading.Event


def usage_by_help(ended: Ended) -> Usage | None:
    """Return what its help comes to, where it wants arguments or has only shown its help; else None."""
    lines = ended.lines
    line = next((line for line in lines if _WANTS.search(line)), None)
    if line is None or any(_FAILED.search(each) for each in lines):
        return None
    rest = [each.strip() for each in lines[lines.index(line) + 1 :] if each.strip()]
    whole = f"{line.strip()} {rest[0]}" if re.fullmatch(r"\W*\w+:\W*", line) and rest else line.strip()
    shown = clean(whole, 100)
    if ended.exit_status == 0 and lines.index(line) >= _FIRST_LINES:
        return None  # something that it printed while it worked
    if ended.exit_status == 0:
        return _judged((*ended.checks, *_version_check(ended)), f"it shows its help (“{shown}”) and ends")
    if not _passes_on(ended.argv):
        reason = f"it wants arguments (“{shown}”): say in dokimon.toml what it is started with"
        return Usage(verdict="unsure", reason=reason)
    help_check = _asked(ended, "--help")
    if help_check is None:
        return None
    status, text = help_check
    # Many a program shows its help as if it were a fault, with another exit status than 0.
    is_help = bool(text.strip()) and (status == 0 or any(_WANTS.search(each) for each in text.splitlines()))
    verdict: CheckVerdict = "passed" if is_help and not _FAILED.search(text) else "failed"
    seen = f"{len(text.splitlines())} lines, {how_ended(status)}"
    check = Check(name="--help", verdict=verdict, expected="its help", seen=seen)
    return _judged((check, *_version_check(ended)), f"it wants arguments (“{shown}”)")


def usage_of_command(ended: Ended) -> Usage | None:
    """Return that a command which failed without arguments is left open, where its help works; else None.

    Many a command wants a file, a folder or a service to work on, and says so in its own words.
    """
    if any(_FAILED.search(each) for each in ended.lines) or not _passes_on(ended.argv):
        return None
    answer = _asked(ended, "--help")
    if answer is None or answer[0] != 0 or not answer[1].strip():
        return None
    first = next((clean(each.strip(), 100) for each in ended.lines if each.strip()), None)
    reason = (
        f"it {how_ended(ended.exit_status)}{f' (“{first}”)' if first else ''}, but its --help works: say in dokimon.toml "
        "what it is started with"
    )
    seen = f"{len(answer[1].splitlines())} lines, {how_ended(0)}"
    check = Check(name="--help", verdict="passed", expected="its help", seen=seen)
    return Usage(verdict="unsure", reason=reason, checks=(check, *_version_check(ended)))


def _judged(checks: tuple[Check, ...], reason: str) -> Usage:
    wrong = next((check for check in checks if check.verdict == "failed"), None)
    if wrong:
        reason = f"{reason}; {wrong.name}: {wrong.seen} (expected: {wrong.expected})"
    return Usage(verdict="failed" if wrong else "passed", reason=reason, checks=checks)


def _version_check(ended: Ended) -> tuple[Check, ...]:
    """Compare what `--version` says with the version of the manifest; nothing where one of both is not to be had."""
    declared = version_of(ended.folder)
    answer = _asked(ended, "--version") if declared else None
    if declared is None or answer is None or answer[0] != 0:
        return ()
    version, place = declared
    told = re.search(r"\d+\.\d+[\w.+-]*", answer[1])
    if told is None:
        return ()
    fits = re.search(rf"(?<![\d.]){re.escape(version)}(?![\d])", answer[1]) is not None
    verdict: CheckVerdict = "passed" if fits else "failed"
    expected = f"{version}, as {place} says"
    return (Check(name="--version", verdict=verdict, expected=expected, seen=clean(told[0], 60)),)


def _passes_on(argv: Sequence[str]) -> bool:
    """Whether what is started gets the arguments behind its command; a shell passes them on where its line says so."""
    return Path(argv[0]).name not in _CANNOT_PASS_ON or any('"$@"' in word for word in argv[1:3])


def _asked(ended: Ended, option: str) -> tuple[int | None, str] | None:
    """Return how the program ends with one option, and what it prints; None where it does not end in time."""
    name = Path(ended.argv[0]).name
    if not _passes_on(ended.argv):
        return None
    output = Output()
    more = [_ENDS_OPTIONS[name]] if name in _ENDS_OPTIONS else []
    try:
        command = [*ended.argv, *more, option]
        end = run_to_end(command, ended.folder, ended.variables, output, _WITHIN, ended.halt)
    except StartFault:
        return None
    return (end.status, output.text()) if end.ended else None


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
