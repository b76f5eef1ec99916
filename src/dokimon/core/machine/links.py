"""A folder of links of Dokimon's own, in its cache: the only way to reach one program of a folder without all the others."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path

from dokimon.core.digests import blake2b
from dokimon.core.files import is_ones_own


def folder_of_links(links: Sequence[tuple[str, str]], cache: Path | None) -> Path | None:
    """Return the folder that holds just these links (a command and the program behind it), made where it is not there.

    Its name comes from what it holds, so that one that is in use is never changed. None where it cannot be made, or where
    somebody else has a hand in it: what is found there under these names must be these very links.
    """
    if cache is None or os.name == "nt":
        return None
    digest = blake2b("\0".join(f"{name}\n{program}" for name, program in links).encode(), digest_size=8).hexdigest()
    folder = cache / "links" / digest
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        for name, program in links:
            with contextlib.suppress(FileExistsError):
                (folder / name).symlink_to(program)
        found = [(folder / name).readlink() for name, _ in links]
    except OSError:
        return None
    right = found == [Path(program) for _, program in links] and len(list(folder.iterdir())) == len(links)
    return folder if right and all(map(is_ones_own, (folder, folder.parent, cache))) else None
