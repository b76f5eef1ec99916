"""What the modules of a page import, to the bottom: a development server compiles each file only when it is asked for."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec

from dokimon.core.checks.fetching import Request, Response, own_path
from dokimon.core.checks.html import parsed
from dokimon.core.checks.loading import Loader
from dokimon.core.checks.modules import Import, Module, read_module

_MOST_MODULES = 2000
_RELATIVE = ("/", "./", "../")
_SCRIPT = ("javascript", "ecmascript")
_OUTDATED = 504
"""The status by which Vite says that it has bundled its dependencies anew: the page is to be loaded again."""


class Loaded(NamedTuple):
    """A module that was asked for: its path, the path of what imports it, whether that is only later, and the answer."""

    path: str
    by: str
    is_later: bool
    answer: Response


class Graph(msgspec.Struct, frozen=True, kw_only=True):
    """All modules below a page; `faults` are imports that cannot work, in words; so many own ones were not asked for."""

    loaded: tuple[Loaded, ...] = ()
    faults: tuple[str, ...] = ()
    unasked: int = 0
    is_outdated: bool = False


class Source(NamedTuple):
    """A module that was loaded already: where it is from, and its text."""

    path: str
    text: str


def load_modules(loader: Loader, sources: Sequence[Source], addresses: Mapping[str, str], known: set[str]) -> Graph:
    """Ask for all that the `sources` import, breadth first; what is imported only later comes last.

    `addresses` is the import map of the page, `known` are paths that were asked for already.
    """
    found: list[Loaded] = []
    faults: list[str] = []
    modules = {each.path: read_module(each.text, is_own=is_own_source(each.path)) for each in sources}
    now, later = _Queue(known), _Queue(known)
    for path, module in modules.items():
        _add(path, module, False, loader.origin, addresses, now, later, faults)
    unasked = 0
    for queue, is_later in ((now, False), (later, True)):
        while queue.waiting:
            batch, queue.waiting = queue.waiting, {}
            if loader.is_over or len(found) + len(batch) > _MOST_MODULES:
                unasked += sum(is_own_source(path) for path in batch)
                continue
            asked = [Request(path=path, accept="*/*", purpose="script") for path in batch]
            for (path, by), answer in zip(batch.items(), loader.load(asked), strict=True):
                found.append(Loaded(path, by, is_later, answer))
                is_module = answer.status == 200 and any(kind in answer.type for kind in _SCRIPT)
                unasked += is_module and loader.is_over  # reading takes time, too: what it imports is left out
                if is_module and not loader.is_over:
                    modules[path] = read_module(answer.text, is_own=is_own_source(path))
                    _add(path, modules[path], is_later, loader.origin, addresses, queue, later, faults)
    faults += _missing_names(modules, loader.origin, addresses)
    return Graph(
        loaded=tuple(found),
        faults=tuple(dict.fromkeys(faults)),
        unasked=unasked,
        is_outdated=any(each.answer.status == _OUTDATED for each in found),
    )


class _Queue:
    """Paths that are to be asked for, each once in all, with what imports it."""

    def __init__(self, known: set[str]) -> None:
        self.waiting: dict[str, str] = {}
        self._known = known

    def add(self, path: str, by: str) -> None:
        if path not in self._known:
            self._known.add(path)
            self.waiting[path] = by


def is_own_source(path: str) -> bool:
    """Whether a path is of the project's own source, and not of a package or of the server's own."""
    return not any(
        part in path for part in ("/node_modules/", "/@vite/", "/@id/", "/.vite/", "/@react-refresh", "/deps/")
    )


def _add(
    path: str,
    module: Module,
    is_later: bool,
    origin: str,
    addresses: Mapping[str, str],
    now: _Queue,
    later: _Queue,
    faults: list[str],
) -> None:
    if module.broken_at is not None and is_own_source(path):
        faults.append(f"{path}, line {module.broken_at}, does not parse")
    for each in module.imports:
        where = _resolved(each, path, origin, addresses)
        if where is None:
            continue
        if where == "" and not each.is_later and not is_later and is_own_source(path):
            faults.append(f"{path} imports “{each.address}”, which no import map explains")
        elif where and not each.is_later:
            now.add(where, path)
        elif where and is_own_source(where):
            later.add(where, path)


def _resolved(each: Import, base: str, origin: str, addresses: Mapping[str, str]) -> str | None:
    """Return the path that an import means (HTML §8.1.5.2); None for another origin, "" for a name that nothing explains."""
    address = _mapped(each.address, addresses)
    if address.startswith(_RELATIVE) or "://" in address:
        return own_path(address, origin, base)
    return "" if address and not address.startswith(("data:", "blob:", "node:")) and ":" not in address else None


def _mapped(address: str, addresses: Mapping[str, str]) -> str:
    if address in addresses:
        return addresses[address]
    prefix = max((key for key in addresses if key.endswith("/") and address.startswith(key)), key=len, default=None)
    return addresses[prefix] + address[len(prefix) :] if prefix else address


def import_map(markup: str) -> dict[str, str]:
    """Return the import map of a page (HTML §8.1.5.1), its top level."""
    addresses: dict[str, str] = {}
    for tag in parsed(markup).find_all("script", type="importmap"):
        try:
            imports = json.loads(tag.get_text()).get("imports", {})
        except (ValueError, AttributeError, RecursionError):
            continue
        if isinstance(imports, dict):
            addresses |= {key: value for key, value in imports.items() if isinstance(value, str)}
    return addresses


def _missing_names(modules: Mapping[str, Module], origin: str, addresses: Mapping[str, str]) -> Iterator[str]:
    """Names that are imported and not exported (ECMAScript §16.2.1.7): the whole page runs nothing then."""
    for path, module in modules.items():
        for each in module.imports if is_own_source(path) else ():
            where = _resolved(each, path, origin, addresses)
            target = modules.get(where or "")
            if target is None or not each.names:
                continue
            exported = _all_exports(where or "", modules, origin, addresses, set())
            if exported is not None and (missing := [name for name in each.names if name not in exported]):
                yield f"{path} imports “{missing[0]}” of {each.address}, which does not export it"


def _all_exports(
    path: str, modules: Mapping[str, Module], origin: str, addresses: Mapping[str, str], seen: set[str]
) -> frozenset[str] | None:
    """Return all names that a module exports, with those that it passes on; None where they are not all known."""
    module = modules.get(path)
    if module is None or module.is_open:
        return None
    seen.add(path)
    names = set(module.exports)
    for address in module.passes_on:
        where = _resolved(Import(address), path, origin, addresses)
        if where in seen:
            continue
        more = _all_exports(where or "", modules, origin, addresses, seen)
        if more is None:
            return None
        names |= more
    return frozenset(names)
