"""When, with which Dokimon, on which machine and for which revision of the checkout a report was made."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import msgspec

from dokimon.core.declarations.revision import revision_of
from dokimon.core.machine.platform import architecture_name, system_name
from dokimon.core.machine.system import release_name
from dokimon.core.report.model import Provenance, Report
from dokimon.core.text import clean
from dokimon.core.version import __version__


def with_provenance(report: Report) -> Report:
    """Return the report with where it comes from. Kept apart from what it says: that is the same whenever it is made."""
    revision = revision_of(Path(report.project.root))
    provenance = Provenance(
        at=datetime.now(UTC).isoformat(timespec="seconds"),
        dokimon=__version__,
        system=system_name(),
        architecture=architecture_name(),
        release=release_name(),
        commit=revision.commit if revision else None,
        branch=clean(revision.branch, 200) if revision and revision.branch else None,
        changed=revision.changed if revision else None,
    )
    return msgspec.structs.replace(report, made=provenance)
