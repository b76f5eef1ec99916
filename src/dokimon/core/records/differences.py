"""What is other between two records. Nothing here calls a difference a cause; `ranking` says what may matter most.

Each function holds one kind of thing against the same of another time or place: it stands in the module of that kind.
"""

from __future__ import annotations

from dokimon.core.records.found import Found
from dokimon.core.records.other_files import commits_differ, files_differ, packages_differ
from dokimon.core.records.other_results import runs_differ, times_differ
from dokimon.core.records.other_surroundings import plan_differs, services_differ, system_differs, variables_differ
from dokimon.core.records.other_tools import components_differ, needs_differ, tools_differ
from dokimon.core.records.record import Record
from dokimon.core.report.model import Report


def between(before: Record, after: Record, *, apart: bool) -> list[Found]:
    """Return what is other in `after`; `apart` where the two are from two machines or people, and not from two times."""
    ours = before.surroundings, after.surroundings
    needs, told = needs_differ(before.report, after.report, apart)
    files = () if apart and not all(each.files for each in ours) else files_differ(before, after, told, apart)
    found = [
        *needs,
        *tools_differ(before, after, apart),
        *components_differ(before.report, after.report),
        *(packages_differ(before, after) if all(each.packages for each in ours) or not apart else ()),
        *variables_differ(before, after, apart),
        *(() if apart else services_differ(before, after)),
        *plan_differs(before.report, after.report),
        *files,
        *commits_differ(before.report, after.report),
        *system_differs(before, after, apart),
    ]
    return list(dict.fromkeys(found))


def results_between(before: Report, after: Report) -> list[Found]:
    """Return what came out otherwise: runs, checks, times. These are what is to be explained."""
    return [*runs_differ(before, after), *times_differ(before, after)]
