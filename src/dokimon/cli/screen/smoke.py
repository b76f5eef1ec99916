"""The report of `smoke`, drawn for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import (
    draw_picked,
    draw_remedies,
    draw_steps,
    findings_table,
    heading,
    short,
    verdict_text,
)
from dokimon.cli.screen.compare import draw_changes
from dokimon.core.report.folding import fold, subject_of
from dokimon.core.report.model import Check, Diagnosis, FromClone, Prepared, Report, Run, Sign
from dokimon.core.report.outcome import verdict_of_findings
from dokimon.core.report.summary import counts_of_checks, first_need, first_wrong, only_skipped, told_once

_INDENT = 10
_MOST_FILES = 5


def draw_smoke(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    """Draw the needs in short, the steps, the runs with their checks, and one closing line."""
    if not quiet:
        console.print(heading(report))
        console.print()
    _draw_needs(console, report, quiet=quiet, verbose=verbose)
    draw_picked(console, report)
    for step in report.prepared or ():
        if not (quiet and step.verdict in ("passed", "skipped")):
            _draw_step(console, step)
    for run in report.runs or ():
        if not (quiet and run.verdict == "passed"):
            _draw_run(console, run, quiet=quiet, verbose=verbose)
    _draw_checkout(console, report, quiet=quiet)
    if report.other_ways and not quiet:
        ways = [f'--run "{each.name}"' if " " in each.name else f"--run {each.name}" for each in report.other_ways]
        more = f" and {len(ways) - 4} more (--show-plan lists them)" if len(ways) > 4 else ""
        console.print(Text(f"other ways to start it: {', '.join(ways[:4])}{more}", style="dim"), soft_wrap=True)
    _draw_beside(console, report)
    folders = {str(Path(run.log).parent) for run in report.runs or () if run.log}
    if folders and not quiet:
        kept = any(check.evidence for run in report.runs or () for check in run.checks)
        what = "logs and files of checks" if kept else "logs"
        console.print(Text(f"{what}: {short(min(folders))}", style="dim"), soft_wrap=True)
    _draw_end(console, report, verbose=verbose)


def _draw_end(console: Console, report: Report, *, verbose: bool) -> None:
    """Say where the time went, where that is asked for, and what it all comes to."""
    if verbose and report.seconds is not None and report.own_seconds is not None:
        console.print(Text(_times(report, report.seconds, report.own_seconds), style="dim"))
    console.print(_closing(report))


def _times(report: Report, whole: float, own: float) -> str:
    """Say where the time went: what was Dokimon's own, and what was the project's."""
    runs = report.runs or ()
    parts = [("preparing", sum(step.seconds or 0 for step in report.prepared or ())),
             ("until up", sum(run.up_seconds or 0 for run in runs)),
             ("until it ended", sum((run.ended_seconds or 0) - (run.stop_seconds or 0) for run in runs
                                    if run.up_seconds is None)),
             ("watched", sum(run.watched_seconds or 0 for run in runs)),
             ("stopping", sum(run.stop_seconds or 0 for run in runs))]  # fmt: skip
    told = ", ".join(f"{seconds:.2f} s {name}" for name, seconds in parts if seconds >= 0.005)
    return f"{whole:.2f} s in all: {own:.2f} s Dokimon's own{f'; the project: {told}' if told else ''}"


def _draw_beside(console: Console, report: Report) -> None:
    """Say what there is to know beside the runs: of what clone they were, what changed since they last passed."""
    if report.from_clone:
        _draw_clone(console, report.from_clone)
    if report.since_passed:
        draw_changes(console, report.since_passed)
        console.print()


def _draw_clone(console: Console, clone: FromClone) -> None:
    """Say of what the clone was, and what it lacks."""
    what = f"a clone of commit {clone.commit[:7]}" if clone.commit else "a copy of the folder"
    what += ", with what is staged" if clone.staged else ""
    console.print(Text(f"this was {what}, with an empty home", style="cyan"))
    for note in clone.notes:
        console.print(Text(f"note: {note}", style="yellow"))
    if clone.lacks:
        here = f"it starts here (passed on {clone.folder_passed}), but not from a clean clone:"
        console.print(Text(here if clone.folder_passed else "what the clone lacks:", style="bold"))
        for each in clone.lacks:
            console.print(Padding(Text(short(each)), (0, 0, 0, 2), expand=False))
    console.print()


def _draw_needs(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    judged = [finding for finding in report.requirements if finding.verdict]
    wrong = [finding for finding in judged if finding.verdict != "met"]
    stopped = report.verdict in ("unmet", "unknown")
    if stopped or verbose:
        console.print(findings_table(judged))
        console.print()
        draw_remedies(console, wrong)
        return
    if quiet or not judged:
        return
    text = Text(f"{len(judged) - len(wrong)} of {len(judged)} met")
    for folded in fold(wrong):
        finding = folded.finding
        advised = finding.strength == "advised"
        text.append(f"; {subject_of(finding)} ").append(verdict_text(finding.verdict or "", advised))
        text.append(" (advised)" if advised else "")
    if wrong:
        text.append("; dokimon verify says what to do", style="dim")
    _row(console, "needs", text)


def _row(console: Console, label: str, text: Text) -> None:
    table = Table.grid(padding=(0, 0))
    table.add_column(width=_INDENT, no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row(Text(label, style="bold"), text)
    console.print(table)


def _draw_step(console: Console, step: Prepared) -> None:
    text = Text.assemble(step.title, "  ", verdict_text("passed" if step.verdict == "passed" else step.verdict))
    if step.verdict == "skipped":
        text.append(f": {step.reason}", style="dim")
    else:
        text.append(f" in {step.seconds or 0:.1f} s: {step.reason}")
        text.append(f"\n{step.command}", style="dim")
    _row(console, "prepare", text)
    _draw_diagnoses(console, step.diagnoses)
    _draw_lines(console, step.last_lines)
    if step.verdict == "failed":
        _draw_log(console, step)


def _draw_checkout(console: Console, report: Report, *, quiet: bool) -> None:
    """Say what is other than before in the repository, and what its checks make of that."""
    checks = [check for check in report.checks if not quiet or check.verdict != "passed"]
    if checks:
        _row(console, "checkout", Text())
        console.print(Padding(_checks_table(checks), (0, 0, 0, _INDENT), expand=False))
        console.print()
    elif report.changed_files and not quiet:
        more = len(report.changed_files) - _MOST_FILES
        shown_files = ", ".join(report.changed_files[:_MOST_FILES]) + (f" and {more} more" if more > 0 else "")
        _row(console, "checkout", Text(f"made or changed, and not ignored by git: {shown_files}"))
        console.print()


def _draw_run(console: Console, run: Run, *, quiet: bool, verbose: bool) -> None:
    text = Text.assemble(run.command, "  ", verdict_text(run.verdict))
    if run.verdict != "passed" or run.kind == "program":
        text.append(f": {short(run.reason)}")
    elif only_skipped(run.checks):
        text.append("; nothing was checked: what was asked for was skipped", style="yellow")
    for line in (*_about_start(run), *_about_ports(run)):
        text.append("\n").append_text(line)
    if len(run.name) >= _INDENT:
        console.print(Text(run.name, style="bold"))
    _row(console, run.name if len(run.name) < _INDENT else "", text)
    _draw_signs(console, run, verbose=verbose)
    _draw_diagnoses(console, run.diagnoses)  # the likely cause is what one looks for first
    _draw_noticed(console, run.noticed)
    checks = [check for check in told_once(run.checks) if check.verdict != "passed"] if quiet else run.checks
    if checks:
        console.print(Padding(_checks_table(checks, verbose=verbose), (0, 0, 0, _INDENT), expand=False))
    went_wrong = run.verdict in ("failed", "unsure")
    if went_wrong or run.kind == "program":
        _draw_lines(console, run.last_lines)
    if went_wrong or run.log_left_out:
        _draw_log(console, run)
    if run.warnings:
        warnings = "a warning or deprecation" if run.warnings == 1 else f"{run.warnings} warnings and deprecations"
        console.print(Text(f"{' ' * _INDENT}{warnings} in its output", style="dim"))
    console.print()


_MOST_SIGNS = 3


def _draw_signs(console: Console, run: Run, *, verbose: bool) -> None:
    """Show what else decided: of a run that is unsure what speaks for it, too; with --verbose every sign."""
    signs = run.signs if verbose else [each for each in _other_signs(run) if run.verdict == "unsure"][:_MOST_SIGNS]
    for each in signs:
        words = {"for": "for it", "against": "against it", "fatal": "fatal"}[each.effect]
        console.print(Padding(Text(f"{words}: {short(each.seen)}", style="dim"), (0, 0, 0, _INDENT)))


def _other_signs(run: Run) -> Iterator[Sign]:
    """Yield the signs that are neither the reason itself nor a check, which is shown as one."""
    for each in run.signs:
        if each.seen != run.reason and not each.name.startswith("check-"):
            yield each


def _about_start(run: Run) -> Iterator[Text]:
    """Yield where the run was read, and where and since when it is up."""
    if run.source:
        yield Text(f"from {run.source.place}", style="dim")
    seconds = f"{run.up_seconds or 0:.2f} s"
    if run.url:
        yield Text.assemble(f"up after {seconds} at ", (run.url, "cyan"), (f": {run.up_by}", "dim"))
    elif run.up_by:
        yield Text(f"up after {seconds}: {run.up_by}" if run.up_seconds is not None else run.up_by)


def _about_ports(run: Run) -> Iterator[Text]:
    """Yield what one should know of its ports: others of its own, those that are open to others, those that are taken."""
    others = [at for at in run.listening if f":{at.port}/" not in (run.url or "")]
    if others:
        yield Text("it also listens on " + ", ".join(f"{at.address} port {at.port}" for at in others))
    exposed = [at for at in run.listening if at.exposed]
    if exposed and not run.exposure_meant:
        every = sorted({at.port for at in exposed if at.address in ("0.0.0.0", "::")})
        where = [f"port {', '.join(map(str, every))} listens on every address"] if every else []
        where += [f"port {at.port} listens on {at.address}" for at in exposed if at.port not in every]
        yield Text(f"other machines may reach it: {'; '.join(where)}", style="yellow")
    taken = next((at.port for at in run.listening), None)
    for stranger in run.strangers:
        who = f"process {stranger.pid}: {stranger.command}" if stranger.pid else "a process that cannot be looked at"
        instead = f"; this run took {taken}" if taken and taken != stranger.port else ""
        yield Text(f"port {stranger.port} is held by {who}{instead}", style="yellow")


def _checks_table(checks: Sequence[Check], *, verbose: bool = False) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(no_wrap=True)
    table.add_column(no_wrap=True, max_width=34)
    table.add_column(overflow="fold")
    for check in checks:
        seen = Text(short(check.seen))
        if check.verdict in ("failed", "unsure"):
            seen = Text.assemble(seen, (f"\nexpected: {check.expected}", "dim"))
        if check.evidence and (verbose or check.verdict != "passed"):
            seen = Text.assemble(seen, (f"\nkept in {short(check.evidence)}", "dim"))
        name = f"  {check.name}" if check.part_of else check.name
        table.add_row(verdict_text(check.verdict), Text(name, overflow="ellipsis"), seen)
    return table


def _draw_lines(console: Console, lines: tuple[str, ...]) -> None:
    if not lines:
        return
    console.print(Padding(Text("its last lines:", style="dim"), (0, 0, 0, _INDENT), expand=False))
    for line in lines:
        console.print(Padding(Text(line), (0, 0, 0, _INDENT + 2), expand=False))


def _draw_diagnoses(console: Console, diagnoses: tuple[Diagnosis, ...]) -> None:
    """Draw the likely causes, the line that shows each, and what to do."""
    for each in diagnoses:
        cause = Text.assemble(("likely cause: ", "bold"), short(each.cause))
        if each.line:
            cause.append(f"\nshown by: {each.line}", style="dim")
        if each.at:
            cause.append(f"\nat: {each.at}", style="dim")
        console.print(Padding(cause, (0, 0, 0, _INDENT), expand=False))
        draw_steps(console, each.remedies, _INDENT + 2)


def _draw_noticed(console: Console, noticed: tuple[Diagnosis, ...]) -> None:
    """Draw the error that a run which passed told of all the same."""
    for each in noticed:
        what = "" if each.name == "not-known" else f"\nlikely: {short(each.cause)}"
        text = Text.assemble(("it tells of an error all the same: ", "yellow"), short(each.line or ""), (what, "dim"))
        console.print(Padding(text, (0, 0, 0, _INDENT), expand=False))
        draw_steps(console, each.remedies, _INDENT + 2)


def _draw_log(console: Console, of: Run | Prepared) -> None:
    """Say where the whole output is, or what of it."""
    if of.log is not None:
        what = f"its output but for {of.log_left_out} bytes in the middle" if of.log_left_out else "its whole output"
        console.print(Text(f"{' ' * _INDENT}{what}: {short(of.log)}", style="dim"), soft_wrap=True)


def _closing(report: Report) -> Text:
    """Say how it went, what failed first with its likeliest cause, and how many checks passed."""
    text = Text.assemble(f"{report.project.name}: ", verdict_text(report.verdict))
    if report.interrupted:
        return text.append(" (interrupted)")
    needs = verdict_of_findings(report.requirements, report.strict)
    if report.runs and report.verdict == "passed" and needs != "met":
        text.append(
            f", though a need is {'not met' if needs == 'unmet' else 'unknown'} · {short(first_need(report) or '')}"
        )
    wrong = first_wrong(report)
    if wrong:
        text.append(f" · {short(wrong)}")
    if report.runs or report.prepared:
        return text.append(f" · {checks}") if (checks := counts_of_checks(report)) else text
    if report.verdict in ("unmet", "unknown"):
        why = "a need is not met" if report.verdict == "unmet" else "a need could not be judged"
        text.append(f" · {why}, so nothing was run; dokimon smoke --anyway goes on all the same")
    return text
