"""Every verify and smoke leaves a record, and one that does not pass says what is other than when it last did."""

from __future__ import annotations

import contextlib
import re
import threading
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dokimon.core.jobs.provenance import with_provenance
from dokimon.core.jobs.verify import Verified
from dokimon.core.jobs.workspace import surveyor_for
from dokimon.core.records.contents import variables_in
from dokimon.core.records.record import Record
from dokimon.core.records.remembering import Memory, passed_before, store_of
from dokimon.core.records.store import RecordsFault
from dokimon.core.records.surroundings import Look, commands_in, look_before, reached_by, surroundings_of
from dokimon.core.report.model import Changes, Reached, Report, Surroundings
from dokimon.core.text import clean, counted

if TYPE_CHECKING:
    from dokimon.core.machine.survey import Installation
    from dokimon.core.planning.plan import Plan
    from dokimon.core.records.found import Found


class Recorder:
    """Makes the record of one call.

    `notes` are what is to be said about the records: that none could be kept, or that a damaged file was set aside.
    With `keeping` false nothing is written. `unchanged` is set once it is known that all is as when it last passed.
    """

    def __init__(self, verified: Verified, *, keeping: bool) -> None:
        checkout = verified.checkout
        self.notes: list[str] = []
        self.unchanged = threading.Event()
        self._verified, self._root = verified, checkout.root
        store = store_of(verified.environment, checkout.untrusted)
        self._memory = Memory(store, checkout.root, checkout.project) if store else None
        self._keeping = keeping and self._memory is not None and verified.workspace.settings.project.record
        self._look: Look | None = None
        self._looking: threading.Thread | None = None
        self._copies: dict[str, list[Installation]] = {}
        self._record: Record | None = None

    def begin(self, plan: Plan) -> None:
        """Look at the whole checkout, at who listens and at what the commands of the plan reach, meanwhile."""
        if self._keeping:
            self._looking = threading.Thread(target=self._look_meanwhile, args=(plan,), daemon=True)
            self._looking.start()

    def wait(self) -> None:
        """Wait until what `begin` began is over."""
        if self._looking:
            self._looking.join()

    def _look_meanwhile(self, plan: Plan) -> None:
        from dokimon.core.planning.plan import shown  # what only verifies plans nothing

        with contextlib.suppress(Exception):  # what is missing then is looked at in its turn, and a fault is told there
            self._look_at(whole=True)
            steps = [shown(each.command, each.folder, each.words) for each in plan.prepare]
            self._installed(commands_in([*steps, *(each.in_words for each in plan.runs)]))
            if self._is_as_when_passed(plan):
                self.unchanged.set()

    def _is_as_when_passed(self, plan: Plan) -> bool:
        """Whether the last smoke check passed, and all that is known is as it was then."""
        checks = [kept for kept in self._memory.rows() if kept.row.command == "smoke"] if self._memory else []
        if self._memory is None or not checks or not checks[-1].row.is_good or not plan.runs:
            return False
        from dokimon.core.records.sameness import is_as_then

        given = {name: value for run in plan.runs for name, value in run.environment.items()}
        around = self._surroundings(given, ())
        then = self._memory.store.record(checks[-1].id)
        return is_as_then(then, around, self._verified.findings, frozenset(each.name for each in plan.runs))

    def look_at_all(self) -> None:
        """Look at the whole checkout and at who listens, now."""
        self._look_at(whole=True)

    def told(self, report: Report, given: Mapping[str, str] = {}) -> Report:
        """Return the report, and, where it does not pass and did before, what is other than then.

        `given` are the variables that runs were given beside those of this process.
        """
        if self._memory is None:
            return report
        self.wait()
        report = with_provenance(report)
        try:
            failed = report.verdict not in ("met", "passed") and not report.interrupted
            if failed and (before := passed_before(self._memory.rows(), report)):
                record = self.record_of(report, given)
                report = _with_changes(report, self._memory.store.record(before.id), record)
            if self._keeping:
                self._record = self.record_of(report, given)
        except Exception as wrong:  # whatever it is, the answer itself must not be lost by it
            self._give_up(wrong)
        return report

    def keep(self) -> None:
        """Write the record that was made."""
        if self._record is None or self._memory is None:
            return
        try:
            self._memory.keep(self._record, self._look.files if self._look and self._look.all_files else {})
        except Exception as wrong:
            self._give_up(wrong)
        self.notes += self._memory.store.notes
        self._memory.store.close()

    def _give_up(self, wrong: Exception) -> None:
        bug = "" if isinstance(wrong, RecordsFault) else f"a bug in Dokimon, please report it: {type(wrong).__name__}: "
        self.notes.append(clean(f"no record was kept: {bug}{wrong}"))
        self._keeping, self._record = False, None

    def record_of(self, report: Report, given: Mapping[str, str]) -> Record:
        """Return the record of a report; raises `RecordsFault` where there is no key for its digests."""
        if self._record and self._record.report is report:
            return self._record
        around = self._record.surroundings if self._record else self.surroundings(report, given)
        bare = msgspec.structs.replace(report, since_passed=None, surroundings=None)
        # What was printed in a smoke check is masked by now; nothing else brings the value of a variable in here.
        self._record = Record(report=bare, surroundings=around)
        return self._record

    def surroundings(self, report: Report, given: Mapping[str, str]) -> Surroundings:
        """Return what may explain a later difference; raises `RecordsFault`."""
        self.wait()
        if self._look is None:
            self._look_at(whole=report.command == "smoke")
        return self._surroundings(given, self._commands(report))

    def _surroundings(self, given: Mapping[str, str], commands: tuple[Reached, ...]) -> Surroundings:
        look = self._look or Look({}, False, ())
        checkout, environment = self._verified.checkout, {**self._verified.environment, **given}
        key = self._memory.store.key() if self._memory else b""
        return surroundings_of(checkout.root, checkout.project, look, environment, commands, key)

    def shared(self, report: Report, given: Mapping[str, str] = {}) -> Report:
        """Return the report fit to hand on, with its surroundings, and without what is private about who made it."""
        from dokimon.core.report.sharing import Private, shared

        try:
            around = self._record.surroundings if self._record else self.surroundings(report, given)
            report = msgspec.structs.replace(report, surroundings=around)
        except RecordsFault as wrong:
            self.notes.append(str(wrong))
        values = {**given, **variables_in(self._root / ".env")}
        return shared(with_provenance(report), Private(self._verified.environment, values))

    def _look_at(self, *, whole: bool) -> None:
        known = self._memory.known_files() if self._memory else {}
        self._look = look_before(self._root, self._verified.declared.files, known, whole=whole)

    def _commands(self, report: Report) -> tuple[Reached, ...]:
        """Return what the commands of the project reach, also those that are no need of it."""
        plan = report.plan
        lines = [each.command for each in report.prepared or () if each.command]
        lines += [each.command for each in report.runs or ()]
        lines += [*(each.command for each in plan.prepare), *(each.command for each in plan.runs)] if plan else []
        names = commands_in(lines)
        if not names:
            return ()
        others = self._installed(names)
        extra = [copy.path.rpartition("/")[2] for copies in others.values() for copy in copies if copy.reached]
        found = {**self._verified.installations, **others}
        return reached_by(dict.fromkeys([*names, *extra]), found, self._verified.environment)

    def _installed(self, commands: Iterable[str]) -> dict[str, list[Installation]]:
        """Return the copies of the tools that these commands are and that are no need of the project."""
        verified = self._verified
        tools = self._tools(commands) - set(verified.installations)
        if asked := tools - set(self._copies):
            surveyor = surveyor_for(verified.workspace, verified.checkout.project, verified.environment, fresh=False)
            self._copies |= surveyor.reached(asked)
        return {tool: self._copies[tool] for tool in sorted(tools)}

    def _tools(self, names: Iterable[str]) -> set[str]:
        """Return the tools of the catalogue that go by these names (`python3` is Python), and what those run on."""
        catalogue = self._verified.workspace.catalogue
        known = catalogue.names()
        tools = {name for each in names for name in (each, re.sub(r"[\d.]+$", "", each)) if name in known}
        return tools | {on for tool in tools if (entry := catalogue.find(tool)) and (on := entry.runs_on)}


def _with_changes(report: Report, before: Record, after: Record) -> Report:
    # Loaded late: what passes is compared with nothing.
    from dokimon.core.records.differences import between
    from dokimon.core.records.failing import Failing
    from dokimon.core.records.ranking import ranked

    made = before.report.made
    if made is None:
        return report
    root = Path(report.project.root)
    found = [with_number(each, root, before) for each in between(before, after, apart=False)]
    differences = ranked(found, Failing(report))
    changes = Changes(at=made.at, commit=made.commit, differences=differences[:_MOST])
    return msgspec.structs.replace(report, since_passed=changes)


_MOST = 200


def with_number(found: Found, root: Path, before: Record) -> Found:
    """Return a difference of commits with how many there are between, where that is known; any other as it is."""
    made = before.report.made
    if found.subject != "commit" or made is None or made.commit is None:
        return found
    from dokimon.core.declarations.commits import commits_since

    number = commits_since(root, made.commit)
    return (
        found._replace(says=f"{counted(number, 'commit')} since ({found.before} → {found.after})") if number else found
    )
