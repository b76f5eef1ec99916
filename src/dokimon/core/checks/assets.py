"""The parts that a page names (scripts, styles, images, fonts): each must load, and be of the kind that the page says.

What its modules import is looked at one level deep: a development server compiles each file when it is asked for, and
the page itself answers well whatever is wrong with them.
"""

from __future__ import annotations

import re
import time
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.at_once import at_once
from dokimon.core.checks.fetching import Request, Response, fetch, looks_like_a_page, own_path
from dokimon.core.checks.html import parsed
from dokimon.core.checks.modules import imported
from dokimon.core.expressions import expression
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted

if TYPE_CHECKING:
    from bs4 import Tag

_AT_ONCE = 6
"""As many requests at once as browsers make to one origin over HTTP/1.1."""

_MOST_ASSETS = 200
_MOST_TOLD = 10

# WHATWG MIME Sniffing §4.6: the JavaScript MIME types.
_SCRIPT_TYPES = frozenset(
    f"{top}/{sub}"
    for top in ("application", "text")
    for sub in ("javascript", "ecmascript", "x-javascript", "x-ecmascript", "jscript", "livescript")
)
_SCRIPT_KINDS = frozenset({"", "module", *_SCRIPT_TYPES})
_MODULE_TYPES = frozenset({*_SCRIPT_TYPES, "application/json", "text/json", "text/css", "application/wasm"})
"""What modules may import (HTML §8.1.4.2, "module type")."""

_ACCEPTS = {
    "script": "*/*",
    "module": "*/*",
    "style": "text/css,*/*;q=0.1",
    "image": "image/*,*/*;q=0.8",
    "font": "*/*",
}
_ICON_RELATIONS = ("icon", "apple-touch-icon")
_FONT_IN_STYLE = expression(
    r"url\(\s*[\"']?([^\"')]{1,500}\.(?:woff2?|ttf|otf)(?:\?[^\"')]{0,500})?)[\"']?\s*\)", re.IGNORECASE
)


class _Asset(NamedTuple):
    kind: str
    address: str
    path: str
    is_module: bool = False
    """Whether it may import others."""


def check_assets(origin: str, page: Response, seconds: float) -> list[Check]:
    """Load what `page` names, within `seconds` in all; return one check for all, and one more for each that is wrong.

    Only the run's own origin is asked; parts on other origins are counted, not fetched. Fonts are those of its own styles.
    """
    assets, elsewhere = _named(origin, page)
    if not assets and not elsewhere:
        return []
    asked = assets[:_MOST_ASSETS]
    deadline = time.monotonic() + seconds
    answers = _loaded(origin, asked, deadline)
    fonts = [font for font in _fonts(origin, zip(asked, answers, strict=True)) if font not in asked]
    fonts = fonts[: _MOST_ASSETS - len(asked)]
    most = _MOST_ASSETS - len(asked) - len(fonts)
    modules = _modules(origin, page, list(zip(asked, answers, strict=True)), deadline)[:most]
    tried = [
        *zip(asked, answers, strict=True),
        *zip(fonts, _loaded(origin, fonts, deadline), strict=True),
        *zip(modules, _loaded(origin, modules, deadline), strict=True),
    ]
    wrong = [check for asset, answer in tried if (check := _check(asset, answer))]
    notes = f"; {len(elsewhere)} are on other hosts and were not fetched" if elsewhere else ""
    if len(assets) > len(asked):
        notes += f"; only the first {len(asked)} of {len(assets)} were asked for"
    if len(wrong) > _MOST_TOLD:
        notes += f"; the first {_MOST_TOLD} that do not are listed"
    right = len(tried) - len(wrong)
    kinds = [counted(count, kind) for kind, count in _counted(tried).items()]
    seen = f"{right} of {len(tried)} load ({', '.join(kinds)}){notes}" if tried else f"none of its own{notes}"
    verdict: CheckVerdict = "failed" if wrong else "passed"
    return [
        Check(
            name="parts",
            verdict=verdict,
            expected="each loads and is what the page says",
            seen=seen,
            sums_up=bool(wrong),
        ),
        *wrong[:_MOST_TOLD],
    ]


def _counted(tried: list[tuple[_Asset, Response]]) -> dict[str, int]:
    counted: dict[str, int] = {}
    for asset, _ in tried:
        counted[asset.kind] = counted.get(asset.kind, 0) + 1
    return counted


def _loaded(origin: str, assets: list[_Asset], deadline: float) -> list[Response]:
    return at_once(lambda each: _load(origin, each, deadline), assets, _AT_ONCE)


def _load(origin: str, asset: _Asset, deadline: float) -> Response:
    question = Request(path=asset.path, accept=_ACCEPTS[asset.kind], purpose=asset.kind)
    return fetch(origin, question, seconds=max(deadline - time.monotonic(), 0.05))


