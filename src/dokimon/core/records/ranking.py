"""Which difference may matter most, by rules that are stated: docs/history.md says them in words."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.records.failing import Failing
from dokimon.core.records.found import Found
from dokimon.core.report.model import Difference, DifferenceWeight

_WEIGHTS: tuple[DifferenceWeight, ...] = ("named", "used", "major", "minor")
_GROUPS = ("needs", "tools", "packages", "variables", "services", "plan", "files", "system", "runs", "checks", "times")


def ranked(found: Sequence[Found], failing: Failing) -> tuple[Difference, ...]:
    """Return the differences, the most telling first.

    First what the failure names, then what the failed run uses (where nothing failed: what the runs use), then what is a
    great difference by itself, then the rest; among equals needs and tools before packages, variables, services, the plan,
    files and the system, great ones before small ones.
    """
    weighed = [(_weight(each, failing), each) for each in found]
    weighed.sort(key=lambda pair: (_WEIGHTS.index(pair[0]), *_within_weight(pair[1])))
    return tuple(
        Difference(
            group=each.group,
            subject=each.subject,
            says=_with_named_first(each, failing),
            weight=weight,
            before=each.before,
            after=each.after,
            more=each.more,
        )
        for weight, each in weighed
    )


def _within_weight(found: Found) -> tuple[bool, bool, int]:
    return found.follows, not found.big, _GROUPS.index(found.group)


def _weight(found: Found, failing: Failing) -> DifferenceWeight:
    if found.group == "tools" and not found.words[1:]:
        named = failing.names_tool(found.subject)
    else:
        named = failing.names(found.words)
    if named:
        return "named"
    port = found.subject.removeprefix("port ")
    of_port = found.group == "services" and port.isdecimal() and int(port) in failing.ports
    if found.used or of_port or (found.tool in failing.tools and (found.big or found.group == "packages")):
        return "used"
    return "major" if found.big else "minor"


def _with_named_first(found: Found, failing: Failing) -> str:
    """Return what is said of many packages with those first that the failure names."""
    if found.group != "packages" or len(found.more) < 2 or not failing.is_known:
        return found.says
    named = [change for change in found.more if failing.names([change.split(" ")[0]])]
    if not named or found.more[0] == named[0]:
        return found.says
    head, _, _ = found.says.partition(": ")
    others = [change for change in found.more if change not in named]
    shown = [*named[:2], *others][:3]
    return f"{head}: {', '.join(shown)}{' …' if len(found.more) > len(shown) else ''})"
