"""Whether the parts that a page names load and are of the kind that the page says; its modules down to the last one.

A development server compiles each file when it is asked for, and the page itself answers well whatever is wrong with them.
"""

from __future__ import annotations

import json
import re
import time
from collections import Counter
from collections.abc import Sequence

from dokimon.core.checks.fetching import Request, Response, fetch, looks_like_a_page
from dokimon.core.checks.html import parsed, read
from dokimon.core.checks.loading import Loader
from dokimon.core.checks.module_graph import Graph, Loaded, Source, import_map, is_own_source, load_modules
from dokimon.core.checks.modules import fault_in_bundle
from dokimon.core.checks.page_parts import SCRIPT_TYPES, VITAL, Part, is_script, parts_of_page, parts_of_styles
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted

_MOST_PARTS = 200
_MOST_TOLD = 10
_MOST_BYTES = 64 * 1024 * 1024
_MODULE_SECONDS = 20.0
_LOADED_AGAIN = 3
"""So often a page is loaded anew whose server has bundled its packages anew meanwhile."""

_MODULE_TYPES = frozenset({*SCRIPT_TYPES, "application/json", "text/json", "text/css", "application/wasm"})
"""What modules may import (HTML §8.1.4.2, "module type")."""

_NEVER_SCRIPTS = ("image/", "audio/", "video/", "text/csv")
"""The types that even a classic script must not have (Fetch §2.9); browsers run it with any other."""

_ACCEPTS = {
    "style": "text/css,*/*;q=0.1",
    "image": "image/*,*/*;q=0.8",
    "icon": "image/*,*/*;q=0.8",
    "frame": "text/html",
}


def check_assets(origin: str, page: Response, seconds: float, *, strict: bool = False) -> list[Check]:
    """Load what `page` names, within `seconds` in all; return one check for all, and one more for each that is wrong.

    Only the run's own origin is asked; parts on other origins are counted, not fetched. A picture that is missing leaves
    it open whether all is well; where somebody asked for all parts (`strict`), it is a failure.
    """
    for _ in range(_LOADED_AGAIN):
        seen = _load(origin, page, seconds)
        if not seen.graph.is_outdated:
            break
        again = fetch(origin, page.path, seconds=seconds)
        page = again if again.status == page.status else page
    return _checks(seen, strict)


class _Seen:
    """What was loaded of a page: its parts with their answers, its modules, and what is elsewhere or was left out."""

    def __init__(self, named: int, elsewhere: int) -> None:
        self.named, self.elsewhere = named, elsewhere
        self.parts: list[tuple[Part, Response]] = []
        self.graph = Graph()


def _load(origin: str, page: Response, seconds: float) -> _Seen:
    parts, elsewhere = parts_of_page(origin, page)
    seen = _Seen(len(parts), len(elsewhere))
    with Loader(origin, time.monotonic() + seconds, _MOST_BYTES) as loader:
        seen.parts = _answered(loader, parts[:_MOST_PARTS])
        known = {part.path for part, _ in seen.parts}
        for _ in range(2):  # what the styles name, and the styles that those name
            more = [each for each in parts_of_styles(origin, seen.parts) if each.path not in known]
            more = more[: max(_MOST_PARTS - len(seen.parts), 0)]
            known |= {each.path for each in more}
            seen.parts += _answered(loader, more)
    sources = _sources(page, seen.parts)
    if sources:
        with Loader(origin, time.monotonic() + min(seconds, _MODULE_SECONDS), _MOST_BYTES) as loader:
            seen.graph = load_modules(loader, sources, import_map(page.text), known)
            styles = [(Part("module", each.path, each.path, True), each.answer) for each in seen.graph.loaded]
            more = [each for each in parts_of_styles(origin, styles) if each.path not in known][:_MOST_PARTS]
            seen.parts += _answered(loader, more)
    return seen


def _answered(loader: Loader, parts: Sequence[Part]) -> list[tuple[Part, Response]]:
    asked = [
        Request(path=each.path, accept=_ACCEPTS.get(each.kind, "*/*"), purpose=_PURPOSES.get(each.kind, each.kind))
        for each in parts
    ]
    return list(zip(parts, loader.load(asked), strict=True))


_PURPOSES = {"icon": "image", "media": "video", "frame": "iframe", "module": "script"}


def _sources(page: Response, loaded: Sequence[tuple[Part, Response]]) -> list[Source]:
    """Return the modules that the page itself holds or names. A script in the page may import, too, once it is run."""
    inside = [tag.get_text() for tag in parsed(page.text).find_all("script", src=False) if is_script(tag)]
    texts = [text for text in inside if "import" in text]
    sources = [Source(page.path, "\n;\n".join(texts))] if texts else []
    return sources + [
        Source(part.path, answer.text) for part, answer in loaded if part.is_module and answer.status == 200
    ]


