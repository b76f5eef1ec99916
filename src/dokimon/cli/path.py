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
            help="posix, fish or powershell; the one in use by default.",
            autocompletion=complete_shells,
        ),
    ] = None,
) -> None:
    """Print the shell line that puts satisfying, already installed copies first on PATH.

    It prints nothing when commands reach all that is needed already. Exit status 1: a tool has no copy here that
    would do.
    """
    import os
    import sys

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import folder_asked, refuse, refusing
    from dokimon.core.jobs.path import route_of
    from dokimon.core.jobs.verify import verify
    from dokimon.core.machine.shell import put_first, shell_in_use

    if shell not in (None, "posix", "fish", "powershell"):
        refuse(f"{shell!r} is not a shell that Dokimon knows; it knows posix, fish and powershell")
    folder = folder_asked(path)
    with refusing(), abandoning():
        route = route_of(verify(folder, os.environ))
    if route.folders:
        print(put_first(route.folders, shell or shell_in_use(os.environ)))
    for sentence in route.without:
        print(f"dokimon: {sentence}; dokimon verify says what to do", file=sys.stderr)
    raise typer.Exit(1 if route.without else 0)
