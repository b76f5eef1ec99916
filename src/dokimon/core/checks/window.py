"""A desktop program's window: it appears within a time, it is the run's own, and something is drawn in it."""

from __future__ import annotations

import sys
from pathlib import Path

from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean


class Window(Wanted, frozen=True, kw_only=True):
    """`window = "Departures"`, a part of its title; it must be there and drawn `within` a time."""

    window: str = ""
    within: str = "15s"


def title(wanted: Window) -> str:
    """Return what the check is called where nobody named it."""
    return f"window {wanted.window}"


def check(wanted: Window, scene: Scene) -> list[Check]:
    """Look for the window on the run's display, and keep a picture of it."""
    import json

    from dokimon.core.launching.output import Output
    from dokimon.core.launching.to_end import run_to_end
    from dokimon.core.launching.tree import StartFault

    name, expected = clean(title(wanted), 100), clean(f"a window “{wanted.window}” with something in it")
    if scene.display is None:
        return [
            Check(
                name,
                "skipped",
                expected,
                "there is no display here, and no Xvfb that could make one (Debian's package xvfb)",
            )
        ]
    picture = scene.evidence(f"window-{wanted.window}.png")
    if picture:
        picture.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    wish = {
        "display": scene.display, "title": wanted.window, "seconds": seconds(wanted.within),
        "picture": str(picture) if picture else None,
    }  # fmt: skip
    output = Output()
    # Isolated (-I), so that no module of the checkout is taken for one of ours.
    command = [sys.executable, "-I", "-m", "dokimon.core.checks.screen_look", json.dumps(wish)]
    try:
        end = run_to_end(command, Path(scene.root.anchor), scene.environment, output, wish["seconds"] + 20, scene.halt)  # type: ignore[operator]
    except StartFault as fault:
        return [Check(name, "failed", expected, clean(str(fault)))]
    line = next((line for line in reversed(output.text().splitlines()) if line.startswith("{")), None)
    if line is None:
        return [Check(name, "failed", expected, clean(f"looking at the display {end.reason}"))]
    seen = json.loads(line)
    if "absent" in seen:
        why = f"it needs the package {seen['absent']}, which pip install 'dokimon[window]' brings"
        return [Check(name, "skipped", expected, why)]
    if "fault" in seen:
        return [Check(name, "failed", expected, clean(seen["fault"]))]
    told = f"“{seen['title']}”, {seen['width']} by {seen['height']}, after {seen['seconds']:.2f} s"
    kept = str(picture) if picture and picture.exists() else None
    if seen["pid"] is not None and seen["pid"] not in scene.processes():
        return [
            Check(
                name,
                "failed",
                expected,
                clean(f"{told}; it belongs to process {seen['pid']}, not to the run"),
                evidence=kept,
            )
        ]
    if seen["one_colour"]:
        return [Check(name, "failed", expected, clean(f"{told}; all of it is one colour"), evidence=kept)]
    return [Check(name, "passed", expected, clean(told), evidence=kept)]
