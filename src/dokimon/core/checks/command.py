"""A command of the project's own, run while the run is up (or after it has ended), judged by its end and its output."""

from __future__ import annotations

import msgspec

from dokimon.core.checks import console
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Text, Texts, Wanted, texts
from dokimon.core.files import inside
from dokimon.core.machine.platform import shell_command
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

_LAST_LINES = 3


class Command(Wanted, frozen=True, kw_only=True):
    """`command = "npm test"`, `in` a folder, with variables of its `environment`; it must end `within` a time.

    What its `exit` must be, and what it `prints`, `never` prints, or its whole `output`, is said as for a console.
    """

    command: str = ""
    folder: str = msgspec.field(default=".", name="in")
    environment: dict[str, str] = {}
    exit: int = 0
    prints: Texts = []
    never: Texts = []
    in_order: bool = False
    output: Text | None = None
    within: str = "2m"


def title(wanted: Command) -> str:
    """Return what the check is called where nobody named it."""
    return wanted.command


def check(wanted: Command, scene: Scene) -> list[Check]:
    """Run it to its end, and hold that and its output against what is wanted."""
    from dokimon.core.launching.output import Output, secrets_in
    from dokimon.core.launching.to_end import run_to_end
    from dokimon.core.launching.tree import StartFault

    name, expected = clean(scene.filled(wanted.command), 80), f"exit status {wanted.exit}"
    folder = scene.root / wanted.folder
    if not inside(folder, scene.root):
        return [Check(name, "failed", expected, clean(f"{wanted.folder} leads out of the checkout"))]
    variables = {**scene.environment, **{key: scene.filled(value) for key, value in wanted.environment.items()}}
    output = Output(None, scene.evidence(f"{name}.log"), secrets_in(variables))
    try:
        end = run_to_end(
            shell_command(scene.filled(wanted.command)), folder, variables, output, seconds(wanted.within), scene.halt
        )
    except StartFault as fault:
        output.close()
        return [Check(name, "failed", expected, clean(f"could not be started: {fault}"))]
    log = str(output.log) if output.log else None
    if not end.ended:
        verdict: CheckVerdict = "unsure" if scene.halt.is_set() else "failed"
        return [Check(name, verdict, expected, end.reason, end.seconds, evidence=log)]
    seen, right = end.reason, end.status == wanted.exit
    if not right and (last := output.last(_LAST_LINES)):
        seen += f": “{last[-1]}”"
    checks = [Check(name, "passed" if right else "failed", expected, clean(seen), end.seconds, evidence=log)]
    if texts(wanted.prints) or texts(wanted.never) or wanted.output is not None:
        wish = console.Console(prints=wanted.prints, never=wanted.never, in_order=wanted.in_order, output=wanted.output)
        over = msgspec.structs.replace(scene, output=output, ended=(end.status, end.seconds))
        checks += console.check(wish, over)
    return checks
