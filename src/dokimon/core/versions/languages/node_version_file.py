"""What stands in `.nvmrc` and `.node-version`: a version, the beginning of one, or an alias such as `lts/iron`."""

import re

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages import npm

LTS_LINES = {
    "argon": 4, "boron": 6, "carbon": 8, "dubnium": 10, "erbium": 12, "fermium": 14,
    "gallium": 16, "hydrogen": 18, "iron": 20, "jod": 22, "krypton": 24,
}  # fmt: skip
"""The long-term-support lines of Node.js by code name (nodejs/Release, schedule.json)."""

NEWEST_LTS = 26
"""The newest long-term-support line as of November 2026 (the same schedule: since 2026-10-28). The catalogue's entry says
the same, as a test holds."""

_ALL_LTS = sorted({*LTS_LINES.values(), NEWEST_LTS})


def compile(text: str) -> Constraint:
    """Compile a version or an alias. `lts/*` is the newest long-term-support line, `lts/-1` the one before it.

    Raises `VersionFault`.
    """
    wanted = text.strip()
    if wanted in ("node", "stable", "latest", "current"):
        range_text = "*"
    elif wanted in ("lts", "lts/*"):
        range_text = str(NEWEST_LTS)
    elif found := re.fullmatch(r"lts/([a-z]+)", wanted, re.IGNORECASE):
        if found[1].lower() not in LTS_LINES:
            raise VersionFault(text, 4, f"no long-term-support line of Node.js is known as {found[1]!r}")
        range_text = str(LTS_LINES[found[1].lower()])
    elif found := re.fullmatch(r"lts/-([0-9]{1,2})", wanted):
        if int(found[1]) >= len(_ALL_LTS):
            raise VersionFault(text, 4, f"only {len(_ALL_LTS)} long-term-support lines are known")
        range_text = str(_ALL_LTS[-1 - int(found[1])])
    elif re.fullmatch(r"v?\d+(\.\d+){0,2}(-[0-9A-Za-z.-]+)?", wanted):
        range_text = wanted
    else:
        raise VersionFault(text, 0, "is neither a version nor an alias such as lts/* or lts/iron")
    constraint = npm.compile(range_text)
    return Constraint(
        language="node-version-file",
        text=text,
        order=constraint.order,
        versions=constraint.versions,
        rule=constraint.rule,
    )
