"""The order of PEP 440, through `packaging`."""

from packaging.version import InvalidVersion, Version

from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order


def parse(text: str) -> Version:
    """Return the version; a `+` at the end, as builds between two releases print it, is let pass."""
    try:
        return Version(text.strip().removesuffix("+"))
    except InvalidVersion:
        raise VersionFault(text, 0, "is not a version as PEP 440 writes it") from None


PEP440 = Order("pep440", parse)
