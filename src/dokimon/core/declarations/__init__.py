"""What a checkout declares. A new ecosystem is one more module here and one more entry in `ECOSYSTEMS`."""

from __future__ import annotations

from dokimon.core.declarations import node, python
from dokimon.core.declarations.checkout import Checkout
from dokimon.core.declarations.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.declarations.requirement import Requirement, Source, unreadable

ECOSYSTEMS = (node, python)


def read_declarations(checkout: Checkout) -> list[Requirement]:
    """Return what the manifests of the checkout require, in a fixed order.

    A file that cannot be read leaves one requirement behind whose `fault` says why; it never hides the others.
    """
    found: list[Requirement] = []
    for folder in checkout.lineage:
        for ecosystem in ECOSYSTEMS:
            for name, read in ecosystem.READERS.items():
                path = folder / name
                if not path.is_symlink() and not path.exists():
                    continue
                shown = path.relative_to(checkout.root).as_posix()
                try:
                    unread = name in ecosystem.UNREAD
                    manifest = Manifest(path, shown, "") if unread else open_manifest(path, checkout.root)
                    found.extend(read(manifest))
                except ManifestFault as wrong:
                    source = Source(shown, wrong.line, "")
                    found.append(unreadable(ecosystem.SPEAKS_OF, source, f"{shown} {wrong.reason}"))
    return _without_implied(found)


def _without_implied(found: list[Requirement]) -> list[Requirement]:
    """Leave out "any version" where another declaration speaks of the same tool anyway, and its repetitions."""
    kept: list[Requirement] = []
    for each in found:
        implied = each.constraint is None and each.fault is None
        others = [other for other in (found if implied else ()) if other.tool == each.tool and other is not each]
        if implied and any(other.constraint or other.fault or other in kept for other in others):
            continue
        kept.append(each)
    return kept
