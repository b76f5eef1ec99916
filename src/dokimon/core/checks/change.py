"""A live change: change a file of the project, see the running project show it, and put the file back byte for byte."""

from __future__ import annotations

import time
from pathlib import Path

from dokimon.core.checks.fetching import fetch
from dokimon.core.checks.journal import Change, JournalFault
from dokimon.core.checks.repository import RepositoryFault, differing
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.files import inside
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_LARGEST = 4 * 1024 * 1024
_LOOK_EVERY = 0.05
_ANSWER_SECONDS = 10.0


class LiveChange(Wanted, frozen=True, kw_only=True):
    """`change = "src/board.js"`: there, `replace` a text `by` another one, and see it `within` a time.

    Where it must be seen: in the answer to `get`, on the page that `render` opens in a browser, or among the lines that
    the run prints (`prints`, by default none). `shows` is what must be seen there, the new text itself by default. A file
    with uncommitted changes is only touched with `dirty = true`.
    """

    change: str = ""
    replace: str = ""
    by: str = ""
    get: str | None = None
    render: str | None = None
    prints: str | None = None
    shows: str | None = None
    within: str = "10s"
    dirty: bool = False


def title(wanted: LiveChange) -> str:
    """Return what the check is called where nobody named it."""
    return f"live change of {wanted.change}"


def check(wanted: LiveChange, scene: Scene) -> list[Check]:
    """Change the file, look, put it back."""
    name = clean(title(wanted), 100)
    where = (wanted.prints and "its output") or wanted.render or wanted.get or "/"
    expected = clean(f"“{_sign(wanted)}” in {where} within {wanted.within}")
    try:
        path, text = _file(wanted, scene)
    except _NotToBeChanged as fault:
        return [Check(name, "failed", expected, clean(str(fault)))]
    if wanted.render:
        return [_rendered(wanted, scene, path, text, name, expected)]
    if _is_shown(wanted, scene):
        return [Check(name, "unsure", expected, _BEFORE.format(clean(_sign(wanted), 80)))]
    before = {(at.pid, at.port) for at in scene.listening()}
    try:
        with _changed(wanted, scene, path, text) as change:
            began = time.monotonic()
            shown = _wait(wanted, scene, until=True)
            spent = round(time.monotonic() - began, 3)
            change.undo()
    except (JournalFault, OSError) as fault:
        return [Check(name, "unsure", expected, clean(f"{wanted.change} cannot be changed: {fault}"))]
    if not shown:
        return [_not_shown(scene, name, expected, spent)]
    # What the run has made of the change must not stay when the file is back.
    gone = bool(wanted.prints) or _wait(wanted, scene, until=False)
    restarted = before and before != {(at.pid, at.port) for at in scene.listening()}
    seen = f"shown after {spent:.2f} s{', with a restart' if restarted else ''}; the file is as it was"
    if not gone:
        seen += ", but it is still shown"
    return [Check(name, "passed", expected, seen, spent)]


_BEFORE = "“{}” is there before anything was changed, so nothing would be shown by it"


def _changed(wanted: LiveChange, scene: Scene, path: Path, text: str) -> Change:
    return Change(path, scene.root, text.replace(wanted.replace, wanted.by).encode(), scene.environment)


def _not_shown(scene: Scene, name: str, expected: str, spent: float) -> Check:
    if scene.halt.is_set():
        return Check(name, "unsure", expected, "interrupted; the file is as it was")
    return Check(name, "failed", expected, f"not shown after {spent:.1f} s; the file is as it was", spent)


def _rendered(wanted: LiveChange, scene: Scene, path: Path, text: str, name: str, expected: str) -> Check:
    """Look with a browser, which has the page open before anything is changed."""
    from dokimon.core.checks.rendered import Awaiting, RenderFault

    sign = scene.filled(_sign(wanted))
    try:
        browser = Awaiting(wanted.render or "/", sign, scene, seconds(wanted.within))
    except RenderFault as fault:
        return Check(name, "skipped" if fault.absent else "failed", expected, clean(str(fault)))
    try:
        if browser.before:
            return Check(name, "unsure", expected, _BEFORE.format(clean(sign, 80)))
        with _changed(wanted, scene, path, text):
            after = browser.shown_after(scene)
    except RenderFault as fault:
        if scene.halt.is_set():
            return _not_shown(scene, name, expected, 0.0)
        return Check(name, "failed", expected, clean(f"{fault}; the file is as it was"))
    except (JournalFault, OSError) as fault:
        return Check(name, "unsure", expected, clean(f"{wanted.change} cannot be changed: {fault}"))
    finally:
        browser.close()
    if after is None:
        return _not_shown(scene, name, expected, seconds(wanted.within))
    seen = f"shown after {after:.2f} s in the page that was open; the file is as it was"
    return Check(name, "passed", expected, seen, after)


class _NotToBeChanged(Exception):
    """Why the file is not to be touched."""


def _file(wanted: LiveChange, scene: Scene) -> tuple[Path, str]:
    """Return the file and its text; raises `_NotToBeChanged`."""
    path = scene.root / wanted.change
    if not inside(path, scene.root):
        raise _NotToBeChanged(f"{wanted.change} leads out of the checkout")
    try:
        if not path.is_file():
            raise _NotToBeChanged(f"there is no file {wanted.change}")
        data = path.read_bytes()
    except OSError as wrong:
        raise _NotToBeChanged(f"{wanted.change} cannot be read: {wrong.strerror}") from None
    if len(data) > _LARGEST or b"\0" in data:
        raise _NotToBeChanged(f"{wanted.change} is no text, or too large ({len(data)} bytes)")
    try:
        text = data.decode()
    except UnicodeDecodeError:
        raise _NotToBeChanged(f"{wanted.change} is not text in UTF-8") from None
    if not wanted.replace or wanted.replace not in text:
        raise _NotToBeChanged(f"“{wanted.replace}” does not stand in {wanted.change}")
    if not wanted.dirty and (scene.root / ".git").exists():
        try:
            if differing(scene.root, scene.environment, wanted.change):
                raise _NotToBeChanged(
                    f"{wanted.change} has changes that are not committed; dirty = true changes it all the same"
                )
        except RepositoryFault as fault:
            raise _NotToBeChanged(f"nobody can tell whether {wanted.change} is committed: {fault}") from None
    return path.resolve(), text


def _sign(wanted: LiveChange) -> str:
    return wanted.prints or wanted.shows or wanted.by


def _wait(wanted: LiveChange, scene: Scene, *, until: bool) -> bool:
    deadline = time.monotonic() + seconds(wanted.within)
    seen = scene.output.count
    while time.monotonic() < deadline and not scene.halt.is_set():
        if wanted.prints:
            count, lines = scene.output.since(seen)
            if any(wanted.prints in line for line in lines):
                return True
            seen = count
        elif _is_shown(wanted, scene) == until:
            return True
        time.sleep(_LOOK_EVERY)
    return False


def _is_shown(wanted: LiveChange, scene: Scene) -> bool:
    if wanted.prints or scene.origin is None:
        return False
    answer = fetch(scene.origin, scene.filled(wanted.get or "/"), seconds=_ANSWER_SECONDS)
    return _sign(wanted) in answer.text
