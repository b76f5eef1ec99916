"""Text from outside (manifests, tools, runs) made safe to show and keep."""

from dokimon.core.expressions import expression

# Escape sequences of terminals: CSI (ECMA-48 §5.4), OSC and the other string controls (§5.6), two-byte ones.
_SEQUENCES = expression(
    r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_][^\x07\x1b]*(?:\x07|\x1b\\)?|\x1b[ -/]*[0-~]|\x9b[0-?]*[ -/]*[@-~]"
)
# C0, DEL and C1 controls, and the marks that reorder or hide text (Unicode UAX #9 §2).
_CONTROLS = expression(r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")


def clean(text: str, limit: int = 400) -> str:
    """Return `text` as one line without control characters or trailing space, at most `limit` characters long.

    Terminal sequences vanish, tabs and line ends become a space, what is left of the controls becomes `�`.
    """
    if len(text) <= limit and text.isprintable():  # most text is; no control or format character is printable
        return text.rstrip()
    if len(text) > limit * 8:
        text = text[: limit * 8]
    text = _SEQUENCES.sub("", text).replace("\r\n", " ")
    text = text.translate({9: " ", 10: " ", 13: " "})
    text = _CONTROLS.sub("\N{REPLACEMENT CHARACTER}", text).rstrip()
    return text if len(text) <= limit else text[: limit - 1] + "…"


def without_sequences(text: str) -> str:
    """Return text without the terminal sequences in it (colours, cursor movements); its lines stay as they are."""
    return _SEQUENCES.sub("", text)


def as_shown(line: str) -> str:
    """Return a line of output as a terminal would end up showing it: after a carriage return, the last part."""
    line = line.rstrip("\r\n")
    return line.rsplit("\r", 1)[-1] if "\r" in line else line


def counted(number: int, thing: str) -> str:
    """Return a number with what it counts: `1 run`, `2 runs`."""
    return f"{number} {thing}" + ("" if number == 1 else "s")


def nearest(word: str, known: list[str], likeness: float = 0.5) -> str | None:
    """Return the known word that `word` was most likely meant to be, or None; `likeness` is from 0 to 1 (the same)."""
    from difflib import get_close_matches

    found = get_close_matches(word, known, n=1, cutoff=likeness)
    return found[0] if found else None


_OF_A_PART = expression(
    r"^(?:\d\d:\d\d:\d\d )?"
    r"(?:\[(?!(?i:err|fatal|warn|info|debug|crit|severe|trace|notice))[\w:.@/-]{1,30}\] ?|[\w.:@/-]{1,30} {0,24}[|│] ?)"
    r"(?=\S|\s+at )"
)
"""`[0] `, `[api] `, `web.1 | `, `14:02:11 web.1 | `: before what one of several parts says."""


def without_part(line: str) -> str:
    """Return a line without the name of the part that says it, where what starts several parts has put one before it."""
    return _OF_A_PART.sub("", line)
