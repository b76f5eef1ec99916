"""A desktop program's window: it appears within a time, it is the run's own, and something is drawn in it."""

from __future__ import annotations

from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.files import make_for_oneself
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_START_SECONDS = 20.0


class Window(CheckSpec, frozen=True, kw_only=True):
    """`window = "Departures"`, a part of its title; it must be there and drawn `within` a time."""

    kind_name: ClassVar[str] = "window"
    draws_window: ClassVar[bool] = True

    window: str = ""
    within: str = "15s"

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return f"window {self.window}"

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Window, context: CheckContext) -> list[Check]:
    """Look for the window on the run's display, and keep a picture of it."""
    from dokimon.core.checks.helper import HelperFault, ask

    name, expected = clean(spec.default_name, 100), clean(f"a window “{spec.window}” with something in it")
    if context.display is None:
        why = "there is no display here, and no Xvfb that could make one (Debian's package xvfb)"
        return [Check(name=name, verdict="skipped", expected=expected, seen=why)]
    picture = context.evidence(f"window-{spec.window}.png")
    if picture:
        make_for_oneself(picture.parent)
    within = seconds(spec.within)
    kept_in = str(picture) if picture else None
    wish = {"display": context.display, "title": spec.window, "seconds": within, "picture": kept_in}
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
