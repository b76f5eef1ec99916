"""The survey: for each tool asked about, the copies on this machine, their versions, and their components."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.at_once import at_once
from dokimon.core.machine.asking import Asker, ToolAnswer
from dokimon.core.machine.brought import Brought, brought_by, engines_of
from dokimon.core.machine.cache import Cache
from dokimon.core.machine.catalogue import Ask, Catalogue, Tool
from dokimon.core.machine.components import Component, of_copy, of_machine
from dokimon.core.machine.evidence import version_in_files
from dokimon.core.machine.once import Once
from dokimon.core.machine.search import Copy, copies_of, reached_copy
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.text import clean


class Installation(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """One copy of a tool on this machine.

    `reached` says whether a command typed in the project's folder starts it; an `off_path` copy lies where PATH does not
    lead; `other_name` is the only name that reaches it (`python3.12`); an `own` copy is the project's and is never run,
    nor is one in a folder that only the checkout names (`checkout_named`).
    `known_by` is `file`, `asked` or `cache`. `via` is the file behind a link, the file that has the version, or the copy
    behind a `shim` of the version manager named there, chosen by `chosen_by`. `facts` are other properties it reported.
    `engines` says on which Node.js a program runs that npm brought, in npm's own words; `brought` is the package of
    a program which the catalogue does not know. Where `version` is missing, `reason` says why; `fault` is the kind of
    reason why it cannot be run. `seconds` is how long asking took.
    """

    tool: str
    path: str
    reached: bool
    off_path: bool = False
    other_name: str | None = None
    own: bool = False
    checkout_named: bool = False
    version: str | None = None
    known_by: str | None = None
    via: str | None = None
    shim: str | None = None
    chosen_by: str | None = None
    brought: Brought | None = None
    engines: str | None = None
    facts: dict[str, str] = {}
    reason: str | None = None
    fault: str | None = None
    seconds: float | None = None

    @property
    def program(self) -> str:
        """The path that a command line can name to get this very copy: behind a shim, the copy itself."""
        return self.via if self.shim and self.via else self.path


class Survey(msgspec.Struct, frozen=True):
    """What was found: the installations of each tool, the reached one first, the components, and notes on PATH."""

    installations: dict[str, list[Installation]]
    components: tuple[Component, ...] = ()
    notes: tuple[str, ...] = ()


class Surveyor:
    """One survey of this machine for one folder.

    `folder` is where shims are asked for, `checkout` the root of the project; nothing below `untrusted`, which is the
    checkout or a repository around it, is run. Programs are asked side by side,
    as many at once as there are cores. `once` is shared by surveys for several checkouts.
    """

    def __init__(
        self,
        catalogue: Catalogue,
        folder: Path,
        checkout: Path,
        environment: Mapping[str, str],
        cache: Cache,
        untrusted: Path | None = None,
        once: Once | None = None,
    ) -> None:
        self._catalogue = catalogue
        self._folder = folder
        self._places = SearchPath(environment, folder, checkout, untrusted, once)
        self._asker = Asker(environment, untrusted or checkout)
        self._cache = cache

    def survey(self, tools: Iterable[str], parts_of: Collection[str] = ()) -> Survey:
        """Look for these tools, and for the components of those in `parts_of`. An unknown tool is only looked for."""
        names = sorted({*tools, *parts_of})
        entries = {name: self._catalogue.find(name) or _uncatalogued(name) for name in names}
        copies = [
            (entries[name], copy) for name in names for copy in copies_of(entries[name], self._places, self._which)
        ]
        looked_at = self._all_looked_at([(tool, copy, tool.name in parts_of) for tool, copy in copies])
        found: dict[str, list[Installation]] = {name: [] for name in names}
        components: list[Component] = []
        for installation, parts in looked_at:
            if not _said_already(installation, found[installation.tool]):
                found[installation.tool].append(installation)
                components += parts
        for name in (name for name in names if name in parts_of):
            components += of_machine(entries[name], self._places.environment)
        self._cache.save()
        ordered = sorted(components, key=lambda each: each.tool)
        return Survey(found, tuple(ordered), tuple(self._places.notes()))

    def reached(self, tools: Iterable[str]) -> dict[str, list[Installation]]:
        """Return the copy of each of these tools that a command reaches, or none: much less than a survey looks at."""
        entries = [self._catalogue.find(name) or _uncatalogued(name) for name in sorted(set(tools))]
        copies = [(tool, reached_copy(tool, self._places, self._which)) for tool in entries]
        looked_at = self._all_looked_at([(tool, copy, False) for tool, copy in copies if copy])
        self._cache.save()
        found = {installation.tool: [installation] for installation, _ in looked_at}
        return {tool.name: found.get(tool.name, []) for tool in entries}

    def _all_looked_at(self, copies: Sequence[tuple[Tool, Copy, bool]]) -> list[tuple[Installation, list[Component]]]:
        """Look at each copy, in order; programs run side by side, and only where no file or kept answer will do."""
        without_asking = [None if with_parts else self._known(tool, copy) for tool, copy, with_parts in copies]
        left = [copy for copy, known in zip(copies, without_asking, strict=True) if known is None]
        if not left:
            return [(known, []) for known in without_asking if known]
        looked = iter(at_once(lambda each: self._look_at(*each), left, min(os.cpu_count() or 1, 16)))
        return [(known, []) if known else next(looked) for known in without_asking]

    def _which(self, command: list[str], keeps: list[str]) -> str | None:
        """Ask a version manager for the program behind its shim, in the project's folder."""
        manager = next(
            (
                path
                for place, absolute in self._places.on_path
                if absolute
                for path in self._places.holds(place, command[0])
            ),
            None,
        )
        if manager is None or self._places.in_checkout(manager.resolve()):
            return None
        variables = self._asker.variables_for(Ask(keeps=keeps))
        answer = self._asker.output([str(manager), *command[1:]], variables, self._folder)
        return next((line for line in answer.output.splitlines() if line.strip()), None)

    def _look_at(self, tool: Tool, copy: Copy, with_parts: bool) -> tuple[Installation, list[Component]]:
        """Return the copy with its version, and its components where they are asked for, running it where it must be."""
        installation = self._known(tool, copy) or self._asked(tool, copy)
        side_by_side = any(each.newest for each in tool.evidence)  # another copy may have what is wanted
        if not (with_parts and (installation.reached or side_by_side) and copy.program.is_file()):
            return installation, []

        def ask(arguments: list[str]) -> str:
            if copy.own or not installation.reached:
                return ""
            # Never kept: what a program has loaded changes with files of others, an extension that was just installed.
            return self._asker.parts(copy.program, tool.ask, arguments).output

        return installation, of_copy(tool, installation.path, copy.program, installation.version, ask)

    def _known(self, tool: Tool, copy: Copy) -> Installation | None:
        """Return the copy where nothing must be run to know its version, or why there is none; else None."""
        installation = _standing(tool, copy)
        shim = copy.shim
        if copy.fault or (shim and shim.says):
            return installation
        if shim and shim.manager == "corepack":
            return msgspec.structs.replace(installation, version=shim.version, known_by="file")
        named = copy.named
        real = named.resolve() if shim else copy.real
        once = self._places.once
        evidence = once.find(
            ("evidence", named, real, msgspec.json.encode(tool.evidence)),
            lambda: version_in_files(named, real, tool.evidence),
        )
        if evidence:
            version, file = evidence
            via = installation.via or (clean(str(file)) if file != copy.path else None)
            return msgspec.structs.replace(installation, version=version, known_by="file", via=via)
        reason = None
        if copy.checkout_named:
            reason = "was not run: only this checkout names its folder, and its version is in no file"
        elif copy.own:
            reason = "is the project's own and is not run; its version is in no file"
        elif not tool.ask.arguments:
            return self._uncatalogued(installation, copy)
        elif tool.ask.never:
            reason = tool.ask.never
        if reason:
            return msgspec.structs.replace(installation, reason=reason)
        key = self._cache.key(named, tool.ask, tool.ask.arguments)
        known = self._cache.get(key)
        return _with_answer(installation, tool, known, "cache") if known else None

    def _uncatalogued(self, installation: Installation, copy: Copy) -> Installation:
        """Nobody said how to ask it: what brought it knows its version."""
        brought = brought_by(copy.named, copy.program, self._places.environment)
        if brought is None or brought.version is None:
            reason = "is not in the catalogue: Dokimon does not know how to ask it for its version"
            return msgspec.structs.replace(installation, brought=brought, reason=reason)
        return msgspec.structs.replace(installation, brought=brought, version=brought.version, known_by="file")

    def _asked(self, tool: Tool, copy: Copy) -> Installation:
        once = self._places.once
        how = msgspec.json.encode(tool.ask)
        answer = once.find(("asked", copy.named, how), lambda: self._asker.version(copy.named, tool.ask))
        self._cache.put(self._cache.key(copy.named, tool.ask, tool.ask.arguments), answer)
        return _with_answer(_standing(tool, copy), tool, answer, "asked")


