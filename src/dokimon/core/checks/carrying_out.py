"""Carrying out the checks of one run: independent ones at once, each again as often as it may be, in a fixed order."""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec

from dokimon.core.checks import Kind, kind_of
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.declarations.requirement import Source
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_AT_ONCE = 6


class Asked(msgspec.Struct, frozen=True):
    """What is wanted, and the line that asks for it; None where it is looked at without a word."""

    wanted: Wanted
    source: Source | None = None


def title_of(asked: Asked) -> str:
    """Return what a check is called: as somebody named it, else after what it looks at."""
    return clean(asked.wanted.name or kind_of(asked.wanted).title(asked.wanted), 100)


def carry_out_checks(asked: Sequence[Asked], scene: Scene) -> tuple[Check, ...] | None:
    """Return what was seen, in the order in which it was asked for; None where the work was halted.

    What comes after a failed check that was `needed` is skipped.
    """
    found: list[Check] = []
    batches = _batches(asked)
    for number, batch in enumerate(batches):
        made = _at_once(batch, scene)
        if made is None:
            return None
        found += [check for checks in made for check in checks]
        missed = [
            title_of(each)
            for each, checks in zip(batch, made, strict=True)
            if each.wanted.needed and any(check.verdict in ("failed", "unsure") for check in checks)
        ]
        if missed:
            rest = [each for later in batches[number + 1 :] for each in later]
            found += [_skipped(each, missed[0]) for each in rest]
            break
    return tuple(found)


def _skipped(asked: Asked, because: str) -> Check:
    name, kind = title_of(asked), kind_of(asked.wanted).name
    return Check(
        name, "skipped", "not looked at", f"“{because}” is needed, and did not pass", kind=kind, source=asked.source
    )


def _batches(asked: Sequence[Asked]) -> list[list[Asked]]:
    """Return the checks in groups that may be looked at at once: none changes anything, none needs another's values."""
    batches: list[list[Asked]] = []
    told: set[str] = set()
    closed = True
    for each in asked:
        kind = kind_of(each.wanted)
        alone = kind.alone or not _only_looks(kind, each.wanted) or each.wanted.needed
        if alone or closed or _uses(each.wanted, told):
            batches.append([])
            told = set()
        batches[-1].append(each)
        told |= _tells(each.wanted)
        closed = alone
    return batches


def _only_looks(kind: Kind, wanted: Wanted) -> bool:
    if kind.name == "http":
        from dokimon.core.checks.http import Http, is_safe

        assert isinstance(wanted, Http)
        return is_safe(wanted)
    return True


def _tells(wanted: Wanted) -> set[str]:
    """Return the names of values that a check finds out for those after it."""
    return {*getattr(wanted, "take", ())} | ({wanted.fact} if hasattr(wanted, "fact") else set())


def _uses(wanted: Wanted, told: set[str]) -> bool:
    """Whether a check names a value that is only being found out."""
    text = msgspec.json.encode(msgspec.to_builtins(wanted)).decode()
    named = set(re.findall(r"\{(?:[\w-]+\.)?([\w-]+)\}", text)) | set(re.findall(r'"fact":"([^"]+)"', text))
    own = {wanted.fact} if hasattr(wanted, "fact") else set()
    return bool((named - own) & told)


def _at_once(batch: Sequence[Asked], scene: Scene) -> list[list[Check]] | None:
    """Look at all of them in threads, so that an interruption need not wait for a slow answer."""
    pool = ThreadPoolExecutor(max_workers=_AT_ONCE)
    try:
        working = [pool.submit(_tried, each, scene) for each in batch]
        while not all(each.done() for each in working):
            # What changes a file puts it back itself; all else may be left where it is.
            if scene.halt.is_set() and not any(kind_of(each.wanted).alone for each in batch):
                return None
            time.sleep(0.01)
        return [each.result() for each in working]
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _tried(asked: Asked, scene: Scene) -> list[Check]:
    """Look once, and again as long as it fails and may; what passed only then says so."""
    wanted, kind = asked.wanted, kind_of(asked.wanted)
    attempts = 1
    while True:
        try:
            checks = kind.check(wanted, scene)
        except Exception as mistake:  # one of Dokimon's own loses no other check
            says = clean(f"a mistake of Dokimon's own: {type(mistake).__name__}: {mistake}")
            checks = [Check(title_of(asked), "unsure", "to be looked at", says)]
        fine = all(check.verdict in ("passed", "skipped") for check in checks)
        if fine or attempts > wanted.retries or scene.halt.wait(seconds(wanted.pause)):
            break
        attempts += 1
    # Several texts of one console are checks of their own; what comes with an answer is a part of that.
    first = checks[0].name if checks and (wanted.name or checks[0].name == kind.title(wanted)) else None
    return [_finished(check, asked, kind, attempts, first if number else None) for number, check in enumerate(checks)]


def _finished(check: Check, asked: Asked, kind: Kind, attempts: int, part_of: str | None) -> Check:
    seen, own = check.seen, asked.wanted.name
    if attempts > 1 and check.verdict == "passed" and part_of is None:
        seen += f"; only at attempt {attempts}"
    name = own if own and part_of is None else check.name
    return msgspec.structs.replace(
        check, name=clean(name, 120), seen=seen, kind=kind.name, source=asked.source,
        attempts=attempts if attempts > 1 else None, part_of=part_of and clean(own or part_of, 120),
    )  # fmt: skip
