"""Running git: without hooks, helpers of the checkout, questions, or the download of anything."""

from __future__ import annotations

import subprocess
from collections.abc import Mapping

from dokimon.core.faults import Fault
from dokimon.core.text import clean

_SECONDS = 300.0


class CloneFault(Fault):
    """No clone could be made; the reason says why."""


_GUARDS = [
    word
    for each in (
        "core.hooksPath=/dev/null",
        "core.fsmonitor=false",
        "protocol.allow=never",
        "protocol.file.allow=always",
    )
    for word in ("-c", each)
]
_QUIET = {"GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "GIT_LFS_SKIP_SMUDGE": "1", "LC_ALL": "C"}


def run_git(git: str, arguments: list[str], environment: Mapping[str, str], given: bytes = b"") -> bytes:
    """Run git without hooks, helpers of the checkout, questions, or the download of large files; return what it printed."""
    variables = {**environment, **_QUIET}
    for name in ("GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE"):
        variables.pop(name, None)
    try:
        ended = subprocess.run(
            [git, *_GUARDS, *arguments], env=variables, input=given, capture_output=True, timeout=_SECONDS, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as wrong:
        raise CloneFault(f"git could not make the clone: {wrong}") from None
    if ended.returncode:
        said = ended.stderr.decode("utf-8", "replace").strip().splitlines()
        raise CloneFault(clean(f"git could not make the clone: {said[-1] if said else ended.returncode}"))
    return ended.stdout
