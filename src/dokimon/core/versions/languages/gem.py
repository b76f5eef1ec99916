"""RubyGems' requirements (`Gem::Requirement`): `~> 1.2.3`, `>= 1.0, < 3`; a version alone means just that one."""

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders import gem
from dokimon.core.versions.orders.gem import GEM, VERSION
from dokimon.core.versions.sets import ALL, VersionSet, before, between

_TERM = expression(rf"\s*(=|!=|>=|<=|~>|>|<)?\s*({VERSION})\s*")


def _pessimistic(text: str) -> VersionSet:
    """`~>` leaves the last number open, and keeps out the pre-releases of what follows."""
    parts = gem.segments(text)
    numbers = list(parts)
    while any(isinstance(part, str) for part in numbers):
        numbers.pop()
    if len(numbers) > 1:
        numbers.pop()
    following = (*numbers[:-1], int(numbers[-1]) + 1)
    label = ".".join(str(number) for number in following)
    return between(before(gem.key_of(parts), text), before(gem.key_of((*following, "")), label))


def compile(text: str) -> Constraint:
    """Compile requirements with commas between them. Raises `VersionFault`."""
    versions, offset = ALL, 0
    for term in text.split(",") if text.strip() else []:
        found = _TERM.fullmatch(term)
        if not found:
            position = offset + len(term) - len(term.lstrip())
            raise VersionFault(text, position, "is not a requirement as RubyGems writes it")
        operator, version = found[1] or "=", found[2]
        versions &= _pessimistic(version) if operator == "~>" else compare(operator, GEM.key(version), version)
        offset += len(term) + 1
    return Constraint(language="gem", text=text, order=GEM, versions=versions)
