"""The options that commands share."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer


class Format(StrEnum):
    """The forms in which a report can be had."""

    table = "table"
    json = "json"
    markdown = "markdown"
    junit = "junit"
    sarif = "sarif"
    html = "html"


FolderArgument = Annotated[
    Path,
    typer.Argument(metavar="PATH", help="A folder in or under the project.", show_default="the current folder"),
]
FoldersArgument = Annotated[
    list[Path] | None,
    typer.Argument(
        metavar="[PATH]...",
        help="Folders in or under a project, or with projects below: then a row for each.",
        show_default="the current folder",
    ),
]
FormatOption = Annotated[Format, typer.Option("--format", "-f", help="The form of the report.")]
OutputOption = Annotated[
    Path | None,
    typer.Option("--output", "-o", metavar="FILE", help="Write the report to FILE, not to standard output."),
]
AllowNoneOption = Annotated[
    bool, typer.Option("--allow-none", help="Let a project that declares nothing pass, which ends with 3 otherwise.")
]
StrictOption = Annotated[bool, typer.Option("--strict", help="Let advised needs decide as required ones do.")]
QuietOption = Annotated[bool, typer.Option("--quiet", "-q", help="Show only what is not met, and no progress.")]
VerboseOption = Annotated[
    bool, typer.Option("--verbose", "-v", help="Show more: every copy that was found, every detail.")
]
FreshOption = Annotated[bool, typer.Option("--fresh", help="Ask every tool again; use no earlier answer.")]
AskOption = Annotated[
    list[str] | None,
    typer.Option("--ask", metavar="NAME", help="Ask this command too, which only the checkout names; may be repeated."),
]
PickOption = Annotated[bool, typer.Option("--pick", help="Put fitting copies first on PATH, for this call alone.")]
NoRecordOption = Annotated[
    bool, typer.Option("--no-record", help="Leave no record of this call; dokimon history shows those there are.")
]
ShareOption = Annotated[
    bool,
    typer.Option("--share", help="Make the report fit to hand on: no names, homes or values; see docs/history.md."),
]
SupposeOption = Annotated[
    list[str] | None,
    typer.Option(
        "--suppose", metavar="TOOL=VERSION", help="Judge as if this version were reached (or none); may be repeated."
    ),
]
NoColorOption = Annotated[bool, typer.Option("--no-color", help="No colours; the variable NO_COLOR does the same.")]
