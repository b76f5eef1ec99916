"""A command of the project's own, run while the run is up (or after it has ended), judged by its end and its output."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dokimon.core.checks.console import Console
from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec, Text, Texts, texts
from dokimon.core.files import inside
from dokimon.core.machine.platform import shell_command
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

_LAST_LINES = 3


class Command(CheckSpec, frozen=True, kw_only=True):
    """`command = "npm test"`, `in` a folder, with variables of its `environment`; it must end `within` a time.

    What its `exit` must be, and what it `prints`, `never` prints, or its whole `output`, are given as for a console.
    """

    kind_name: ClassVar[str] = "command"
    must_finish: ClassVar[bool] = True

    command: str = ""
    folder: str = msgspec.field(default=".", name="in")
    environment: dict[str, str] = {}
    exit: int = 0
    prints: Texts = []
    never: Texts = []
    in_order: bool = False
    output: Text | None = None
    within: str = "2m"

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return self.command

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Command, context: CheckContext) -> list[Check]:
    """Run it to its end, and compare that and its output with what is wanted."""
    from dokimon.core.processes.masking import secrets_in
    from dokimon.core.processes.output import Output
    from dokimon.core.processes.to_end import run_to_end
    from dokimon.core.processes.tree import StartFault

    name, expected = clean(context.filled(spec.command), 80), f"exit status {spec.exit}"
    folder = context.root / spec.folder
    if not inside(folder, context.root):
        return [
            Check(name=name, verdict="failed", expected=expected, seen=clean(f"{spec.folder} is outside the checkout"))
        ]
    variables = {**context.environment, **{key: context.filled(value) for key, value in spec.environment.items()}}
    output = Output(None, context.evidence(f"{name}.log"), secrets_in(variables, context.root))
    try:
        end = run_to_end(
            shell_command(context.filled_for_shell(spec.command)),
            folder,
            variables,
            output,
            seconds(spec.within),
            context.halt,
        )
    except StartFault as fault:
        output.close()
        return [Check(name=name, verdict="failed", expected=expected, seen=clean(f"could not be started: {fault}"))]
    log = str(output.log) if output.log else None
    if not end.ended:
        verdict: CheckVerdict = "unsure" if context.halt.is_set() else "failed"
        return [
            Check(name=name, verdict=verdict, expected=expected, seen=end.reason, seconds=end.seconds, evidence=log)
        ]
    seen, right = end.reason, end.status == spec.exit
    if not right and (last := output.last(_LAST_LINES)):
        seen += f": “{last[-1]}”"
    checks = [
        Check(
            name=name,
            verdict="passed" if right else "failed",
            expected=expected,
            seen=clean(seen),
            seconds=end.seconds,
            evidence=log,
        )
    ]
    if texts(spec.prints) or texts(spec.never) or spec.output is not None:
        wish = Console(prints=spec.prints, never=spec.never, in_order=spec.in_order, output=spec.output)
        over = msgspec.structs.replace(context, output=output, ended=(end.status, end.seconds))
        checks += wish.look(over)
    return checks
