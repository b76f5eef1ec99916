"""The map of failures: all that Dokimon raises for a caller to catch has the base `Fault` and is in `dokimon.faults`.

    Fault
    ├── of a call
    │   ├── OptionsFault        options that contradict each other                             jobs/options.py
    │   ├── SettingsFault       a dokimon.toml that cannot be used: all of its problems        settings/tables.py
    │   ├── CatalogueFault      a file of your own catalogue that cannot be used               machine/catalogue.py
    │   ├── SuppositionFault    what `--suppose` names is no tool or no version                proving/supposing.py
    │   ├── AcrossFault         what `--across` names is no tool of the catalogue              jobs/across.py
    │   ├── SuggestFault        what a suggestion is to go by cannot be used                   jobs/suggest.py
    │   ├── ComparisonFault     there is nothing to compare with                               jobs/compare.py
    │   └── ReportFault         a file that is no report                                       report/reading.py
    ├── of a checkout
    │   ├── ManifestFault       a file of it that cannot be read                               reading/manifest.py
    │   ├── VersionFault        a version or a constraint that its language does not allow     versions/faults.py
    │   ├── PlanFault           no way to start the project, or several to choose from         planning/plan.py
    │   ├── StartFault          a command that could not be started                            processes/tree.py
    │   ├── RunFault            a run that did not get up, for callers of `dokimon.running`    jobs/running.py
    │   ├── TurnFault           another smoke check is at work in the same checkout            smoking/turn.py
    │   └── CloneFault          no clone of the checkout could be made                         proving/git.py
    ├── of what is kept or drawn
    │   ├── RecordsFault        the file of records cannot be read or written                  records/store.py
    │   └── PlotFault           a history that cannot be drawn                                 records/plotting.py
    └── turned into a verdict, before any caller sees them
        ├── PatternFault        a regular expression that cannot be used, or takes too long    core/patterns.py
        └── PlaceFault, SelectorFault, RenderFault, HelperFault, JournalFault, RepositoryFault checks/

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
