"""What the output of a run says of it: why it failed, or which error it went on in spite of; and where the output is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dokimon.core.diagnosis.diagnosing import diagnose, notice
from dokimon.core.expressions import expression
from dokimon.core.processes.output import Output
from dokimon.core.report.model import Diagnosis, Remedy, Run
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.shown.by_checkout import shown_by_checkout
from dokimon.core.smoking.shown.settings import variable_read_at
from dokimon.core.smoking.unmet import unmet_need
from dokimon.core.smoking.workable import workable


class Explained(msgspec.Struct, frozen=True, kw_only=True):
    """The likely causes of a failure, or the errors beside a pass; the log, and what is left out of it (bytes)."""

    diagnoses: tuple[Diagnosis, ...] = ()
    noticed: tuple[Diagnosis, ...] = ()
    log: str | None = None
    left_out: int | None = None
    warnings: int | None = None

    @property
    def knows_why(self) -> bool:
        """Whether a cause that is known is among those told."""
        return any(each.name != "not-known" for each in self.diagnoses)


def explain(run: Run, output: Output, context: RunContext, folder: Path, told: Sequence[str] = ()) -> Explained:
    """Return what the output says of a run of the project in `folder`; `told` is what it answered where that was wrong."""
    looks = context.looks
    went_on = run.verdict == "passed" and run.kind == "server"
    return Explained(
        diagnoses=_causes([*output.kept(), *told], run, context, folder) if run.verdict in ("failed", "unsure") else (),
        noticed=notice(output.kept(), looks) if went_on else (),
        log=str(output.log) if output.log else None,
        left_out=output.left_out or None,
        warnings=output.warnings or None,
    )


def _causes(lines: Sequence[str], run: Run, context: RunContext, folder: Path) -> tuple[Diagnosis, ...]:
    """Return the likely causes of a failure; that there is no .env, where an example of one lies, is always among them.

    What the checkout shows comes before what the words of the output do: those are of whoever stumbled over it. A need that
    is not met comes first where the output tells of no certain cause; beside one that is, only what is required is told.
    """
    looks = context.looks
    # What a run says when Dokimon stops it, or of what Dokimon asked it, says nothing of why it failed.
    lines = [line for line in lines if not (_OF_DOKIMON.search(line) or (run.stopped_by and _OF_THE_STOP.search(line)))]
    status = None if run.stopped_by else run.exit_status
    found = diagnose(lines, status, looks, went_on=run.up_by is not None, root=context.root)
    found = tuple(_of_two_parts(each, run) for each in found)
    if shown := shown_by_checkout(lines, context.root, folder)[:1]:
        place = next((each.at for each in found if each.line == shown[0].line), None)
        found = (replace(shown[0], at=shown[0].at or place),)
    elif (
        found
        and found[0].name in _OF_NOTHING
        and (read := variable_read_at(found[0], context.root, context.environment))
    ):
        found = (read, *found[1:])
    is_uncertain = not shown and all(each.name in _UNCERTAIN for each in found)
    needs = [each for each in context.unmet if is_uncertain or each.strength == "required"]
    if unmet := unmet_need(needs, run.command):
        found = (unmet, *found) if is_uncertain else (*found[:1], unmet)
    found = workable(found, folder)
    copies = looks["example"]({}) if "example" in looks else ()
    if not copies or any(each.name == "dotenv-missing" for each in found):
        return found
    cause = "there is no .env, though an example of one is there"
    return (*found, Diagnosis(name="dotenv-missing", cause=cause, remedies=tuple(copies)))


_OF_THE_STOP = expression(
    r"^\s*KeyboardInterrupt\b|: Interrupt$|^Interrupt(?:ed)?\b"
    r"|\b(?:exited|ended|killed|terminated|got|received)\b.*\bSIG(?:INT|TERM)\b"
)
_OF_DOKIMON = expression(r"\bInvalid HTTP version \(2\.0\)|Bad request (?:version|syntax) \('(?:HTTP/2\.0|PRI)")

_A_PORT = "the port is taken"
"""What is said where an error does not name the port."""

_OF_NOTHING = frozenset({"not-known", "type-error-undefined", "nil-used", "own-exception"})
"""Causes that a value of nothing has: of a variable that is not set, say."""

_UNCERTAIN = frozenset({
    "not-known", "type-error-undefined", "does-not-parse", "syntax-error", "cannot-import-name", "runtime-lacks",
    "attribute-missing", "other-version", "native-crash", "unhandled-rejection", "export-missing",
})  # fmt: skip
"""Causes that a runtime of the wrong version has as well."""


def _of_two_parts(found: Diagnosis, run: Run) -> Diagnosis:
    """Return what it means that a port is taken, where it is a part of the same run that took it."""
    own = {each.port for each in run.listening} - {each.port for each in run.strangers}
    port = next((number for each in _PORTS.findall(found.line or "") if (number := int(each)) in own), None)
    if found.name != "port-in-use" or port is None:
        return found
    return replace(
        found,
        cause=f"two parts of the project want port {port}: one of them took it, the other could not",
        remedies=(Remedy(say=f"give one of the two another port than {port}"),),
    )


_PORTS = expression(r"(?<!\d)\d{2,5}(?!\d)")
