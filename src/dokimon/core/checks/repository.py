"""What git says of a checkout: which files differ from what was committed."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path
from stat import S_ISREG

from dokimon.core.digests import blake2b
from dokimon.core.faults import Fault

_SECONDS = 30.0
_LARGEST = 4 * 1024 * 1024


class RepositoryFault(Fault):
    """Git cannot be asked; the text says why."""


def differing(root: Path, environment: Mapping[str, str], path: str | None = None) -> dict[str, str]:
    """Return the files that git would not call committed, with a mark that changes when their contents do.

    Ignored files are left out, unless `path` asks for one file, ignored or not. Raises `RepositoryFault` where `root` is in
    no repository of git's, or git is not here.
    """
    git = shutil.which("git", path=environment.get("PATH"))
    if git is None:
        raise RepositoryFault("git is not here")
    command = [git, "-c", "core.fsmonitor=false", "-C", str(root), "status", "--porcelain=v1", "-z", "--no-renames"]
    command += ["--untracked-files=all", *(["--ignored", "--", path] if path else [])]
    variables = {**environment, "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C"}
    try:
        ended = subprocess.run(
            command, env=variables, stdin=subprocess.DEVNULL, capture_output=True, timeout=_SECONDS, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as wrong:
        raise RepositoryFault(f"git could not be asked: {wrong}") from None
    if ended.returncode:
        errors = ended.stderr.decode("utf-8", "replace").strip().splitlines()
        raise RepositoryFault(errors[0] if errors else "it is in no repository of git's")
    top = root if (root / ".git").exists() else _top(git, root, variables)
    found = {}
    for entry in ended.stdout.decode("utf-8", "surrogateescape").split("\0"):
        if len(entry) > 3:
            file = Path(top, entry[3:])
            found[os.path.relpath(file, root)] = entry[:2] + _mark(file)
    return found


def _top(git: str, root: Path, variables: Mapping[str, str]) -> Path:
    """Return the root of the repository: paths in its answers are relative to that."""
    ended = subprocess.run(
        [git, "-C", str(root), "rev-parse", "--show-toplevel"], env=dict(variables), stdin=subprocess.DEVNULL,
        capture_output=True, timeout=_SECONDS, check=False,
    )  # fmt: skip
    return Path(os.fsdecode(ended.stdout).rstrip("\n") or root)


def _mark(file: Path) -> str:
    """Return a fingerprint of the contents of a file: of a large one its size and time must do."""
    try:
        stat = file.lstat()
        if S_ISREG(stat.st_mode) and stat.st_size <= _LARGEST:
            return blake2b(file.read_bytes(), digest_size=16).hexdigest()
    except OSError:
        return "gone"
    return f"{stat.st_size} {stat.st_mtime_ns}"