def _with_answer(installation: Installation, tool: Tool, answer: ToolAnswer, known_by: str) -> Installation:
    return msgspec.structs.replace(
        installation,
        version=answer.version,
        facts=answer.facts,
        known_by=known_by if answer.version else None,
        reason=f"is {answer.another}, not {tool.title}" if answer.another else answer.reason,
        fault="another tool" if answer.another else answer.fault,
        seconds=round(answer.seconds, 3) if known_by == "asked" else None,
    )


def _said_already(installation: Installation, found: Sequence[Installation]) -> bool:
    """Whether another command of the same tool, in the same folder, is known already: `pip3` beside `pip`."""
    if installation.version is None or installation.reached:
        return False
    folder = Path(installation.program).parent
    return any(each.version == installation.version and Path(each.program).parent == folder for each in found)


def _standing(tool: Tool, copy: Copy) -> Installation:
    """Return what is known of a copy before its version is."""
    shim = copy.shim
    behind = shim.program if shim else copy.real
    reason, fault = _why_no_version(copy)
    return Installation(
        tool=tool.name,
        path=clean(str(copy.path)),
        reached=copy.reached,
        off_path=copy.off_path,
        other_name=clean(copy.other_name) if copy.other_name else None,
        own=copy.own,
        checkout_named=copy.checkout_named,
        via=clean(str(behind)) if behind and behind != copy.path else None,
        engines=None if copy.own or copy.fault else engines_of(behind or copy.real),
        shim=shim.manager if shim else None,
        chosen_by=clean(shim.chosen_by) if shim and shim.chosen_by else None,
        reason=reason,
        fault=fault,
    )


def _why_no_version(copy: Copy) -> tuple[str | None, str | None]:
    """Return why the copy has no version, in words and by its kind: it cannot be run, or is a shim without a version."""
    if copy.fault:
        return copy.fault.says, copy.fault.kind
    if copy.shim and copy.shim.says:
        return copy.shim.says, "shim without a version"
    return None, None


def _uncatalogued(name: str) -> Tool:
    """An entry for a command that the catalogue does not know: it can be looked for, but is not run."""
    commands = [name] if name and "/" not in name and "\\" not in name and not name.startswith("-") else []
    return Tool(name=name, title=name, kind="command", commands=commands, ask=Ask(arguments=[]))