def _checks(seen: _Seen, strict: bool) -> list[Check]:
    if not seen.parts and not seen.elsewhere and not seen.graph.loaded:
        return []
    wrong = [check for part, answer in seen.parts if (check := _check(part, answer, strict))]
    wrong += [check for each in seen.graph.loaded if (check := _check_module(each))]
    missing = [_fault(each) for each in seen.graph.faults]
    told = sorted([*wrong, *missing], key=lambda each: each.verdict != "failed")
    icons = sum(1 for part, answer in seen.parts if part.kind == "icon" and _wrong(part, answer))
    tried = len(seen.parts) + len(seen.graph.loaded)
    notes = f"; {seen.elsewhere} are on other hosts and were not fetched" if seen.elsewhere else ""
    if seen.named > _MOST_PARTS:
        notes += f"; only the first {_MOST_PARTS} of {seen.named} were asked for"
    if seen.graph.unasked:
        notes += f"; {counted(seen.graph.unasked, 'module')} of its own were not asked for, since there are too many"
    if icons:
        notes += f"; {counted(icons, 'icon')} not there"
    if len(told) > _MOST_TOLD:
        notes += f"; the first {_MOST_TOLD} that do not are listed"
    kinds = Counter(part.kind for part, _ in seen.parts) + Counter("module" for _ in seen.graph.loaded)
    listed = ", ".join(counted(count, kind) for kind, count in kinds.items())
    sums = f"{tried - len(wrong) - icons} of {tried} load ({listed}){notes}" if tried else f"none of its own{notes}"
    verdict: CheckVerdict = "passed"
    if told or seen.graph.unasked:
        verdict = "failed" if any(each.verdict == "failed" for each in told) else "unsure"
    expected = "each loads and is what the page says"
    return [
        Check(name="parts", verdict=verdict, expected=expected, seen=sums, sums_up=bool(told)), *told[:_MOST_TOLD]
    ]  # fmt: skip


def _fault(says: str) -> Check:
    return Check(name="modules", verdict="failed", expected="each import can be had", seen=clean(says))


def _check(part: Part, answer: Response, strict: bool) -> Check | None:
    """Return what is wrong with a part, or None. An icon that is missing is only counted."""
    wrong = _wrong(part, answer)
    if wrong is None or part.kind == "icon":
        return None
    article = "an" if part.kind == "image" else "a"
    verdict: CheckVerdict = "failed" if part.kind in VITAL or strict else "unsure"
    name, expected = clean(f"{part.kind} {part.address}", 120), f"{article} {part.kind}"
    return Check(name=name, verdict=verdict, expected=expected, seen=clean(wrong), seconds=answer.seconds)


def _check_module(loaded: Loaded) -> Check | None:
    """Return what is wrong with a module. One that is imported only later may never be."""
    answer = loaded.answer
    wrong = _wrong(Part("module", loaded.path, loaded.path, True), answer)
    if wrong is None:
        return None
    verdict: CheckVerdict = "unsure" if loaded.is_later else "failed"
    when = ", which is loaded later" if loaded.is_later else ""
    seen = f"{wrong}; {loaded.by} imports it{when}"
    name = clean(f"module {loaded.path}", 120)
    return Check(name=name, verdict=verdict, expected="a module", seen=clean(seen), seconds=answer.seconds)


def _wrong(part: Part, answer: Response) -> str | None:
    if answer.status is None:
        return answer.fault or "nothing came back"
    if answer.elsewhere:
        return f"{answer.status}, redirects to {answer.elsewhere}"
    if not 200 <= answer.status < 300:
        return f"status {answer.status}{_reason_in(answer)}"
    if answer.cut:
        return f"was still coming after {answer.seconds:.0f} s"
    if answer.odd:
        return answer.odd
    if part.kind == "frame":
        return None
    if looks_like_a_page(answer.body):
        return f"a page, not a {part.kind}: servers of single-page applications send their page for what is not there"
    if part.kind == "style":
        return None if answer.type in ("text/css", "") else f"served as {answer.type}, which browsers refuse as a style"
    if part.kind in ("script", "module"):
        return _wrong_script(part, answer)
    # Browsers look at the bytes of images and fonts, whatever type they are served as; a text is neither.
    if answer.type.startswith("text/") and not answer.body.lstrip().startswith((b"<svg", b"<?xml")):
        return f"served as {answer.type}"
    return None if answer.body else "empty"


def _wrong_script(part: Part, answer: Response) -> str | None:
    """Return what is wrong with a script: browsers demand the type of a module, and of any where the server says so."""
    refused = f"served as {answer.type or 'no type at all'}, which browsers refuse as a script"
    if part.is_module or part.kind == "module":
        if answer.type not in (_MODULE_TYPES if part.kind == "module" else SCRIPT_TYPES):
            return refused
    elif answer.type not in SCRIPT_TYPES:
        is_strict = answer.headers.get("x-content-type-options", "").lower() == "nosniff"
        if is_strict or answer.type.startswith(_NEVER_SCRIPTS):
            return refused
    if is_own_source(part.path) and (fault := fault_in_bundle(answer.text)):
        return f"holds an error in place of a module: {fault}"
    return None


_MESSAGE = re.compile(r'"message"\s*:\s*"((?:[^"\\]|\\.){1,2000})"')


def _reason_in(answer: Response) -> str:
    """Return what the body of a failure says of its cause, in the words that development servers put there."""
    text = answer.text[:40_000]
    if found := _MESSAGE.search(text):
        try:
            return ": " + _plain(json.loads('"' + found[1] + '"'))
        except ValueError:
            pass
    words = read(text).words if looks_like_a_page(answer.body) else text
    return f": {_plain(words)}" if words.strip() and answer.status != 404 else ""


_DRAWN = re.compile(r"[\u2500-\u257f┬]+")


def _plain(text: str) -> str:
    """Return a message in one line, without the frames that bundlers draw around the code."""
    return clean(" ".join(_DRAWN.sub(" ", text).split()), 200)
