"""A live change: change a file of the project, see the running project show it, and put the file back byte for byte."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import fetch
from dokimon.core.checks.journal import Change, JournalFault
from dokimon.core.checks.repository import RepositoryFault, differing
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.files import inside
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_LARGEST = 4 * 1024 * 1024
_LOOK_EVERY = 0.05
_ANSWER_SECONDS = 10.0


class LiveChange(CheckSpec, frozen=True, kw_only=True):
    """`change = "src/board.js"`: there, `replace` a text `by` another one, and see it `within` a time.

    Where it must be seen: in the answer to `get`, on the page that `render` opens in a browser, or among the lines that
    the run prints (`prints`, by default none). `shows` is what must be seen there, the new text itself by default. A file
    with uncommitted changes is only touched with `dirty = true`.
    """

    kind_name: ClassVar[str] = "live change"
    must_finish: ClassVar[bool] = True

    change: str = ""
    replace: str = ""
    by: str = ""
    get: str | None = None
    render: str | None = None
    prints: str | None = None
    shows: str | None = None
    within: str = "10s"
    dirty: bool = False

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return f"live change of {self.change}"

    def problems(self) -> Iterator[tuple[str, str]]:
        """Both what is replaced and what replaces it must be given."""
        if not self.replace or not self.by:
            yield "", 'a "change" needs the text to "replace" and the text to replace it "by"'

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: LiveChange, context: CheckContext) -> list[Check]:
    """Change the file, look, put it back."""
    name = clean(spec.default_name, 100)
    where = (spec.prints and "its output") or spec.render or spec.get or "/"
    expected = clean(f"“{_sign(spec)}” in {where} within {spec.within}")
    try:
        path, text = _file(spec, context)
    except _NotCommitted as fault:
        return [Check(name=name, verdict="skipped", expected=expected, seen=clean(str(fault)))]
    except _NotToBeChanged as fault:
        return [Check(name=name, verdict="failed", expected=expected, seen=clean(str(fault)))]
    if spec.render:
        return [_rendered(spec, context, path, text, name, expected)]
    if _is_shown(spec, context):
        return [Check(name=name, verdict="unsure", expected=expected, seen=_BEFORE.format(clean(_sign(spec), 80)))]
    before = {(at.pid, at.port) for at in context.listening()}
    try:
        with _changed(spec, context, path, text) as change:
            began = time.monotonic()
            shown = _wait(spec, context, until=True)
            spent = round(time.monotonic() - began, 3)
            change.undo()
    except (JournalFault, OSError) as fault:
        return [
            Check(
                name=name, verdict="unsure", expected=expected, seen=clean(f"{spec.change} cannot be changed: {fault}")
            )
        ]
    if not shown:
        return [_not_shown(context, name, expected, spent)]
    # What the run has made of the change must not stay when the file is back.
    gone = bool(spec.prints) or _wait(spec, context, until=False)
    restarted = before and before != {(at.pid, at.port) for at in context.listening()}
    seen = f"shown after {spent:.2f} s{', with a restart' if restarted else ''}; the file is as it was"
    if not gone:
        seen += ", but it is still shown"
    return [Check(name=name, verdict="passed", expected=expected, seen=seen, seconds=spent)]


_BEFORE = "“{}” is there before anything was changed, so nothing would be shown by it"


def _changed(spec: LiveChange, context: CheckContext, path: Path, text: str) -> Change:
    return Change(path, context.root, text.replace(spec.replace, spec.by).encode(), context.environment)


def _not_shown(context: CheckContext, name: str, expected: str, spent: float) -> Check:
    if context.halt.is_set():
        return Check(name=name, verdict="unsure", expected=expected, seen="interrupted; the file is as it was")
    return Check(
        name=name,
        verdict="failed",
        expected=expected,
        seen=f"not shown after {spent:.1f} s; the file is as it was",
        seconds=spent,
    )


def _rendered(spec: LiveChange, context: CheckContext, path: Path, text: str, name: str, expected: str) -> Check:
    """Look with a browser, which has the page open before anything is changed."""
    from dokimon.core.checks.rendered import Awaiting, RenderFault

    sign = context.filled(_sign(spec))
    try:
        browser = Awaiting(spec.render or "/", sign, context, seconds(spec.within))
    except RenderFault as fault:
        return Check(
            name=name, verdict="skipped" if fault.absent else "failed", expected=expected, seen=clean(str(fault))
        )
    try:
        if browser.before:
            return Check(name=name, verdict="unsure", expected=expected, seen=_BEFORE.format(clean(sign, 80)))
        with _changed(spec, context, path, text):
            after = browser.shown_after(context)
    except RenderFault as fault:
        if context.halt.is_set():
            return _not_shown(context, name, expected, 0.0)
        return Check(name=name, verdict="failed", expected=expected, seen=clean(f"{fault}; the file is as it was"))
    except (JournalFault, OSError) as fault:
        return Check(
            name=name, verdict="unsure", expected=expected, seen=clean(f"{spec.change} cannot be changed: {fault}")
        )
    finally:
        browser.close()
    if after is None:
        return _not_shown(context, name, expected, seconds(spec.within))
    seen = f"shown after {after:.2f} s in the page that was open; the file is as it was"
    return Check(name=name, verdict="passed", expected=expected, seen=seen, seconds=after)


class _NotCommitted(Exception):
    """The file has changes that only it has; they are not put at risk unasked."""


class _NotToBeChanged(Exception):
    """Why the file is not to be touched."""


def _file(spec: LiveChange, context: CheckContext) -> tuple[Path, str]:
    """Return the file and its text; raises `_NotToBeChanged`, `_NotCommitted`."""
    path = context.root / spec.change
    if not inside(path, context.root):
        raise _NotToBeChanged(f"{spec.change} is outside the checkout")
    try:
        if not path.is_file():
            raise _NotToBeChanged(f"there is no file {spec.change}")
        data = path.read_bytes()
    except OSError as wrong:
        raise _NotToBeChanged(f"{spec.change} cannot be read: {wrong.strerror}") from None
    if len(data) > _LARGEST or b"\0" in data:
        raise _NotToBeChanged(f"{spec.change} is not text, or is too large ({len(data)} bytes)")
    try:
        text = data.decode()
    except UnicodeDecodeError:
        raise _NotToBeChanged(f"{spec.change} is not text in UTF-8") from None
    if not spec.replace or spec.replace not in text:
        raise _NotToBeChanged(f"“{spec.replace}” is not in {spec.change}")
    if not spec.dirty and (context.root / ".git").exists():
        try:
            if differing(context.root, context.environment, spec.change):
                raise _NotCommitted(
                    f"{spec.change} has changes that are not committed; dirty = true changes it all the same"
                )
        except RepositoryFault as fault:
            raise _NotToBeChanged(f"whether {spec.change} is committed is not known: {fault}") from None
    return path.resolve(), text


def _sign(spec: LiveChange) -> str:
    return spec.prints or spec.shows or spec.by


def _wait(spec: LiveChange, context: CheckContext, *, until: bool) -> bool:
    deadline = time.monotonic() + seconds(spec.within)
    seen = context.output.count
    while time.monotonic() < deadline and not context.halt.is_set():
        if spec.prints:
            count, lines = context.output.since(seen)
            if any(spec.prints in line for line in lines):
                return True
            seen = count
        elif _is_shown(spec, context) == until:
            return True
        if spec.prints:
            context.output.wait_for_more(seen, _LOOK_EVERY)
        else:
            time.sleep(_LOOK_EVERY)
    return False


def _is_shown(spec: LiveChange, context: CheckContext) -> bool:
    if spec.prints or context.origin is None:
        return False
    answer = fetch(context.origin, context.filled(spec.get or "/"), seconds=_ANSWER_SECONDS)
    return _sign(spec) in answer.text
