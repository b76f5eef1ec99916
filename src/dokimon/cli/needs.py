"""`dokimon needs`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dokimon.cli.options import FoldersArgument, Format, NoColorOption, OutputOption, QuietOption, VerboseOption

if TYPE_CHECKING:
    from rich.console import Console

    from dokimon.core.jobs.needs import Declared
    from dokimon.core.report.model import Report

EXAMPLE = "Example: dokimon needs --format markdown"

NeedsFormatOption = Annotated[
    Format, typer.Option("--format", "-f", help="The form of the report; markdown is a table fit for a README.")
]


def needs(
    paths: FoldersArgument = None,
    form: NeedsFormatOption = Format.table,
    output: OutputOption = None,
    check_readme: Annotated[
        bool, typer.Option("--check-readme", help="Say whether the table in README.md still matches the files.")
    ] = False,
    suggest: Annotated[
        bool, typer.Option("--suggest", help="What would be declared by what smoke --across proved; changes nothing.")
    ] = False,
    by: Annotated[
        list[Path] | None,
        typer.Option("--by", metavar="REPORT", help="With --suggest, go by these reports of smoke --across."),
    ] = None,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Show what the project declares, where, and whether the declarations agree.

    Exit status 1: they contradict each other. Nothing of this machine is looked at.
    """
    import os

    from dokimon.cli.several import show_several
    from dokimon.cli.showing import deliver, folder_asked, refuse, refusing
    from dokimon.core.jobs.needs import declare, needs_report
    from dokimon.core.jobs.several import checkouts_in
    from dokimon.core.report.outcome import exit_status

    if by and not suggest:
        refuse("--by says what a suggestion goes by: call it with --suggest")
    folders = [folder_asked(path) for path in paths or [Path()]]
    every = checkouts_in(folders)
    if len(every) > 1 or every != folders:
        show_several(
            every, lambda each: needs_report(declare(each, os.environ)),
            lambda console, report: _draw(console, report, quiet=quiet, verbose=False), command="needs", form=form,
            output=output, no_color=no_color, quiet=quiet, verbose=verbose,
        )  # fmt: skip
    (folder,) = folders
    with refusing():
        declared = declare(folder, os.environ)
        report = needs_report(declared)
    if check_readme:
        raise typer.Exit(_check_readme(report))
    if suggest:
        report = _with_suggestions(report, declared, by or [])

    deliver(report, form, output, no_color, lambda console: _draw(console, report, quiet=quiet, verbose=verbose))
    raise typer.Exit(exit_status(report))


def _with_suggestions(report: Report, declared: Declared, by: list[Path]) -> Report:
    import os

    from dokimon.cli.showing import refuse
    from dokimon.core.jobs.suggest import SuggestFault, with_suggestions
    from dokimon.core.report.reading import ReportFault

    try:
        return with_suggestions(report, declared, os.environ, by)
    except (SuggestFault, ReportFault) as wrong:
        refuse(f"--suggest: {f'{wrong.file} ' if wrong.file else ''}{wrong.reason}")


def _draw(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    if report.suggested:
        from dokimon.cli.screen.suggest import draw_suggested

        draw_suggested(console, report.suggested)
        return
    from dokimon.cli.screen.needs import draw_needs

    draw_needs(console, report, quiet=quiet, verbose=verbose)


def _check_readme(report: Report) -> int:
    """Say in what the README's table differs from the files; return the exit status."""
    from dokimon.core.reading.manifest import ManifestFault, open_manifest
    from dokimon.core.report.as_markdown import compare_readme

    root = Path(report.project.root)
    try:
        readme = open_manifest(root / "README.md", root).text
    except ManifestFault as wrong:
        print(f"README.md {wrong.reason}")
        return 3
    found = compare_readme(readme, report)
    if found is None:
        print("README.md has no table of needs; dokimon needs --format markdown prints one to paste, with its marks.")
        return 1
    missing, too_many = found
    for row in missing:
        print(f"README.md lacks:     {row}")
    for row in too_many:
        print(f"README.md still has: {row}")
    if not missing and not too_many:
        print("README.md says what the files say.")
    return 1 if missing or too_many else 0
