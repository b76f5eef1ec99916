"""A page after its scripts ran, in the Chromium that is installed: what can be read there, its console, a picture."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.html import selector_problems
from dokimon.core.checks.measuring import Measure
from dokimon.core.checks.scratch import scratch
from dokimon.core.checks.spec import CheckSpec, Pattern, Texts, texts
from dokimon.core.faults import Fault
from dokimon.core.files import make_for_oneself
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean, counted

if TYPE_CHECKING:
    from dokimon.core.processes.output import Output
    from dokimon.core.processes.tree import Tree

_BROWSERS = ("chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "microsoft-edge")
_START_SECONDS = 30.0
_MOST_TOLD = 3


class Rendered(CheckSpec, frozen=True, kw_only=True):
    """`render = "/"`: open it in a browser, and see `title`, `shows`, `hides`, `elements` as for a page, `within` a time.

    Uncaught errors and failed requests fail it, unless `errors = true`.
    """

    kind_name: ClassVar[str] = "rendered page"
    asks_server: ClassVar[bool] = True

    render: str = "/"
    title: str | None = None
    shows: Texts = []
    hides: Texts = []
    elements: dict[str, int | str | Measure] = {}
    errors: bool = False
    within: str = "15s"

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return f"rendered {self.render}"

    def late_problems(self) -> Iterator[str]:
        """Elements are named by CSS selectors."""
        yield from selector_problems(self.elements)

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


class RenderFault(Fault):
    """No browser could show the page; `absent` where none, or its driver, is installed."""

    def __init__(self, says: str, *, absent: bool = False) -> None:
        super().__init__(says)
        self.absent = absent


def _look(spec: Rendered, context: CheckContext) -> list[Check]:
    """Open the page, and compare what is seen there with what is wanted."""
    from dokimon.core.checks.contents import check_elements_seen, check_texts

    name = clean(f"rendered {spec.render}", 100)
    expected = "a page with something to read, no uncaught error, no failed request"
    picture = context.evidence(f"rendered{spec.render}.png")
    plain = [text for text in texts(spec.shows) if not isinstance(text, Pattern)]
    try:
        seen = look(spec.render, context, plain, list(spec.elements), seconds(spec.within), picture)
    except RenderFault as fault:
        return [
            Check(name=name, verdict="skipped" if fault.absent else "failed", expected=expected, seen=clean(str(fault)))
        ]
    words = " ".join(seen["words"].split())
    summary = f"“{seen['title']}”" if seen["title"] else "no title"
    summary += f", {len(words.split())} words after its scripts ran"
    if seen["elsewhere"]:
        summary += f"; {counted(len(seen['elsewhere']), 'request')} to elsewhere not let out"
    kept = str(picture) if picture and picture.exists() else None
    empty = not words and not spec.elements and not texts(spec.shows)
    status = seen["status"] or 0
    wrong = status >= 400
    checks = [
        Check(
            name=name,
            verdict="failed" if empty or wrong else "passed",
            expected=expected,
            seen=clean(f"{status}, {summary}"),
            evidence=kept,
        )
    ]
    if spec.title is not None:
        right = spec.title in seen["title"]
        checks.append(
            Check(
                name="title",
                verdict="passed" if right else "failed",
                expected=clean(f"holds “{spec.title}”"),
                seen=clean(f"“{seen['title']}”"),
            )
        )
    checks += check_texts(spec.shows, spec.hides, words, words, "on the page")
    checks += check_elements_seen(
        spec.elements, {each: (found["count"], found["text"]) for each, found in seen["elements"].items()}
    )
    if not spec.errors:
        for kind, wrong in (("console errors", seen["errors"]), ("failed requests", seen["failed"])):
            names = "; ".join(f"“{each}”" for each in wrong[:_MOST_TOLD])
            names += f"; {len(wrong) - _MOST_TOLD} more" if len(wrong) > _MOST_TOLD else ""
            checks.append(
                Check(name=kind, verdict="failed" if wrong else "passed", expected="none", seen=clean(names or "none"))
            )
    return checks


class Awaiting:
    """A browser that has the page open and waits for a text that a change is to bring. Use `close` at the end.

    `before` says that the text is there already. Raises `RenderFault`.
    """

    def __init__(self, path: str, text: str, context: CheckContext, within: float) -> None:
        from dokimon.core.checks.helper import command_of
        from dokimon.core.processes.output import Output
        from dokimon.core.processes.tree import StartFault, Tree

        self._known = 0
        self._output: Output = Output()
        self._within = within
        command = command_of("browser", {**_wish(path, context), "seconds": within, "change": text})
        self._over = ExitStack()
        variables = {**context.environment, "TMPDIR": str(self._over.enter_context(scratch()))}
        try:
            self._tree: Tree = Tree.start(command, Path(context.root.anchor), variables, self._output)
        except StartFault as fault:
            self._over.close()
            raise RenderFault(str(fault)) from None
        try:
            first = self._line(_START_SECONDS, context)
        except RenderFault:
            self.close()
            raise
        self.before = bool(first.get("before"))

    def shown_after(self, context: CheckContext) -> float | None:
        """Return the seconds after which the text appeared, None where it did not."""
        after = self._line(self._within + _START_SECONDS, context).get("after")
        return None if after is None else float(after)

    def close(self) -> None:
        """End the browser."""
        from dokimon.core.processes.stopping import stop

        stop(self._tree)
        self._over.close()

    def _line(self, seconds: float, context: CheckContext) -> dict[str, Any]:
        """Return the next thing that it says."""
        import json

        from dokimon.core.checks.helper import said

        deadline = time.monotonic() + seconds
        while True:
            over = self._tree.ended or time.monotonic() > deadline or context.halt.is_set()
            if over and self._tree.ended:
                self._output.wait(1.0)
            known = self._output.count
            lines = said(self._output.text())
            if len(lines) > self._known:
                self._known += 1
                return _understood(json.loads(lines[self._known - 1]))
            if over:
                raise RenderFault("the browser ended, or was too slow")
            self._output.wait_for_more(known, 0.1)


def find_browser(environment: Mapping[str, str]) -> str | None:
    """Return the Chromium, or a browser made from it, that a command reaches."""
    return next((path for name in _BROWSERS if (path := shutil.which(name, path=environment.get("PATH")))), None)


def look(
    path: str, context: CheckContext, spec: list[str], selectors: list[str], within: float, picture: Path | None
) -> dict[str, Any]:  # fmt: skip
    """Open `path` of the run in a browser, wait for texts and elements, and return what was seen; raises `RenderFault`."""
    from dokimon.core.checks.helper import HelperFault, ask

    wish = _wish(path, context) | {"seconds": within, "texts": spec, "selectors": selectors}
    if picture:
        make_for_oneself(picture.parent)
        wish["picture"] = str(picture)
    try:
        with scratch() as temporary:
            seconds = within + _START_SECONDS
            if find_spec("playwright"):
                return _understood(ask("browser", wish, context, seconds, TMPDIR=str(temporary)))
            wish["profile"] = str(temporary / "profile")
            seen = _understood(ask("devtools", wish, context, seconds, TMPDIR=str(temporary)))
            return {"title": "", "words": "", "elements": {}, **seen, "errors": [*seen["errors"], *seen["console"]]}
    except HelperFault as fault:
        raise RenderFault(str(fault)) from None


def _wish(path: str, context: CheckContext) -> dict[str, Any]:
    """Return what every look of a browser needs to know; raises `RenderFault`."""
    if context.origin is None:
        raise RenderFault("the run has no address that could be opened")
    browser = find_browser(context.environment)
    if browser is None:
        raise RenderFault("no Chromium is installed here; install one, such as Debian's package chromium", absent=True)
    return {"browser": browser, "origin": context.origin, "path": context.filled(path), "texts": [], "selectors": []}


def _understood(seen: dict[str, Any]) -> dict[str, Any]:
    """Return what the browser's process saw; raises `RenderFault` where it saw nothing."""
    if "absent" in seen:
        raise RenderFault("a browser is here, its driver is not: pip install 'dokimon[browser]'", absent=True)
    if "fault" in seen:
        raise RenderFault(seen["fault"])
    return seen
