"""What the output of a run says of it: why it failed, or which error it went on in spite of; and where the output is."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from dokimon.core.diagnosis.diagnosing import Look, diagnose, notice
from dokimon.core.expressions import expression
from dokimon.core.processes.output import Output
from dokimon.core.report.model import Diagnosis, Remedy, Run


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


def explain(run: Run, output: Output, looks: Mapping[str, Look]) -> Explained:
    """Return what the output says of a run."""
    went_on = run.verdict == "passed" and run.kind == "server"
    return Explained(
        diagnoses=_causes(output, run, looks) if run.verdict in ("failed", "unsure") else (),
        noticed=notice(output.kept(), looks) if went_on else (),
        log=str(output.log) if output.log else None,
        left_out=output.left_out or None,
        warnings=output.warnings or None,
    )


def _causes(output: Output, run: Run, looks: Mapping[str, Look]) -> tuple[Diagnosis, ...]:
    """Return the likely causes of a failure; that there is no .env, where an example of one lies, is always among them."""
    found = diagnose(output.kept(), run.exit_status, looks, went_on=run.up_by is not None)
    found = tuple(_of_two_parts(each, run) for each in found)
    copies = looks["example"]({}) if "example" in looks else ()
    if not copies or any(each.name == "dotenv-missing" for each in found):
        return found
    cause = "there is no .env, though an example of one is there"
    return (*found, Diagnosis(name="dotenv-missing", cause=cause, remedies=tuple(copies)))


def _of_two_parts(found: Diagnosis, run: Run) -> Diagnosis:
    """Return what it means that a port is taken, where it is a part of the same run that took it."""
    own = {each.port for each in run.listening} - {each.port for each in run.strangers}
    port = next((number for each in _PORTS.findall(found.line or "") if (number := int(each)) in own), None)
    if found.name != "port-in-use" or port is None:
        return found
    return msgspec.structs.replace(
        found,
        cause=f"two parts of the project want port {port}: one of them took it, the other could not",
        remedies=(Remedy(say=f"give one of the two another port than {port}"),),
    )


_PORTS = expression(r"(?<!\d)\d{2,5}(?!\d)")
