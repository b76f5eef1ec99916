"""The folders in which copies are looked for: each is looked at once, however many tools are asked about."""

from __future__ import annotations

import fnmatch
import os
import re
import stat
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from pathlib import Path

from dokimon.core.machine.folders import named_folders
from dokimon.core.machine.once import Once
from dokimon.core.machine.platform import identity, path_folders, program_names
from dokimon.core.machine.unrunnable import script_of
from dokimon.core.machine.usual_homes import further_folders, known_homes, usual_folders


class SearchPath:
    """PATH and the usual homes, for one survey.

    `folder` is the current one, `checkout` the root of the project; nothing below `untrusted` is run, which is the
    checkout or a repository around it. `once` is shared by surveys for several checkouts.
    """

    def __init__(
        self,
        environment: Mapping[str, str],
        folder: Path,
        checkout: Path,
        untrusted: Path | None = None,
        once: Once | None = None,
    ) -> None:
        self.environment = environment
        self.once = once or Once()
        self.folder = folder
        self.checkout = checkout
        root = untrusted or checkout
        self._untrusted = tuple({f"{root}/", f"{root.resolve()}/"})
        self._real_folders: dict[str, str] = {}
        self._names: dict[str, tuple[str, ...]] = {}

    @cached_property
    def on_path(self) -> list[tuple[str, bool]]:
        """The folders of PATH that are there, each once and in order, with whether they are written as absolute paths.

        Two names of one folder (`/bin` and `/usr/bin` on many systems) are one folder.
        """
        named: dict[str, bool] = {}
        for place, absolute in path_folders(self.environment, self.folder):
            named.setdefault(str(place), absolute)
        found: dict[object, tuple[str, bool]] = {}
        for name, absolute in named.items():
            if _is_folder(name):
                found.setdefault(identity(name), (name, absolute))
        return list(found.values())

    @cached_property
    def usual(self) -> list[str]:
        """The folders of global packages and the like that are there."""
        return self.once.find("usual folders", lambda: _that_are_there(usual_folders(self.environment)))

    @cached_property
    def further(self) -> list[str]:
        """The further folders that are there, in which a command of any name may lie."""
        return self.once.find("further folders", lambda: _that_are_there(further_folders(self.environment)))

    def folders(self, written: str) -> list[str]:
        """Return the folders that the catalogue means."""
        return self.once.find(("folders", written), lambda: named_folders(written, self.environment))

    @cached_property
    def own(self) -> list[str]:
        """The project's own folders with programs in them that are there."""
        written = [
            f"{place}/{each}" for place in dict.fromkeys((self.folder, self.checkout)) for each in known_homes().own
        ]
        return [place for place in written if _is_folder(place)]

    def holds(self, place: str, command: str) -> Iterator[Path]:
        """Yield the paths in `place` that `command` may mean: what is there, be it a link that leads nowhere."""
        for name in program_names(command):
            path = f"{place}/{name}"
            try:
                status = os.lstat(path)
            except (OSError, ValueError):
                continue
            if not stat.S_ISDIR(status.st_mode):
                yield Path(path)

    def like(self, patterns: list[str]) -> Iterator[Path]:
        """Yield what is on PATH under a name that one of the wildcard patterns matches."""
        wanted = re.compile("|".join(fnmatch.translate(pattern) for pattern in patterns))
        for place, absolute in self.on_path:
            if absolute:
                yield from (Path(place, name) for name in self._listed(place) if wanted.match(name))

    def _listed(self, place: str) -> tuple[str, ...]:
        if place not in self._names:
            try:
                self._names[place] = tuple(sorted(os.listdir(place)))  # noqa: PTH208 (names alone, and fast)
            except OSError:
                self._names[place] = ()
        return self._names[place]

    def in_checkout(self, path: Path) -> bool:
        """Whether a path is in the checkout, under whatever name: by a link, `..`, or /proc/self/root."""
        written = f"{path}/"
        if written.startswith(self._untrusted):
            return True
        folder, _, name = str(path).rpartition("/")
        if folder not in self._real_folders:
            self._real_folders[folder] = os.path.realpath(folder or "/")
        return f"{self._real_folders[folder]}/{name}/".startswith(self._untrusted)

    def leads_out(self, file: Path) -> bool:
        """Whether a file in the checkout is a link out of it: what it says is another file's, and not repeated."""
        return file.is_symlink() and self.in_checkout(file) and not self.in_checkout(Path(os.path.realpath(file)))

    def starts_checkout(self, program: Path) -> bool:
        """Whether a script outside the checkout is run by an interpreter in it, or names a place in it."""
        text = script_of(program)
        if not text:
            return False
        interpreters = [Path(word) for word in text.partition("\n")[0][2:].split() if word.startswith("/")]
        return any(self.in_checkout(Path(os.path.realpath(each))) for each in interpreters) or any(
            root in text for root in self._untrusted
        )

    def notes(self) -> list[str]:
        """Return what is odd about PATH itself, in sentences."""
        entries = path_folders(self.environment, self.folder)
        odd = {str(place) for place, absolute in entries if not absolute}
        found = []
        if odd:
            found.append(
                "PATH has an empty or relative entry: in any folder that you are in, its programs can take the names of "
                "tools. Dokimon runs none of them"
            )
        inside = {str(place) for place, absolute in entries if absolute and self.in_checkout(place)}
        if inside:
            found.append(f"PATH leads into the checkout ({', '.join(sorted(inside)[:3])}); programs there are not run")
        unreadable = [place for place, _ in self.on_path if not os.access(place, os.X_OK)]
        if unreadable:
            found.append(f"PATH names {', '.join(unreadable[:3])}, which you may not look into")
        missing = sum(not _is_folder(each) for each in {str(place) for place, _ in entries})
        if missing:
            words = "folder that is" if missing == 1 else "folders that are"
            found.append(f"PATH names {missing} {words} not there")
        return found


def _that_are_there(folders: Iterable[str]) -> list[str]:
    return [place for place in dict.fromkeys(folders) if _is_folder(place)]


def _is_folder(place: str) -> bool:
    try:
        return stat.S_ISDIR(os.stat(place).st_mode)  # noqa: PTH116 (a PATH may have thousands of entries)
    except (OSError, ValueError):
        return False
