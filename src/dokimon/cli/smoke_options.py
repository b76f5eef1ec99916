"""The options of `dokimon smoke` that no other command has."""

from __future__ import annotations

from typing import Annotated

import typer

from dokimon.cli.completing import complete_runs

RunOption = Annotated[
    list[str] | None,
    typer.Option(
        "--run", metavar="NAME", help="Carry out this run only; may be repeated.", autocompletion=complete_runs
    ),
]
KeepOption = Annotated[
    bool,
    typer.Option("--keep", help="Keep it up after the checks, say where to look, stop on Ctrl+C."),
]
ShowPlanOption = Annotated[bool, typer.Option("--show-plan", help="Only show what would be prepared and run, and why.")]
AllRunsOption = Annotated[bool, typer.Option("--all-runs", help="Try every way to start it, one after the other.")]
FollowOption = Annotated[bool, typer.Option("--follow", help="Show each line that a step or run prints, as it comes.")]
CloneOption = Annotated[
    bool, typer.Option("--clone", help="Try what is committed, in a fresh folder, prepared from nothing.")
]
StagedOption = Annotated[bool, typer.Option("--staged", help="With --clone, with what is staged.")]
EmptyOption = Annotated[bool, typer.Option("--empty", help="With --clone, share no cache of a package manager either.")]
AcrossOption = Annotated[
    list[str] | None,
    typer.Option(
        "--across",
        metavar="TOOL",
        help="Try clones under every version of this tool that is here; may be repeated.",
    ),
]
OnlyOption = Annotated[
    list[str] | None,
    typer.Option(
        "--only",
        metavar="VERSION",
        help='With --across, this alone ("node 20.18.0, python 3.12.1"); may be repeated.',
    ),
]
AllPairsOption = Annotated[
    bool, typer.Option("--all-pairs", help="With several --across, each version with each of the others.")
]
JobsOption = Annotated[
    int,
    typer.Option("--jobs", "-j", metavar="N", min=1, help="With --across or several projects: so many at once."),
]
ListedOption = Annotated[
    bool, typer.Option("--list", help="With --across, only print what would be tried, for the jobs of a CI system.")
]
AnywayOption = Annotated[bool, typer.Option("--anyway", help="Go on although a need is not met.")]
NoPrepareOption = Annotated[
    bool, typer.Option("--no-prepare", help="Do no prepare step; only list those that are needed.")
]
WaitOption = Annotated[
    str | None,
    typer.Option(
        "--wait", metavar="TIME", help="Where another smoke check is at work here, wait so long for its end (5m)."
    ),
]
QrOption = Annotated[bool, typer.Option("--qr", help="With --keep, draw the address for other devices as a QR code.")]
NoBrowserOption = Annotated[
    bool,
    typer.Option("--no-browser", help="Open no page in the browser that is installed, unless a check asks for it."),
]
