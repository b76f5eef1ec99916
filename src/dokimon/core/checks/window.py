"""A desktop program's window: it appears within a time, it is the run's own, and something is drawn in it."""

from __future__ import annotations

import os
from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.files import make_for_oneself
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_START_SECONDS = 20.0


class Window(CheckSpec, frozen=True, kw_only=True):
    """`window = "Departures"`, a part of its title; it must be there and drawn `within` a time. Any of the run's own will do
    where the title is empty.
    """

    kind_name: ClassVar[str] = "window"
    draws_window: ClassVar[bool] = True

    window: str = ""
    within: str = "15s"

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return f"window {self.window}".rstrip()

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Window, context: CheckContext) -> list[Check]:
    """Look for the window on the run's display, and keep a picture of it."""
    from dokimon.core.checks.helper import HelperFault, ask

    called = f"a window “{spec.window}”" if spec.window else "a window of its own"
    name, expected = clean(spec.default_name, 100), clean(f"{called} with something in it")
    if context.display is None:
        why = "there is no display here, and no Xvfb that could make one (Debian's package xvfb)"
        return [Check(name=name, verdict="skipped", expected=expected, seen=why)]
    picture = context.evidence(f"{spec.default_name.replace(' ', '-', 1)}.png")
    if picture:
        make_for_oneself(picture.parent)
    within = seconds(spec.within)
    kept_in = str(picture) if picture else None
    # On a display that others draw on too, a window without a wished title must be the run's own.
    shared = not spec.window and context.display == os.environ.get("DISPLAY")
    own = sorted(context.processes()) if shared else []
    wish = {"display": context.display, "title": spec.window, "seconds": within, "picture": kept_in, "own": own}
    try:
        seen = ask("screen_look", wish, context, within + _START_SECONDS)
    except HelperFault as fault:
        return [Check(name=name, verdict="failed", expected=expected, seen=clean(str(fault)))]
    if "absent" in seen:
        why = f"it needs the package {seen['absent']}, which pip install 'dokimon[window]' brings"
        return [Check(name=name, verdict="skipped", expected=expected, seen=why)]
    if "fault" in seen:
        return [Check(name=name, verdict="failed", expected=expected, seen=clean(seen["fault"]))]
    seen_words = f"“{seen['title']}”, {seen['width']} by {seen['height']}, after {seen['seconds']:.2f} s"
    kept = str(picture) if picture and picture.exists() else None
    if seen["pid"] is not None and seen["pid"] not in context.processes():
        seen_words += f"; it belongs to process {seen['pid']}, not to the run"
        return [Check(name=name, verdict="failed", expected=expected, seen=clean(seen_words), evidence=kept)]
    if seen["one_colour"]:
        return [
            Check(
                name=name,
                verdict="failed",
                expected=expected,
                seen=clean(f"{seen_words}; all of it is one colour"),
                evidence=kept,
            )
        ]
    return [Check(name=name, verdict="passed", expected=expected, seen=clean(seen_words), evidence=kept)]
