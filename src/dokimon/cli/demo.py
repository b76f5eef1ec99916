"""`dokimon demo`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dokimon.cli.options import NoColorOption

if TYPE_CHECKING:
    from dokimon.demo.sample import Sample


EXAMPLE = "Example: dokimon demo --to ferries && cd ferries && dokimon smoke"


def demo(
    to: Annotated[
        Path | None,
        typer.Option("--to", metavar="FOLDER", help="Write a copy of the sample there to play with."),
    ] = None,
    broken: Annotated[
        bool, typer.Option("--broken", help="Show a sample that fails, and its diagnosis; exit status 1.")
    ] = False,
    devices: Annotated[
        bool, typer.Option("--devices", help="Show the sample with a board, an emulator and a window, all stand-ins.")
    ] = False,
    no_color: NoColorOption = False,
) -> None:
    """Show all of it on the sample project that ships with Dokimon, in a temporary folder."""
    import tempfile

    from dokimon.cli.showing import refuse
    from dokimon.demo.sample import DEVICES, FERRIES, copy_sample

    sample = DEVICES if devices else FERRIES
    if to is not None:
        if to.exists() and (not to.is_dir() or any(to.iterdir())):
            refuse(f"{to} is there and not empty; name a new folder")
        try:
            copy_sample(sample, to, broken=broken)
        except OSError as wrong:
            refuse(f"{to} cannot be written: {wrong.strerror}")
        one = "dokimon smoke --run buoy" if devices else "dokimon smoke --run board --keep"
        tries = ("dokimon verify", "dokimon smoke", one)
        print(f"The sample is in {to}. Try:\n", f"  cd {to}", *(f"  {line}" for line in tries), sep="\n")
        return
    with tempfile.TemporaryDirectory(prefix="dokimon-demo-") as folder:
        status = _show(sample, Path(folder) / sample.folder, broken, no_color)
    raise typer.Exit(status)


def _show(sample: Sample, folder: Path, broken: bool, no_color: bool) -> int:
    """Verify and smoke-check a copy of a sample in `folder`, explain it, and return the exit status."""
    import os
    import sys

    from dokimon.cli.screen.smoke import draw_smoke
    from dokimon.cli.screen.verify import draw_verify
    from dokimon.cli.showing import console
    from dokimon.cli.smoking import Showing, smoke_in
    from dokimon.core.jobs.options import CloneOptions, SmokeOptions
    from dokimon.core.jobs.verify import verify, verify_report
    from dokimon.core.report.outcome import exit_status
    from dokimon.demo.sample import DEVICES, change_later, commit, copy_sample, with_own_python

    copy_sample(sample, folder, broken=broken)
    # The sample needs a Python as new as Dokimon's own; that one comes first, so that the demo works anywhere.
    os.environ["PATH"] = with_own_python(os.environ)
    committed = sample != DEVICES and not broken and commit(folder, os.environ)
    screen = console(sys.stdout, no_color)
    screen.print(_DEVICES if sample == DEVICES else _SAMPLE)
    screen.rule("dokimon verify", style="dim")
    verified = verify_report(verify(folder, os.environ), strict=False)
    draw_verify(screen, verified, quiet=False, verbose=False)
    screen.print("" if sample == DEVICES else _VERIFIED)
    if sample != DEVICES and not broken:
        screen.rule("dokimon verify --suppose python=3.10", style="dim")
        supposed = verify(folder, os.environ, suppose=["python=3.10"])
        draw_verify(screen, verify_report(supposed, strict=False), quiet=True, verbose=False)
        screen.print(_SUPPOSED)
    screen.rule("dokimon smoke", style="dim")
    showing = Showing(quiet=not sys.stderr.isatty(), no_color=no_color)
    # What the demo remembers goes with its folder.
    os.environ["XDG_STATE_HOME"] = str(folder.parent / "state")
    smoked = smoke_in(folder, SmokeOptions(record=True), showing)
    draw_smoke(screen, smoked, quiet=False, verbose=False)
    status = exit_status(smoked)
    if sample == DEVICES:
        screen.print(_DEVICES_BROKEN if broken else _DEVICES_SMOKED)
    elif broken:
        screen.print(_BROKEN)
    else:
        screen.print(_SMOKED)
        if status == 0:
            change_later(folder)
            screen.rule("dokimon smoke --run board, after a change", style="dim")
            changed = smoke_in(folder, SmokeOptions(runs=("board",), record=True), showing)
            draw_smoke(screen, changed, quiet=True, verbose=False)
            screen.print(_CHANGED)
            if committed:
                screen.rule("dokimon smoke --clone --run board", style="dim")
                options = SmokeOptions(runs=("board",))
                draw_smoke(screen, smoke_in(folder, options, showing, CloneOptions()), quiet=True, verbose=False)
                screen.print(_CLONED)
            screen.print(_GO_ON)
    return status


_SAMPLE = """\
Saltmarsh Ferries is a made-up company with a tide service (JSON over HTTP), a departure board
that asks it (a web page), and a tide table (a program).
"""

_DEVICES = """\
What Saltmarsh Ferries, a made-up company, has beside its pages: a buoy (a board on a serial line),
a pager (an app on an emulator), a display on the quay (a window). Small stand-ins play them all.
"""

_VERIFIED = """
That was `dokimon verify`: each need with the file and line that asks for it, and the copy a
command reaches here. One advised need is unmet on purpose: you see what to do about it, and
advice does not change the exit status.
"""

_SMOKED = """
That was `dokimon smoke`: all were started in their order, known to be up by their own sockets,
looked at, and stopped again. It is remembered. Now somebody changes a file of the board.
"""

_CHANGED = """
That check failed, and since Dokimon remembers when it last passed, it says what is other than
then; dokimon compare says it at any time, dokimon history shows all that was seen.
"""

_SUPPOSED = """
That was judged as if a command reached Python 3.10: what an upgrade, or a machine that is behind,
would break is known before anything is changed.
"""

_CLONED = """
That was a clone of what is committed: it starts, so that the fault lies in the change, which
nobody committed. dokimon smoke --across python would try a clone under every Python that is here.
"""

_GO_ON = """\
Take a copy to play with: dokimon demo --to ferries. In a project of yours: dokimon verify, then
dokimon smoke."""

_BROKEN = """
That was `dokimon smoke` on a sample that fails: the board does not know where the tide service is.
The likely cause, the line that shows it and the next step are listed with the run. What passed is
listed too."""

_DEVICES_SMOKED = """
That was `dokimon smoke` on devices: a boot log read from a serial port, an emulator started and
awaited, a window seen. Take a copy to play with: dokimon demo --devices --to devices."""

_DEVICES_BROKEN = """
That was `dokimon smoke` with a board of the wrong kind: what it says of itself is not what was
expected of it."""
