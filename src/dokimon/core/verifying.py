"""The first of Dokimon's two questions: is this machine fit for the checkout?"""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.declarations import read_declarations
from dokimon.core.declarations.checkout import SETTINGS_FILE, Checkout, find_checkout
from dokimon.core.declarations.manifest import ManifestFault, open_manifest
from dokimon.core.declarations.requirement import Requirement, any_version, requirement
from dokimon.core.judging import judge
from dokimon.core.machine.survey import Installation, survey
from dokimon.core.report.model import FORMAT, Finding, Project, Report
from dokimon.core.report.outcome import verdict_of_findings
from dokimon.core.settings import Fault, Settings, SettingsFault, read_settings
from dokimon.core.text import clean


class Verified(msgspec.Struct, frozen=True):
    """What `verify` knows, for `smoke` to go on with."""

    checkout: Checkout
    settings: Settings
    findings: tuple[Finding, ...]
    installations: dict[str, list[Installation]]


def verify(start: Path, environment: Mapping[str, str]) -> Verified:
    """Read the checkout that holds the folder `start`, survey this machine and judge.

    Raises `SettingsFault` when the checkout's `dokimon.toml` cannot be used.
    """
    checkout = find_checkout(start)
    settings, settings_name = load_settings(checkout)
    requirements = [*read_declarations(checkout), *_needs(settings, settings_name, checkout)]
    installations = survey({r.tool for r in requirements}, checkout.project, checkout.root, environment)
    path = environment.get("PATH", "")
    findings = judge(requirements, installations, lambda command: shutil.which(command, path=path) is not None)
    return Verified(checkout, settings, findings, installations)


def load_settings(checkout: Checkout) -> tuple[Settings, str]:
    """Return the settings of the checkout (empty ones without a `dokimon.toml`) and the file's name in sources."""
    path = checkout.root / SETTINGS_FILE
    if not path.exists() and not path.is_symlink():
        return Settings(), SETTINGS_FILE
    try:
        return read_settings(open_manifest(path, checkout.root)), SETTINGS_FILE
    except ManifestFault as wrong:
        raise SettingsFault(SETTINGS_FILE, [Fault(wrong.line, wrong.reason)]) from None


def _needs(settings: Settings, name: str, checkout: Checkout) -> Sequence[Requirement]:
    if not settings.need:
        return []
    manifest = open_manifest(checkout.root / name, checkout.root)
    made = []
    for index, need in enumerate(settings.need):
        source = manifest.source(settings.line("need", index))
        shown = msgspec.structs.replace(source, text=_as_written(need.tool, need.version))
        if need.version is None:
            each = msgspec.structs.replace(any_version(need.tool, shown, need.why), strength=need.strength)
        else:
            each = requirement(need.tool, need.version, "plain", shown, strength=need.strength, why=need.why)
        made.append(each)
    return made


def _as_written(tool: str, version: str | None) -> str:
    return clean(f'tool = "{tool}"' + (f', version = "{version}"' if version else ""))


def project_of(verified: Verified) -> Project:
    """Return the project as the report names it."""
    checkout = verified.checkout
    below = checkout.project.relative_to(checkout.root).as_posix()
    name = verified.settings.project.name or checkout.project.name or str(checkout.root)
    return Project(clean(str(checkout.root)), clean(name, 80), None if below == "." else clean(below))


def verify_report(verified: Verified, strict: bool) -> Report:
    """Return the report of `dokimon verify`."""
    return Report(
        command="verify",
        verdict=verdict_of_findings(verified.findings, strict),
        project=project_of(verified),
        requirements=verified.findings,
        installations=tuple(copy for copies in verified.installations.values() for copy in copies),
        format=FORMAT,
    )
