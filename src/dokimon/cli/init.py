"""`dokimon init`"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from dokimon.cli.options import FolderArgument

EXAMPLE = "Example: dokimon init --show"


def init(
    path: FolderArgument = Path(),
    show: Annotated[bool, typer.Option("--show", help="Print it; write no file.")] = False,
) -> None:
    """Write a dokimon.toml from what was read and inferred, ready to edit. An existing one is never changed.

    After a first smoke check, what it saw (title, addresses, version) is proposed as checks, to keep or delete.
    """
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import folder_asked, refuse, refusing
    from dokimon.core.declarations.checkout import SETTINGS_FILE
    from dokimon.core.jobs.init import settings_text
    from dokimon.core.jobs.smoke import plan_context_of, plan_smoke
    from dokimon.core.jobs.verify import verify
    from dokimon.core.planning.plan import Plan, PlanFault
    from dokimon.core.processes.logs import Logs
    from dokimon.core.smoking.seen import recall
    from dokimon.core.text import counted

    folder = folder_asked(path)
    with refusing(), abandoning():
        verified = verify(folder, os.environ)
    target = verified.checkout.root / SETTINGS_FILE
    if target.exists() and not show:
        refuse(f"{target} is there already; dokimon init --show prints what would be written without it")
    plan_context = plan_context_of(verified, os.environ)
    try:
        plan = plan_smoke(verified, os.environ, ())
    except PlanFault:
        plan = Plan()
    last = recall(Logs(verified.checkout.root, os.environ))
    text = settings_text(verified, plan, plan_context, last)
    if show:
        print(text, end="")
        return
    try:
        target.write_text(text, "utf-8")
    except OSError as wrong:
        refuse(f"{target} cannot be written: {wrong.strerror}")
    print(
        f"wrote {target}: {counted(len(plan.prepare), 'prepare step')}, {counted(len(plan.runs), 'run')}."
        " Look at it, then try dokimon smoke."
    )
