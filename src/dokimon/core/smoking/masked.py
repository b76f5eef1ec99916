"""A report without secrets: whatever brought one into it, a command line, an answer of a server or a name."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

import msgspec

from dokimon.core.processes.masking import Mask
from dokimon.core.report.texts import with_texts

_Struct = TypeVar("_Struct", bound=msgspec.Struct)


def masked(report: _Struct, secrets: Iterable[bytes]) -> _Struct:
    """Return the report with each secret masked in each of its texts. Words of a fixed choice, as verdicts, stay."""
    mask = Mask(secrets)
    return report if mask.is_empty else with_texts(report, mask.masked_text)
