"""`dokimon tools`"""

from __future__ import annotations

from typing import Annotated

import typer

from dokimon.cli.options import Format, FormatOption, NoColorOption, OutputOption, QuietOption


def tools(
    names: Annotated[
        list[str] | None, typer.Argument(metavar="NAME", help="Tools; all of the catalogue by default.")
    ] = None,
    form: FormatOption = Format.table,
    output: OutputOption = None,
    quiet: QuietOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Show what this machine has: every copy, which one a command reaches, what lies off PATH.

    Exit status 1: a tool that was named is not there.
    """
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import deliver, refuse
    from dokimon.core import surveying
    from dokimon.core.text import nearest

    known = surveying.known_tools()
    for name in names or ():
        if name not in known:
            like = nearest(name, list(known))
            refuse(f"the catalogue has no tool {name!r}" + (f"; did you mean {like!r}?" if like else ""))
    with abandoning():
        report = surveying.tools_report(names or known, os.environ)

    def draw(console: object) -> None:
        from dokimon.cli.screen import draw_tools

        draw_tools(console, report, named=names or [], quiet=quiet)  # type: ignore[arg-type]

    deliver(report, form, output, no_color, draw)
    missing = [name for name in names or () if not any(copy.tool == name for copy in report.installations)]
    raise typer.Exit(1 if missing else 0)
