"""The map of failures: everything that Dokimon raises for a caller to catch has the base `Fault`.

    Fault
    ├── VersionFault        a version or a constraint that its language does not allow     versions/faults.py
    ├── ManifestFault       a file of the checkout that cannot be read                     reading/manifest.py
    ├── CatalogueFault      a file of your own catalogue that cannot be used               machine/catalogue.py
    ├── SettingsFault       a dokimon.toml that cannot be used: all of its problems        settings/tables.py
    ├── PlanFault           no way to start the project, or several to choose from         planning/plan.py
    ├── StartFault          a command that could not be started                            processes/tree.py
    ├── TurnFault           another smoke check is at work in the same checkout            smoking/turn.py
    ├── PatternFault        a regular expression that cannot be used, or takes too long    core/patterns.py
    ├── AcrossFault         what `--across` names is no tool of the catalogue              jobs/across.py
    ├── CloneFault          no clone of the checkout could be made                         proving/git.py
    ├── SuppositionFault    what `--suppose` names is no tool or no version                proving/supposing.py
    ├── RunFault            a run that did not get up, for callers of `dokimon.running`    jobs/running.py
    └── faults that only checks raise, and turn into a verdict themselves: PlaceFault, SelectorFault, RenderFault,
        HelperFault, JournalFault, RepositoryFault                                         checks/

Each carries `reason`, and `file` and `line` where the place is known.
"""

from __future__ import annotations

from typing import ClassVar


class Fault(Exception):
    """What went wrong: the `reason` in words, the `file` (as a message names it, or empty) and the `line` (from 1).

    One `of_call` is the caller's own: no other checkout would do better.
    """

    of_call: ClassVar[bool] = False

    def __init__(self, reason: str, *, file: str = "", line: int = 1) -> None:
        super().__init__(reason)
        self.reason = reason
        self.file = file
        self.line = line

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.reason}" if self.file else self.reason
