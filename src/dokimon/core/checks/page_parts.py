"""The parts that a page and its styles name: scripts, styles, images, fonts, media, frames; and how much each matters."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import islice
from typing import TYPE_CHECKING, Literal, NamedTuple

from dokimon.core.checks.fetching import Response, own_path
from dokimon.core.checks.html import parsed
from dokimon.core.checks.modules import without_block_comments
from dokimon.core.expressions import expression

if TYPE_CHECKING:
    from bs4 import Tag

PartKind = Literal["script", "module", "style", "image", "icon", "font", "media", "frame"]

VITAL = frozenset({"script", "module", "style"})
"""Without these a page does not work, or is not what it should be; what else is missing leaves a gap in it."""

# WHATWG MIME Sniffing §4.6: the JavaScript MIME types.
SCRIPT_TYPES = frozenset(
    f"{top}/{sub}"
    for top in ("application", "text")
    for sub in ("javascript", "ecmascript", "x-javascript", "x-ecmascript", "jscript", "livescript")
)
_SCRIPT_KINDS = frozenset({"", "module", *SCRIPT_TYPES})
_ICON_RELATIONS = ("icon", "apple-touch-icon")
_PRELOADED: dict[str, PartKind] = {"script": "script", "style": "style", "image": "image", "font": "font"}

_IMPORTED_STYLE = expression(r"@import\s+(?:url\(\s*)?[\"']?([^\"'()\s;]{1,500})", 2)
_IN_STYLE = expression(r"url\(\s*(?:\"([^\"]{1,500})\"|'([^']{1,500})'|([^\"'()\s]{1,500}))\s*\)", 2)
_FONT = (".woff", ".woff2", ".ttf", ".otf", ".eot")
_STYLE_IN_MODULE = expression(r"__vite__css\s*=\s*\"((?:[^\"\\]|\\.){0,400000})\"")


class Part(NamedTuple):
    """A part: its kind, its address as it is written, its path on the run; a script that is a module may import others."""

    kind: PartKind
    address: str
    path: str
    is_module: bool = False


def parts_of_page(origin: str, page: Response) -> tuple[list[Part], list[str]]:
    """Return the run's own parts of the page, and the addresses of those elsewhere; each once, in the page's order."""
    soup = parsed(page.text)
    base_tag = soup.find("base", href=True)
    base = (own_path(str(base_tag["href"]), origin, page.path) if base_tag else None) or page.path
    own: dict[str, Part] = {}
    elsewhere: dict[str, None] = {}
    for tag in soup.find_all(["script", "link", "img", "source", "video", "audio", "iframe"]):
        for kind, address in _named_by(tag):
            if not address.strip() or address.startswith(("data:", "blob:", "about:", "javascript:", "#")):
                continue
            path = own_path(address.strip(), origin, base)
            if path is None:
                elsewhere[address] = None
            else:
                is_module = tag.name == "script" and str(tag.get("type", "")).strip().lower() == "module"
                is_module |= "modulepreload" in _relations(tag)
                own.setdefault(path, Part(kind, address, path, is_module))
    return list(own.values()), list(elsewhere)


def _relations(tag: Tag) -> set[str]:
    return {word.lower() for value in tag.get_attribute_list("rel") if value for word in str(value).split()}


def _named_by(tag: Tag) -> Iterator[tuple[PartKind, str]]:
    """Yield the kind and the address of each part that an element names."""
    address = str(tag.get("src") or "")
    if tag.name == "script":
        if is_script(tag):
            yield "script", address
    elif tag.name == "link":
        yield from _linked_by(tag)
    elif tag.name == "iframe":
        yield "frame", address
    else:
        is_picture = tag.name == "img" or (tag.name == "source" and tag.get("srcset"))
        yield ("image" if is_picture else "media"), address
        yield from (("image", each) for each in _candidates(str(tag.get("srcset") or "")))
        yield "image", str(tag.get("poster") or "")


def is_script(tag: Tag) -> bool:
    """Whether browsers run what a `script` element holds or names (HTML §4.12.1)."""
    return str(tag.get("type", "")).strip().lower() in _SCRIPT_KINDS


def _candidates(srcset: str) -> Iterator[str]:
    """The addresses of a `srcset` (HTML §2.6.3)."""
    for candidate in srcset.split(", ")[:10]:
        if words := candidate.strip().rstrip(",").split():
            yield words[0]


def _linked_by(tag: Tag) -> Iterator[tuple[PartKind, str]]:
    relations, address = _relations(tag), str(tag.get("href") or "")
    if "stylesheet" in relations and "alternate" not in relations:
        yield "style", address
    elif relations & {*_ICON_RELATIONS}:
        yield "icon", address
    elif "modulepreload" in relations:
        yield "script", address
    elif "preload" in relations and (kind := _PRELOADED.get(str(tag.get("as", "")).lower())):
        yield kind, address


def parts_of_styles(origin: str, loaded: Iterable[tuple[Part, Response]]) -> list[Part]:
    """Return what the page's own styles name: other styles, fonts, images (CSS Cascade 5 §2, Values 4 §4.5)."""
    found: dict[str, Part] = {}
    for part, answer in loaded:
        if answer.status != 200 or len(found) > _MOST:
            continue
        if part.kind == "style":
            text = answer.text
        elif part.is_module and (inside := _STYLE_IN_MODULE.search(answer.text)):
            text = inside[1].replace('\\"', '"').replace("\\n", "\n")
        else:
            continue
        for kind, address in islice(_named_in_style(without_block_comments(text[:_LARGEST_STYLE])), _MOST):
            if address.startswith(("data:", "blob:", "#", "about:")) or "{" in address:
                continue
            path = own_path(address, origin, answer.path)
            if path is not None:
                found.setdefault(path, Part(kind, address, path))
    return list(found.values())


_MOST = 200
_LARGEST_STYLE = 1_000_000


def _named_in_style(text: str) -> Iterator[tuple[PartKind, str]]:
    for found in _IMPORTED_STYLE.finditer(text):
        yield "style", found[1]
    for found in _IN_STYLE.finditer(_IMPORTED_STYLE.sub("", text)):
        address = found[1] or found[2] or found[3]
        is_font = address.partition("?")[0].partition("#")[0].lower().endswith(_FONT)
        yield ("font" if is_font else "image"), address
