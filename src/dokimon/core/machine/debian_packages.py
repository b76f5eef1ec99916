"""Which packages this Debian system can bring, and of which version: as `apt-cache policy` says from its own lists."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from functools import cache
from pathlib import Path

from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import is_program

_PROGRAM = "usr/bin/apt-cache"


def candidates(packages: Iterable[str], environment: Mapping[str, str], root: Path) -> dict[str, str] | None:
    """Return the version that would be installed of each package that there is; None where that is not known here.

    `root` is that of the system. Nothing is fetched: what the lists on this machine say is what counts (apt-cache(8)).
    """
    program = root / _PROGRAM
    names = tuple(sorted(each for each in packages if re.fullmatch(r"[a-z0-9][a-z0-9+.-]+", each)))
    if not is_program(program):
        return None
    if not names:  # no package goes by such a name
        return {}
    return dict(_asked(str(program), names, environment.get("HOME", "")))


@cache
def _asked(program: str, names: tuple[str, ...], home: str) -> tuple[tuple[str, str], ...]:
    asker = Asker({"HOME": home, "PATH": "/usr/bin:/bin"}, Path("/nonexistent"))
    answer = asker.output([program, "policy", *names], asker.variables_for(Ask(environment={"LC_ALL": "C"})))
    found = re.findall(
        r"^([a-z0-9][a-z0-9+.-]+):\n(?: [^\n]*\n)*?  Candidate: (\S+)", answer.output + "\n", re.MULTILINE
    )
    return tuple((name, upstream_version(version)) for name, version in found if version != "(none)")


def upstream_version(version: str) -> str:
    """Return a version without its epoch and Debian's own revision (deb-version(7))."""
    plain = re.sub(r"^\d+:", "", version)
    return plain.rpartition("-")[0] or plain
