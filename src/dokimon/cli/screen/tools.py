"""The report of `tools` drawn for people: the machine, every copy of each tool, components, and what is odd."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import draw_remedies, draw_steps, findings_table, short, verdict_text
from dokimon.core.machine.components import Component
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.system import System
from dokimon.core.report.folding import standing
from dokimon.core.report.model import Answer, Finding, NeededBy, Report

_KNOWN_BY = {"file": "a file", "asked": "asked", "cache": "asked before"}
_MOST_IN_A_ROW = 60
"""Components of one kind that are drawn; the others are counted. JSON has them all."""


def draw_tools(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    """Draw the report of `tools`: the copies, what the project wants of those that were asked about, and what to do."""
    asked = bool(report.answers or report.requirements or report.components)
    if report.system and not quiet:
        console.print(_system(report.system), soft_wrap=True)
        console.print()
    if report.installations:
        draw_copies(console, report.installations, with_facts=asked or verbose, verbose=verbose)
        console.print()
    draw_components(console, report.components)
    there = {copy.tool for copy in report.installations} | {each.tool for each in report.components}
    _draw_wanted(console, report.requirements)
    _draw_answers(console, report.answers)
    _draw_needed_by(console, report.needed_by)
    if quiet:
        return
    for note in report.notes:
        console.print(Text(f"note: {note}", style="yellow"))
    copies, tools = len(report.installations), len(there)
    console.print(f"{copies} {'copy' if copies == 1 else 'copies'} of {tools} {'tool' if tools == 1 else 'tools'}")


def _draw_wanted(console: Console, findings: Sequence[Finding]) -> None:
    """Draw what the project wants of the tools that were asked about, and what to do where it is not met."""
    if not findings:
        return
    console.print(Text("what this project wants:", style="dim"))
    console.print(findings_table(findings))
    console.print()
    draw_remedies(console, findings)


def _draw_needed_by(console: Console, needed_by: Sequence[NeededBy]) -> None:
    if not needed_by:
        return
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("needed by", "accepts", "reached", "verdict"):
        table.add_column(name, overflow="fold")
    for each in needed_by:
        copy = Text.assemble(each.version or "", (f"  {short(each.path)}" if each.path else "", "dim"))
        table.add_row(
            Text(each.project, style="bold"), Text(f"{each.tool} {each.accepts}"), copy, verdict_text(each.verdict)
        )
    console.print(table)
    console.print()


def _draw_answers(console: Console, answers: Sequence[Answer]) -> None:
    for each in answers:
        text = Text.assemble((each.command, "bold"), " ", verdict_text(each.verdict), f": {short(each.reason)}")
        console.print(text)
        draw_steps(console, each.remedies)
        console.print()


def _system(system: System) -> Text:
    """Say in one line what machine this is."""
    size = f"{system.memory / 1e9:.0f} GB memory, {system.disk_free / 1e9:.0f} GB free here"
    words = [system.architecture, *([system.libc] if system.libc else []), f"{system.cores} cores", size]
    return Text.assemble((system.release, "bold"), "  ", (", ".join(words), "dim"))


def draw_copies(console: Console, copies: Iterable[Installation], *, with_facts: bool, verbose: bool) -> None:
    """Draw every copy: first those on PATH, in its order, then the others; below each its notes."""
    copies = list(copies)
    columns = ("tool", "version", "", "known by") if verbose else ("tool", "version", "")
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for column in columns:
        table.add_column(column, no_wrap=True)
    table.add_column("path", overflow="fold")
    widths = [max((len(each) for each in column), default=0) for column in zip(*map(_short_cells, copies), strict=True)]
    room = console.width - sum(widths) - 2 * len(columns) - (len("asked before") if verbose else 0) - 1
    last = None
    for copy in copies:
        path = Text(at_slashes(short(copy.path), room))
        for line, style in _more_about(copy, with_facts, verbose):
            path.append(f"\n{line}", style=style)
        how = [Text(_KNOWN_BY.get(copy.known_by or "", ""), style="dim")] if verbose else []
        name = Text(copy.tool if copy.tool != last else "", style="bold")
        table.add_row(name, Text(copy.version or "?"), _standing(copy), *how, path)
        last = copy.tool
    console.print(table)


def _short_cells(copy: Installation) -> tuple[str, str, str]:
    return copy.tool, copy.version or "?", _standing(copy).plain


def at_slashes(path: str, room: int) -> str:
    """Return a path in lines of at most `room` columns, broken behind slashes alone where that can be."""
    lines = [""]
    for piece in re.findall(r"[^/\\]*[/\\]?", path):
        if len(lines[-1]) + len(piece) > room and lines[-1]:
            lines.append("")
        lines[-1] += piece
    return "\n".join(lines)


def _standing(copy: Installation) -> Text:
    if copy.fault:
        return Text("cannot run" if copy.fault != "another tool" else "another tool", style="yellow")
    return Text(standing(copy), style="green" if copy.reached else "dim")


def _more_about(copy: Installation, with_facts: bool, verbose: bool) -> Iterable[tuple[str, str]]:
    """Yield the notes below a path: why there is no version, what is behind a shim, facts, the file behind a link."""
    if copy.reason:
        yield copy.reason, "yellow"
    elif copy.brought:
        yield f"of the {copy.brought.kind} package {copy.brought.package}", "dim"
    elif copy.shim:
        by = f", chosen by {short(copy.chosen_by)}" if copy.chosen_by else ""
        yield f"{copy.shim}: {short(copy.via or '?')}{by}", "dim"
    elif copy.via and verbose:
        yield f"really {short(copy.via)}", "dim"
    if copy.facts and with_facts:
        yield ", ".join(f"{name} {value}" for name, value in copy.facts.items()), "dim"


def draw_components(console: Console, components: Sequence[Component]) -> None:
    """Draw the components of each tool, one paragraph for each kind."""
    groups: dict[tuple[str, str], list[Component]] = {}
    for each in components:
        groups.setdefault((each.tool, each.what), []).append(each)
    for (tool, what), members in groups.items():
        console.print(Text.assemble((tool, "bold"), f" {what}, {len(members)}:"))
        # What belongs together stays on one line; where no line is wrapped, a space stays what one searches for.
        text = Text("; ".join(_listed(members, "\u00a0" if console.is_terminal else " ")))
        console.print(Padding(text, (0, 0, 0, 2), expand=False))
        console.print()


_MANY = 5
"""Components of one version are named together, the version once."""


def _listed(members: Sequence[Component], gap: str) -> Iterable[str]:
    """Yield the components, those that share a version as one, and how many more there are."""
    by_version: dict[str, list[str]] = {}
    for each in members[:_MOST_IN_A_ROW]:
        by_version.setdefault(each.version or "", []).append(each.name)
    shared = {version: names for version, names in by_version.items() if version and len(names) >= _MANY}
    for version, names in shared.items():
        yield f"{version}: {', '.join(names)}"
    rest = [
        f"{name}{gap}{version}" if version else name
        for version, names in by_version.items()
        if version not in shared
        for name in names
    ]
    more = [f"{len(members) - _MOST_IN_A_ROW} more"] if len(members) > _MOST_IN_A_ROW else []
    if rest or more:
        yield ", ".join([*rest, *more])
