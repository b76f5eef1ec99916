"""The faults that callers of the library may catch; all have the base `Fault`, with `reason`, `file` and `line`.

Each is loaded when it is first named: most callers catch one or two of them. docs/api.md says when each is raised.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dokimon.core.checks.helper import HelperFault
    from dokimon.core.checks.html import SelectorFault
    from dokimon.core.checks.journal import JournalFault
    from dokimon.core.checks.rendered import RenderFault
    from dokimon.core.checks.repository import RepositoryFault
    from dokimon.core.checks.value_places import PlaceFault
    from dokimon.core.faults import Fault
    from dokimon.core.jobs.across import AcrossFault
    from dokimon.core.jobs.compare import ComparisonFault
    from dokimon.core.jobs.options import OptionsFault
    from dokimon.core.jobs.running import RunFault
    from dokimon.core.jobs.suggest import SuggestFault
    from dokimon.core.machine.catalogue import CatalogueFault
    from dokimon.core.patterns import PatternFault
    from dokimon.core.planning.plan import PlanFault
    from dokimon.core.processes.tree import StartFault
    from dokimon.core.proving.git import CloneFault
    from dokimon.core.proving.supposing import SuppositionFault
    from dokimon.core.reading.manifest import ManifestFault
    from dokimon.core.records.plotting import PlotFault
    from dokimon.core.records.store import RecordsFault
    from dokimon.core.report.reading import ReportFault
    from dokimon.core.settings.tables import Problem, SettingsFault
    from dokimon.core.smoking.turn import TurnFault
    from dokimon.core.versions.faults import VersionFault

_WHERE = {
    "AcrossFault": "jobs.across",
    "CatalogueFault": "machine.catalogue",
    "CloneFault": "proving.git",
    "ComparisonFault": "jobs.compare",
    "Fault": "faults",
    "HelperFault": "checks.helper",
    "JournalFault": "checks.journal",
    "ManifestFault": "reading.manifest",
    "OptionsFault": "jobs.options",
    "PatternFault": "patterns",
    "PlaceFault": "checks.value_places",
    "PlanFault": "planning.plan",
    "PlotFault": "records.plotting",
    "Problem": "settings.tables",
    "RecordsFault": "records.store",
    "RenderFault": "checks.rendered",
    "ReportFault": "report.reading",
    "RepositoryFault": "checks.repository",
    "RunFault": "jobs.running",
    "SelectorFault": "checks.html",
    "SettingsFault": "settings.tables",
    "StartFault": "processes.tree",
    "SuggestFault": "jobs.suggest",
    "SuppositionFault": "proving.supposing",
    "TurnFault": "smoking.turn",
    "VersionFault": "versions.faults",
}
"""The module below `dokimon.core` that each is in."""

__all__ = [
    "AcrossFault",
    "CatalogueFault",
    "CloneFault",
    "ComparisonFault",
    "Fault",
    "HelperFault",
    "JournalFault",
    "ManifestFault",
    "OptionsFault",
    "PatternFault",
    "PlaceFault",
    "PlanFault",
    "PlotFault",
    "Problem",
    "RecordsFault",
    "RenderFault",
    "ReportFault",
    "RepositoryFault",
    "RunFault",
    "SelectorFault",
    "SettingsFault",
    "StartFault",
    "SuggestFault",
    "SuppositionFault",
    "TurnFault",
    "VersionFault",
]


def __getattr__(name: str) -> Any:
    """Load the module of a fault."""
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"dokimon.core.{_WHERE[name]}"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
