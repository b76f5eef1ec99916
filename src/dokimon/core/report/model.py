"""The report as data; a key that does not apply is left out. The JSON Schema beside this file is made from it."""

from __future__ import annotations

from typing import Final, Literal

import msgspec

from dokimon.core.machine.components import Component
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.system import System
from dokimon.core.source import Source

FORMAT: Final = "dokimon-report/1"
FORMAT_MINOR: Final = 5
"""Raised when keys are added; those that are there keep their meaning."""

FindingVerdict = Literal["met", "unmet", "missing", "off-path", "conflict", "unknown"]
CheckVerdict = Literal["passed", "failed", "unsure", "skipped"]
Verdict = Literal["met", "unmet", "unknown", "passed", "failed", "unsure"]


class _Part(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """What all parts of the report share."""


class Remedy(_Part, frozen=True):
    """What to do next: a sentence, and where there is one a command to copy. Dokimon never runs it."""

    say: str
    command: str | None = None


class Found(_Part, frozen=True):
    """The installation that a finding is about."""

    path: str
    version: str | None = None
    known_by: str | None = None


class Finding(_Part, frozen=True, kw_only=True):
    """A requirement, and what came of it when it was compared with the survey (`needs` leaves that out).

    `tool` is the subject, `component` the part of it that is meant; `kind` is the kind of a subject other than a tool.
    `wanted` is as declared, `accepts` the same in words. `part` is the folder of the project that declares it. `title` is
    the tool's name for people. Where `wanted` cannot be read, `wrong_at` is the place in it (in characters, from 0).
    """

    id: str
    tool: str
    wanted: str
    accepts: str
    language: str
    strength: Literal["required", "advised"]
    source: Source
    kind: Literal["tool", "component", "variable", "path", "platform", "service", "fact"] = "tool"
    component: str | None = None
    part: str | None = None
    title: str | None = None
    verdict: FindingVerdict | None = None
    reason: str | None = None
    wrong_at: int | None = None
    why: str | None = None
    found: Found | None = None
    remedies: tuple[Remedy, ...] = ()


class Conflict(_Part, frozen=True):
    """Declarations that cannot all be true, by the ids of their findings."""

    tool: str
    between: tuple[str, ...]
    reason: str


class Agreed(_Part, frozen=True, kw_only=True):
    """What all required declarations of a tool accept together; the oldest version and the newest line that will do.

    `places` are the folders for which that holds, where folders need different versions side by side.
    """

    tool: str
    accepts: str
    lowest: str | None = None
    newest: str | None = None
    places: tuple[str, ...] = ()


class Project(_Part, frozen=True):
    """The checkout: its root, the folder below it that was looked at (where it is another), its name."""

    root: str
    name: str
    folder: str | None = None


class Prepared(_Part, frozen=True, kw_only=True):
    """A prepare step: `skipped` when it was not needed; `reason` says why it was, or was not, or what went wrong.

    `log_left_out` are the bytes that its log does not have, because it reached its largest size. It was begun
    `at_seconds` after the smoke check was.
    """

    title: str
    verdict: CheckVerdict
    reason: str
    command: str | None = None
    at_seconds: float | None = None
    seconds: float | None = None
    source: Source | None = None
    exit_status: int | None = None
    last_lines: tuple[str, ...] = ()
    log: str | None = None
    log_left_out: int | None = None
    diagnoses: tuple[Diagnosis, ...] = ()


class Diagnosis(_Part, frozen=True, kw_only=True):
    """The likely cause of a failure: what it is called, in words, the line of output that shows it, and what to do.

    `at` is the place in the project's own code (`src/board.py:3`, below the root of the checkout), where a stack names one.
    """

    name: str
    cause: str
    line: str | None = None
    at: str | None = None
    remedies: tuple[Remedy, ...] = ()


class Listening(_Part, frozen=True, kw_only=True):
    """A listening socket of the run's own process tree. `exposed` when other machines may reach it."""

    address: str
    port: int
    pid: int
    exposed: bool


class Stranger(_Part, frozen=True, kw_only=True):
    """A process outside the run that holds the port which the run usually takes."""

    port: int
    address: str
    pid: int | None = None
    command: str | None = None


Grade = Literal["answers", "serves", "serves what is expected"]
"""How far a server comes: it answers at all, with a success, with what was expected of it."""


class Check(_Part, frozen=True, kw_only=True):
    """One smoke check: what was expected, what was seen, how long it took.

    `kind` is what was looked at, `source` the line that asked for it. `attempts` says that it took several, `evidence` is
    the file that shows what was seen. `part_of` names the check that it came with, where it is one of several; with
    `sums_up`, those that follow tell what it found once more, each for itself.
    """

    name: str
    verdict: CheckVerdict
    expected: str
    seen: str
    seconds: float | None = None
    kind: str | None = None
    source: Source | None = None
    grade: Grade | None = None
    attempts: int | None = None
    evidence: str | None = None
    part_of: str | None = None
    sums_up: bool = False

    @property
    def full_name(self) -> str:
        """The name with that of the check it came with, fit to be shown alone."""
        return f"{self.part_of}: {self.name}" if self.part_of else self.name


class Fact(_Part, frozen=True):
    """A value that a check found out."""

    name: str
    value: str


class StopStep(_Part, frozen=True):
    """One step of stopping: the signal, how many processes were still there, and the seconds until the next step."""

    signal: str
    processes: int
    seconds: float


class Sign(_Part, frozen=True, kw_only=True):
    """Something seen of a run that speaks `for` its working or `against` it, or is `fatal`; docs/starting.md lists them."""

    name: str
    effect: Literal["for", "against", "fatal"]
    seen: str


class Run(_Part, frozen=True, kw_only=True):
    """A run from start to stop.

    It was started `at_seconds` after the smoke check began; since its own start it took `up_seconds` until it was up,
    `answered_seconds` until it first answered over HTTP, `checked_seconds` until it was checked, and `ended_seconds` until
    it was over, of which `stop_seconds` went by in stopping it; from `up_seconds` on it was watched for `watched_seconds`.
    `url` is where to look; `up_by` says how it was known to be up. `log` is the file with all that it printed (less
    `log_left_out` bytes in the middle, where it reached its largest size),
    `warnings` how many warnings and deprecations were among that: they never fail a run; nor do the errors that a run which
    passed told of (`noticed`). `exposure_meant` says that other
    machines are meant to reach it.
    """

    name: str
    command: str
    kind: Literal["server", "program", "unknown"]
    verdict: CheckVerdict
    reason: str
    source: Source | None = None
    url: str | None = None
    up_by: str | None = None
    at_seconds: float | None = None
    up_seconds: float | None = None
    answered_seconds: float | None = None
    checked_seconds: float | None = None
    watched_seconds: float | None = None
    ended_seconds: float | None = None
    listening: tuple[Listening, ...] = ()
    strangers: tuple[Stranger, ...] = ()
    checks: tuple[Check, ...] = ()
    signs: tuple[Sign, ...] = ()
    facts: tuple[Fact, ...] = ()
    diagnoses: tuple[Diagnosis, ...] = ()
    noticed: tuple[Diagnosis, ...] = ()
    exit_status: int | None = None
    last_lines: tuple[str, ...] = ()
    log: str | None = None
    log_left_out: int | None = None
    warnings: int | None = None
    exposure_meant: bool = False
    stopped_by: str | None = None
    stop_seconds: float | None = None
    stopping: tuple[StopStep, ...] = ()
    left_behind: tuple[str, ...] = ()


class PlannedStep(_Part, frozen=True, kw_only=True):
    """A prepare step that would be done; `needed` says why, and is left out where it is not. `folder` is below the root."""

    title: str
    command: str
    needed: str | None = None
    source: Source | None = None
    folder: str | None = None


class PlannedRun(_Part, frozen=True, kw_only=True):
    """A run that would be carried out, `after` others; `checks` are those that it is given.

    A `proposal` is what somebody wrote for people; it is only carried out when it is asked for by name.
    """

    name: str
    command: str
    source: Source | None = None
    kind: Literal["server", "program"] | None = None
    port: int | Literal["any"] | None = None
    after: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    folder: str | None = None
    proposal: bool = False


class Planned(_Part, frozen=True):
    """What `smoke` would do; `others` are the other ways to start the project, the best first."""

    prepare: tuple[PlannedStep, ...]
    runs: tuple[PlannedRun, ...]
    others: tuple[PlannedRun, ...] = ()


class Answer(_Part, frozen=True, kw_only=True):
    """What there is to say of a command that was asked about by name and that is not reached, and what to do."""

    command: str
    verdict: FindingVerdict
    reason: str
    remedies: tuple[Remedy, ...] = ()


class NeededBy(_Part, frozen=True, kw_only=True):
    """A checkout that needs a tool: what it accepts, the verdict, and the copy that a command reaches in it."""

    project: str
    tool: str
    accepts: str
    verdict: FindingVerdict
    version: str | None = None
    path: str | None = None


class Provenance(_Part, frozen=True, kw_only=True):
    """Where a report comes from: `at` which time (RFC 3339, UTC), with which `dokimon`, on which system, its `release`.

    `commit` and `branch` are those of the checkout, `changed` says whether tracked files differ from the commit; left out
    where the checkout is in no repository of git's, or where git's files do not say.
    """

    at: str
    dokimon: str
    system: str
    architecture: str
    release: str
    commit: str | None = None
    branch: str | None = None
    changed: bool | None = None


class Reached(_Part, frozen=True, kw_only=True):
    """What a command of the project starts here: its file, the file behind links (`real`), the tool it is, its version.

    `mark` tells one state of that file from another: it changes with its size or time.
    """

    command: str
    path: str
    real: str | None = None
    tool: str | None = None
    version: str | None = None
    mark: str | None = None


class Surroundings(_Part, frozen=True, kw_only=True):
    """What may explain why it comes out otherwise another time, or elsewhere; never the value of a variable.

    `variables` are the names of those that a run was given, each with a digest of its value that only this machine's
    records can compare (empty in a report to share); so are `variables_in`, those that `.env` files give, by file. `files`
    are those of the checkout (`all_files` of them, or only those that were read) with digests of their contents:
    12 hexadecimal digits of SHA-1, as git makes it of a blob. `packages` are what lock files pin and what is installed:
    version by name, by place; `direct` are those that the project's own manifests name. `listening` are the TCP ports on
    which this machine listened before the runs. `machine` tells one machine from another where a home is shared.
    """

    system: str
    architecture: str
    release: str
    kernel: str | None = None
    machine: str | None = None
    commands: tuple[Reached, ...] = ()
    variables: dict[str, str] = {}
    files: dict[str, str] = {}
    all_files: bool = False
    variables_in: dict[str, dict[str, str]] = {}
    packages: dict[str, dict[str, str]] = {}
    direct: tuple[str, ...] = ()
    listening: tuple[int, ...] = ()


DifferenceWeight = Literal["named", "used", "major", "minor"]
DifferenceGroup = Literal[
    "needs", "tools", "packages", "variables", "services", "files", "plan", "runs", "checks", "times", "system"
]


class Difference(_Part, frozen=True, kw_only=True):
    """What is other than before, or elsewhere: `says` it in words, `before` and `after` are the two states, where short.

    `weight` says why it stands where it stands: `named` by what failed, `used` by what failed, a `major` or a `minor`
    difference beside. It is never a cause by itself.
    """

    group: DifferenceGroup
    subject: str
    says: str
    weight: DifferenceWeight
    before: str | None = None
    after: str | None = None
    more: tuple[str, ...] = ()


class Changes(_Part, frozen=True, kw_only=True):
    """What is other since it last passed: `at` which time (RFC 3339), at which `commit`; the most telling first."""

    at: str
    commit: str | None = None
    differences: tuple[Difference, ...] = ()


class Beside(_Part, frozen=True, kw_only=True):
    """Another tool of a combination: its version, and whether that is `declared`."""

    tool: str
    version: str
    path: str
    declared: bool


class Tried(_Part, frozen=True, kw_only=True):
    """What came of the project under one version of a tool: whether that is `declared`, the first cause where it failed.

    `beside` are the versions of the other tools that it was tried with, where several are combined.
    """

    version: str
    path: str
    declared: bool
    verdict: CheckVerdict
    beside: tuple[Beside, ...] = ()
    cause: str | None = None
    checks: str | None = None
    prepare_seconds: float | None = None
    up_seconds: float | None = None


class Accepted(_Part, frozen=True, kw_only=True):
    """What is declared of a tool, in words; without `accepts` nothing is."""

    tool: str
    accepts: str | None = None


class NotTried(_Part, frozen=True, kw_only=True):
    """A version that is declared, of a `line` of releases that no copy here belongs to: how one is got."""

    tool: str
    version: str
    line: str
    remedies: tuple[Remedy, ...] = ()


class Across(_Part, frozen=True, kw_only=True):
    """What came of it under several versions of a tool, the oldest first; `says` what is proven by that, in sentences.

    `beside` are the other tools, where several are combined; `not_tried` is what is declared and not here.
    """

    tool: str
    accepts: str | None = None
    beside: tuple[Accepted, ...] = ()
    tried: tuple[Tried, ...] = ()
    says: tuple[str, ...] = ()
    not_tried: tuple[NotTried, ...] = ()


class Suggestion(_Part, frozen=True, kw_only=True):
    """What a declaration would be by what was proven: `before` in a line of a `file`, and what would stand there `after`.

    Without `before` it is only said.
    """

    tool: str
    says: str
    file: str | None = None
    line: int | None = None
    before: str | None = None
    after: str | None = None


class Suggested(_Part, frozen=True, kw_only=True):
    """What was proven, in sentences (`by`), what would be declared by that, and the `change` of the files as a patch."""

    by: tuple[str, ...] = ()
    suggestions: tuple[Suggestion, ...] = ()
    change: str | None = None


class FromClone(_Part, frozen=True, kw_only=True):
    """That it was not the folder but a clone of it: of which commit (None where the folder was copied), what it `lacks`.

    With `staged` what was staged was in it too. `folder_passed` is when the folder itself last passed, as people read it.
    """

    commit: str | None = None
    staged: bool = False
    lacks: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    folder_passed: str | None = None


class Report(_Part, frozen=True, kw_only=True):
    """Everything about one invocation.

    `minor` rises when the format gains keys, `made` says where the report comes from. `projects_below` are projects in
    folders below one that is none itself. `picked` are the folders that were put first on PATH for this call alone, with
    `picked_variables` set along.
    `supposed` are tools with versions that are not there, and that were judged as if a command reached them.
    `needed_by` are checkouts that need the tools that were asked about (`tools --needed-by`).
    `answers` are for the commands that `tools` was asked about and that are not reached. `other_ways` are those to start
    the project that `smoke` did not take, the best first. `checks` look at the checkout when all is over;
    `changed_files` are files that git does not ignore and that the smoke check made or changed.
    It took `seconds` in all, `verify_seconds` of them to verify; `own_seconds` are Dokimon's own: the project neither worked
    nor was watched. `since_passed` is what is other than when it last passed,
    where it does not any more; `from_clone` is there where a clone was carried out, `across` where clones were under
    several versions of a tool. In a `strict` one advised needs had a say, too. `surroundings` are part of a report that is
    made to be shared, which is then `shared`.
    """

    format: Literal["dokimon-report/1"]
    minor: int
    command: Literal["needs", "tools", "verify", "smoke"]
    verdict: Verdict
    project: Project
    requirements: tuple[Finding, ...]
    projects_below: tuple[str, ...] = ()
    installations: tuple[Installation, ...] = ()
    components: tuple[Component, ...] = ()
    system: System | None = None
    picked: tuple[str, ...] = ()
    picked_variables: dict[str, str] = {}
    supposed: tuple[str, ...] = ()
    conflicts: tuple[Conflict, ...] = ()
    agreed: tuple[Agreed, ...] = ()
    plan: Planned | None = None
    prepared: tuple[Prepared, ...] | None = None
    runs: tuple[Run, ...] | None = None
    other_ways: tuple[PlannedRun, ...] = ()
    checks: tuple[Check, ...] = ()
    changed_files: tuple[str, ...] = ()
    answers: tuple[Answer, ...] = ()
    needed_by: tuple[NeededBy, ...] = ()
    notes: tuple[str, ...] = ()
    made: Provenance | None = None
    interrupted: bool = False
    strict: bool = False
    seconds: float | None = None
    verify_seconds: float | None = None
    own_seconds: float | None = None
    since_passed: Changes | None = None
    from_clone: FromClone | None = None
    across: Across | None = None
    suggested: Suggested | None = None
    surroundings: Surroundings | None = None
    shared: bool = False
