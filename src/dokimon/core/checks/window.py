"""A desktop program's window: it appears within a time, it is the run's own, and something is drawn in it."""

from __future__ import annotations

from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_START_SECONDS = 20.0


class Window(Wanted, frozen=True, kw_only=True):
    """`window = "Departures"`, a part of its title; it must be there and drawn `within` a time."""

    window: str = ""
    within: str = "15s"


def title(wanted: Window) -> str:
    """Return what the check is called where nobody named it."""
    return f"window {wanted.window}"


def check(wanted: Window, scene: Scene) -> list[Check]:
    """Look for the window on the run's display, and keep a picture of it."""
    from dokimon.core.checks.helper import HelperFault, ask

    name, expected = clean(title(wanted), 100), clean(f"a window “{wanted.window}” with something in it")
    if scene.display is None:
        why = "there is no display here, and no Xvfb that could make one (Debian's package xvfb)"
        return [Check(name, "skipped", expected, why)]
    picture = scene.evidence(f"window-{wanted.window}.png")
    if picture:
        picture.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    within = seconds(wanted.within)
    kept_in = str(picture) if picture else None
    wish = {"display": scene.display, "title": wanted.window, "seconds": within, "picture": kept_in}
    try:
        seen = ask("screen_look", wish, scene, within + _START_SECONDS)
    except HelperFault as fault:
        return [Check(name, "failed", expected, clean(str(fault)))]
    if "absent" in seen:
        why = f"it needs the package {seen['absent']}, which pip install 'dokimon[window]' brings"
        return [Check(name, "skipped", expected, why)]
    if "fault" in seen:
        return [Check(name, "failed", expected, clean(seen["fault"]))]
    told = f"“{seen['title']}”, {seen['width']} by {seen['height']}, after {seen['seconds']:.2f} s"
    kept = str(picture) if picture and picture.exists() else None
    if seen["pid"] is not None and seen["pid"] not in scene.processes():
        told += f"; it belongs to process {seen['pid']}, not to the run"
        return [Check(name, "failed", expected, clean(told), evidence=kept)]
    if seen["one_colour"]:
        return [Check(name, "failed", expected, clean(f"{told}; all of it is one colour"), evidence=kept)]
    return [Check(name, "passed", expected, clean(told), evidence=kept)]
