"""Looks for a window on an X display, in a process of its own: takes a wish, writes what it saw.

`python -m dokimon.core.checks.screen_look WISH` takes one object of JSON: `display`, a part of its `title`, `seconds` to
wait, `picture` (a file for a PNG), `own` (the processes of which one must own it; none where any may). It writes one line of
JSON.
"""

from __future__ import annotations

import json
import sys
import time
from importlib import import_module
from typing import Any

_LOOK_EVERY = 0.1


def see(wish: dict[str, Any]) -> dict[str, Any]:
    """Wait for the window and for something to be drawn in it; return what was seen."""
    X, error = import_module("Xlib.X"), import_module("Xlib.error")
    try:
        display = import_module("Xlib.display").Display(wish["display"])
    except (error.DisplayError, OSError) as wrong:
        return {"fault": f"the display {wish['display']} cannot be opened: {wrong}"}
    began = time.monotonic()
    titles: dict[str, None] = {}
    seen: dict[str, Any] | None = None
    while time.monotonic() - began <= wish["seconds"]:
        for window in _windows(display.screen().root):
            try:
                title = _title(display, window)
                if title:
                    titles[title] = None
                if wish["title"] not in title or window.get_attributes().map_state != X.IsViewable:
                    continue
                if wish["own"] and _pid(display, window) not in wish["own"]:
                    continue
                seen = seen or {"seconds": round(time.monotonic() - began, 3)}
                seen |= {"title": title, "pid": _pid(display, window), **_drawn(window, wish["picture"])}
                if not seen["one_colour"]:
                    return seen
            except error.XError:  # it went away while it was looked at
                continue
        time.sleep(_LOOK_EVERY)
    if seen is not None:
        return seen
    others = f"the windows are {', '.join(f'“{each}”' for each in titles)}" if titles else "there is none at all"
    return {"fault": f"no such window within {wish['seconds']:g} s; {others}"}


def _windows(window: Any) -> list[Any]:
    """Return the windows below one, those nearest to it first."""
    try:
        children = window.query_tree().children
    except import_module("Xlib.error").XError:
        return []
    return [*children, *(each for child in children for each in _windows(child))]


def _title(display: Any, window: Any) -> str:
    """Return a window's title (Extended Window Manager Hints, `_NET_WM_NAME`; ICCCM §4.1.2.1, `WM_NAME`)."""
    named = window.get_full_property(display.intern_atom("_NET_WM_NAME"), 0)
    if named and named.value:
        return bytes(named.value).decode("utf-8", "replace")
    old = window.get_wm_name()
    return old.decode("latin-1") if isinstance(old, bytes) else old or ""


def _pid(display: Any, window: Any) -> int | None:
    """Return the process that a window belongs to: as it says itself, else as the X server knows of its client.

    Extended Window Manager Hints, `_NET_WM_PID`; X Resource Extension 1.2, "XResQueryClientIds".
    """
    owner = window.get_full_property(display.intern_atom("_NET_WM_PID"), 0)
    if owner and len(owner.value):
        return int(owner.value[0])
    resources = import_module("Xlib.ext.res")
    if not display.has_extension("X-Resource"):
        return None
    answer = display.res_query_client_ids([{"client": window.id, "mask": resources.LocalClientPIDMask}])
    return next((int(each.value[0]) for each in answer.ids if len(each.value)), None)


def _drawn(window: Any, picture: str | None) -> dict[str, Any]:
    shape = window.get_geometry()
    raw = window.get_image(0, 0, shape.width, shape.height, import_module("Xlib.X").ZPixmap, 0xFFFFFFFF)
    image = import_module("PIL.Image").frombytes("RGB", (shape.width, shape.height), raw.data, "raw", "BGRX")
    if picture:
        image.save(picture)
    flat = image.getcolors(1) is not None
    return {"width": shape.width, "height": shape.height, "one_colour": flat}


def main() -> None:
    """Read the wish, look, and write what was seen."""
    try:
        seen = see(json.loads(sys.argv[1]))
    except ModuleNotFoundError as absent:
        seen = {"absent": {"Xlib": "python-xlib", "PIL": "Pillow"}.get(absent.name or "", absent.name)}
    except Exception as wrong:  # whatever a display does, the check hears of it in words
        seen = {"fault": str(wrong).splitlines()[0] if str(wrong) else type(wrong).__name__}
    print(json.dumps(seen), flush=True)


if __name__ == "__main__":
    main()
