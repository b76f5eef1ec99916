"""Which packages this Debian system can bring, and of which version: as `apt-cache policy` says from its own lists.

That may take most of a second, so that its answers are kept, as long as neither the lists nor what is installed change.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.files import inside, is_ones_own, replace_for_oneself
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import is_program, own_folder

_PROGRAM = "usr/bin/apt-cache"
_CHANGES = ("var/lib/apt/lists", "var/lib/dpkg/status")
_FILE = "packages.json"
_CATALOGUE = Path(__file__).parents[2] / "catalogue"


class _Kept(msgspec.Struct, frozen=True):
    """What was answered: `stamp` says of which state of the lists; None stands for a package that there is not."""

    stamp: str
    candidates: dict[str, str | None]


def candidates(
    packages: Iterable[str], environment: Mapping[str, str], root: Path, checkout: Path
) -> dict[str, str] | None:
    """Return the version that would be installed of each package that there is; None where that is not known here.

    `root` is that of the system; a cache in the checkout is none. Nothing is fetched: what the lists on this machine say
    is what counts (apt-cache(8)).
    """
    program = root / _PROGRAM
    names = sorted({each for each in packages if re.fullmatch(r"[a-z0-9][a-z0-9+.-]+", each)})
    if not is_program(program):
        return None
    folder = own_folder("cache", environment)
    folder = None if folder is None or inside(folder, checkout) else folder
    stamp = "-".join(str((root / each).stat().st_mtime_ns) for each in _CHANGES if (root / each).exists())
    kept = _read(folder, stamp)
    new = [name for name in names if name not in kept]
    if new:
        # Most of the time goes by in reading the lists: what other tools are in is asked along.
        new = sorted({*new, *(name for name in packages_of_tools() if name not in kept)})
        answered = _asked(program, new, environment.get("HOME", ""))
        kept = {**kept, **{name: answered.get(name) for name in new}}
        _write(folder, _Kept(stamp, kept))
    return {name: version for name in names if (version := kept.get(name))}


@cache
def packages_of_tools() -> tuple[str, ...]:
    """Return the packages that the catalogue names for Debian, where the name needs no version."""
    found: set[str] = set()
    for file in _CATALOGUE.glob("*.toml"):
        found |= set(re.findall(r'(?m)^apt-get = "([a-z0-9][a-z0-9+.-]+)"$', file.read_text("utf-8")))
    return tuple(sorted(found))


def _asked(program: Path, names: Sequence[str], home: str) -> dict[str, str]:
    asker = Asker({"HOME": home, "PATH": "/usr/bin:/bin"}, Path("/nonexistent"))
    answer = asker.output([str(program), "policy", *names], asker.variables_for(Ask(environment={"LC_ALL": "C"})))
    shape = re.compile(r"^([a-z0-9][a-z0-9+.-]+):\n(?: [^\n]*\n)*?  Candidate: (\S+)", re.MULTILINE)
    found = shape.findall(answer.output + "\n")
    return {name: upstream_version(version) for name, version in found if version != "(none)"}


def _read(folder: Path | None, stamp: str) -> dict[str, str | None]:
    if folder is None:
        return {}
    try:
        if not is_ones_own(folder) or not is_ones_own(folder / _FILE):
            return {}
        kept = msgspec.json.decode((folder / _FILE).read_bytes(), type=_Kept)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
        return {}
    return kept.candidates if kept.stamp == stamp else {}


def _write(folder: Path | None, kept: _Kept) -> None:
    if folder is None:
        return
    with contextlib.suppress(OSError):
        replace_for_oneself(folder / _FILE, msgspec.json.encode(kept))


def upstream_version(version: str) -> str:
    """Return a version without its epoch and Debian's own revision (deb-version(7))."""
    plain = re.sub(r"^\d+:", "", version)
    return plain.rpartition("-")[0] or plain
