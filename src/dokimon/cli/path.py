"""`dokimon path`"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from dokimon.cli.completing import complete_shells
from dokimon.cli.options import FolderArgument

EXAMPLE = 'Example: eval "$(dokimon path)"'


def path(
    path: FolderArgument = Path(),
    shell: Annotated[
        str | None,
        typer.Option(
            "--shell",
            metavar="NAME",
            help="bash, zsh, fish, ksh, dash, posix or powershell; the one in use by default.",
            autocompletion=complete_shells,
        ),
    ] = None,
    lasting: Annotated[
        bool, typer.Option("--lasting", help="Print what to put into which start-up file of this shell.")
    ] = False,
) -> None:
    """Print the shell line that puts satisfying, already installed copies first on PATH.

    It prints nothing when commands reach all that is needed already. Exit status 1: a tool has no copy here that
    would do.
    """
    import os
    import sys

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import folder_asked, refuse, refusing
    from dokimon.core.jobs.verify import verify, way_of
    from dokimon.core.machine.shell import SHELLS, put_first, put_first_for_good, set_variable, shell_in_use

    if shell is not None and shell not in SHELLS:
        refuse(f"{shell!r} is not a shell that Dokimon knows; it knows {', '.join(SHELLS)}")
    folder = folder_asked(path)
    with refusing(), abandoning():
        way = way_of(verify(folder, os.environ))
    spoken = shell or shell_in_use(os.environ)
    for name, value in way.variables:
        print(set_variable(name, value, spoken))
    if way.folders and lasting:
        for_good = put_first_for_good(way.folders, spoken, os.environ.get("HOME", ""))
        where = f"for {for_good.file}" if for_good.file else "give this once"
        print(f"# {f'{for_good.there} does so already' if for_good.there else where}")
        print(for_good.line)
    elif way.folders:
        print(put_first(way.folders, spoken))
    for sentence in way.without:
        print(f"dokimon: {sentence}; dokimon verify says what to do", file=sys.stderr)
    raise typer.Exit(1 if way.without else 0)
