"""The faults that callers of the library may catch; all have the base `Fault`, with `reason`, `file` and `line`."""

from dokimon.core.faults import Fault
from dokimon.core.jobs.running import RunFault
from dokimon.core.machine.catalogue import CatalogueFault
from dokimon.core.patterns import PatternFault
from dokimon.core.planning.plan import PlanFault
from dokimon.core.processes.tree import StartFault
from dokimon.core.reading.manifest import ManifestFault
from dokimon.core.settings.tables import Problem, SettingsFault
from dokimon.core.versions.faults import VersionFault

__all__ = [
    "CatalogueFault",
    "Fault",
    "ManifestFault",
    "PatternFault",
    "PlanFault",
    "Problem",
    "RunFault",
    "SettingsFault",
    "StartFault",
    "VersionFault",
]
