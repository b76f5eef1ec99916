"""The scripts and styles that a page names: each must load from the run itself, and be what it is said to be."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

from dokimon.core.checks.fetching import Answer, fetch, own_path
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

_AT_ONCE = 6
"""As many requests at once as browsers make to one origin over HTTP/1.1."""

_MOST_ASSETS = 200

# WHATWG MIME Sniffing §4.6: the JavaScript MIME types.
_SCRIPT_TYPES = frozenset(
    f"{top}/{sub}"
    for top in ("application", "text")
    for sub in ("javascript", "ecmascript", "x-javascript", "x-ecmascript", "jscript", "livescript")
)
_SCRIPT_KINDS = frozenset({"", "module", *_SCRIPT_TYPES})


class _Asset(NamedTuple):
    kind: str
    address: str
    path: str


def check_assets(origin: str, page: Answer, seconds: float) -> list[Check]:
    """Load what `page` names, at most `seconds` each; return one check for all, and one more for each that is wrong.

    Only the run's own origin is asked; what lies elsewhere is counted, not fetched.
    """
    assets, elsewhere = _named(origin, page)
    if not assets and not elsewhere:
        return []
    told = f"; {len(elsewhere)} lie elsewhere and were not fetched" if elsewhere else ""
    asked = assets[:_MOST_ASSETS]
    with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
        wrong = [check for check in pool.map(lambda asset: _check(origin, asset, seconds), asked) if check]
    if len(assets) > len(asked):
        told += f"; only the first {len(asked)} of {len(assets)} were asked for"
    right = len(asked) - len(wrong)
    seen = f"{right} of {len(asked)} load{told}" if asked else f"none of its own{told}"
    verdict: CheckVerdict = "failed" if wrong else "passed"
    return [Check("scripts and styles", verdict, "each loads and is what the page says", seen), *wrong]


def _named(origin: str, page: Answer) -> tuple[list[_Asset], list[str]]:
    """Return the run's own scripts and styles, and the addresses of those elsewhere; each once, in the page's order."""
    from bs4 import BeautifulSoup

    soup = BeautifulSoup(page.body, "html.parser")
    base_tag = soup.find("base", href=True)
    base = (own_path(str(base_tag["href"]), origin, page.path) if base_tag else None) or page.path
    own: dict[str, _Asset] = {}
    elsewhere: dict[str, None] = {}
    for tag in soup.find_all(["script", "link"]):
        if tag.name == "script":
            address, kind = tag.get("src"), "script"
            if str(tag.get("type", "")).strip().lower() not in _SCRIPT_KINDS:
                continue
        else:
            words = str(tag.get_attribute_list("rel")).lower()
            address, kind = tag.get("href"), "style"
            if "'stylesheet'" not in words or "'alternate'" in words:
                continue
        if not isinstance(address, str) or not address.strip() or address.startswith("data:"):
            continue
        path = own_path(address.strip(), origin, base)
        if path is None:
            elsewhere[address] = None
        else:
            own.setdefault(path, _Asset(kind, address, path))
    return list(own.values()), list(elsewhere)


def _check(origin: str, asset: _Asset, seconds: float) -> Check | None:
    """Return what is wrong with an asset, or None."""
    accept = "*/*" if asset.kind == "script" else "text/css,*/*;q=0.1"
    answer = fetch(origin, asset.path, seconds=seconds, accept=accept, purpose=asset.kind)
    wrong = _wrong(asset, answer)
    if wrong is None:
        return None
    return Check(clean(f"{asset.kind} {asset.address}", 120), "failed", f"a {asset.kind}", clean(wrong), answer.seconds)


def _wrong(asset: _Asset, answer: Answer) -> str | None:
    if answer.status is None:
        return answer.fault or "nothing came back"
    if answer.elsewhere:
        return f"{answer.status}, sends on to {answer.elsewhere}"
    if not 200 <= answer.status < 300:
        return f"status {answer.status}"
    if answer.body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html")):
        return f"a page, not a {asset.kind}: servers of single-page applications send their page for what is not there"
    if asset.kind == "style":
        return None if answer.type in ("text/css", "") else f"served as {answer.type}, which browsers refuse as a style"
    if answer.type in _SCRIPT_TYPES:
        return None
    return f"served as {answer.type or 'no type at all'}, which browsers refuse as a script"