def _named(origin: str, page: Response) -> tuple[list[_Asset], list[str]]:
    """Return the run's own parts of the page, and the addresses of those elsewhere; each once, in the page's order."""
    soup = parsed(page.text)
    base_tag = soup.find("base", href=True)
    base = (own_path(str(base_tag["href"]), origin, page.path) if base_tag else None) or page.path
    own: dict[str, _Asset] = {}
    elsewhere: dict[str, None] = {}
    for tag in soup.find_all(["script", "link", "img"]):
        named = _part(tag)
        if named is None or not named[1].strip() or named[1].startswith(("data:", "blob:")):
            continue
        kind, address = named
        path = own_path(address.strip(), origin, base)
        if path is None:
            elsewhere[address] = None
        else:
            is_module = str(tag.get("type", "")).strip().lower() == "module"
            own.setdefault(path, _Asset(kind, address, path, is_module))
    return list(own.values()), list(elsewhere)


def _part(tag: Tag) -> tuple[str, str] | None:
    """Return the kind and the address of the part that an element names, or None."""
    if tag.name == "script":
        runs = str(tag.get("type", "")).strip().lower() in _SCRIPT_KINDS
        return ("script", str(tag.get("src") or "")) if runs else None
    if tag.name == "img":
        return "image", str(tag.get("src") or "")
    relations = {word.lower() for value in tag.get_attribute_list("rel") if value for word in str(value).split()}
    address = str(tag.get("href") or "")
    if "stylesheet" in relations and "alternate" not in relations:
        return "style", address
    if relations & {*_ICON_RELATIONS}:
        return "image", address
    if "modulepreload" in relations:
        return "script", address
    if "preload" in relations and str(tag.get("as", "")).lower() in ("script", "style", "image", "font"):
        return str(tag["as"]).lower(), address
    return None


def _fonts(origin: str, loaded: zip[tuple[_Asset, Response]]) -> list[_Asset]:
    """Return the fonts that the page's own styles name (CSS Fonts 4 §4.3)."""
    found: dict[str, _Asset] = {}
    for asset, answer in loaded:
        if asset.kind == "style" and answer.status == 200:
            for address in _FONT_IN_STYLE.findall(answer.text):
                path = own_path(address, origin, answer.path)
                if path is not None:
                    found.setdefault(path, _Asset("font", address, path))
    return list(found.values())


def _modules(origin: str, page: Response, loaded: list[tuple[_Asset, Response]], deadline: float) -> list[_Asset]:
    """Return what the page's modules import, those that stand in the page itself among them."""
    texts = [(page.path, tag.get_text()) for tag in parsed(page.text).find_all("script", src=False, type="module")]
    texts += [(answer.path, answer.text) for asset, answer in loaded if asset.is_module and answer.status == 200]
    known = {asset.path for asset, _ in loaded}
    found: dict[str, _Asset] = {}
    for base, text in texts:
        if time.monotonic() > deadline:
            break
        for address in imported(text):
            path = own_path(address, origin, base)
            if path is not None and path not in known:
                found.setdefault(path, _Asset("module", address, path))
    return list(found.values())


def _check(asset: _Asset, answer: Response) -> Check | None:
    """Return what is wrong with a part, or None."""
    wrong = _wrong(asset, answer)
    if wrong is None:
        return None
    name, expected = (
        clean(f"{asset.kind} {asset.address}", 120),
        f"a{'n' if asset.kind == 'image' else ''} {asset.kind}",
    )
    return Check(name=name, verdict="failed", expected=expected, seen=clean(wrong), seconds=answer.seconds)


def _wrong(asset: _Asset, answer: Response) -> str | None:
    if answer.status is None:
        return answer.fault or "nothing came back"
    if answer.elsewhere:
        return f"{answer.status}, redirects to {answer.elsewhere}"
    if not 200 <= answer.status < 300:
        return f"status {answer.status}"
    if answer.cut:
        return f"was still coming after {answer.seconds:.0f} s"
    if answer.odd:
        return answer.odd
    if looks_like_a_page(answer.body):
        return f"a page, not a {asset.kind}: servers of single-page applications send their page for what is not there"
    if asset.kind == "style":
        return None if answer.type in ("text/css", "") else f"served as {answer.type}, which browsers refuse as a style"
    if asset.kind in ("script", "module"):
        if answer.type in (_SCRIPT_TYPES if asset.kind == "script" else _MODULE_TYPES):
            return None
        return f"served as {answer.type or 'no type at all'}, which browsers refuse as a script"
    # Browsers look at the bytes of images and fonts, whatever type they are served as; a text is neither.
    if answer.type.startswith("text/") and not answer.body.lstrip().startswith((b"<svg", b"<?xml")):
        return f"served as {answer.type}"
    return None if answer.body else "empty"
