"""Writes docs/causes.md: what is known of failures, for readers who search an error's words. `python .ci/causes_page.py`."""

import tomllib
from collections import Counter
from pathlib import Path
from typing import Any

from dokimon.core.smoking.shown.by_checkout import LOOKS

ROOT = Path(__file__).parents[1]
STEPS = tomllib.loads((ROOT / "tests/steps.toml").read_text("utf-8"))["step"]
PROVEN = {each["cause"]: each["then"] for each in STEPS}
HEAD = """# Causes

What Dokimon says of a failure comes, in this order, from a need that is not met of what runs, from what the checkout
shows, from what the run itself printed or answered, and from what is other than when it last passed. Of several that fit
two are shown, the likeliest first; where none is known, the line that says most. Where a stack names a place in the
project's own code, that is told. A step is held against the checkout and this machine before it is offered: a command in
it is there, and a script, a manifest or a file that it names as well.

Steps are carried out by `tests/test_steps.py` in small projects that have the fault: `proven` are those after which the
cause is gone, `shows` those that show what has to be known; a call of Dokimon itself is held against its command line. Of
the others the tools, the network or the rights are not here.

## From a need

A need that is not met, required or advised, of what is started comes first where the run itself tells of no certain cause;
its step is the remedy that `dokimon verify` tells.

## From the checkout

"""
SAID = """
## From what was printed or answered

The rest of this page is made of `dokimon/diagnoses/*.toml` by `python .ci/causes_page.py`.
"""


def page() -> str:
    """Return the page: a table for each file of the data, a row for each cause."""
    parts = [
        HEAD.rstrip(),
        "",
        *(f"- {_first_sentence(look.__doc__ or look.__name__)}" for look in LOOKS),
        SAID.rstrip(),
        _counts(),
    ]
    for path in sorted((ROOT / "src/dokimon/diagnoses").glob("*.toml")):
        title = path.stem.replace("-", " ").capitalize()
        parts += [f"\n### {title}\n", "| cause | a line that shows it | what to do | step |", "|---|---|---|---|"]
        parts += [_row(name, cause) for name, cause in tomllib.loads(path.read_text("utf-8")).items()]
    return "\n".join(parts) + "\n"


def _row(name: str, cause: dict[str, Any]) -> str:
    steps = [
        _cell(step["say"]) + (f" (`{_cell(step['command'])}`)" if "command" in step else "")
        for step in cause.get("steps", [])
    ]
    exits = f"exit status {', '.join(map(str, cause.get('exits', [])))}"
    shown = f"`{_cell(cause['shown'][0])}`" if cause.get("shown") else exits
    said = cause["cause"].replace("[", "").replace("]", "")
    return f"| {_cell(said)} | {shown} | {'; '.join(steps)} | {_proof(name, cause)} |"


def _proof(name: str, cause: dict[str, Any]) -> str:
    commands = [step["command"] for step in cause.get("steps", []) if "command" in step]
    if name in PROVEN:
        return {"gone": "proven"}.get(PROVEN[name], PROVEN[name])
    return "call" if any(each.startswith("dokimon ") for each in commands) else ""


def _counts() -> str:
    came = Counter(each["then"] for each in STEPS)
    gone, shown = came["gone"], came["shows"]
    return f"\nCarried out: {len(STEPS)} steps of {len(PROVEN)} causes; the cause was gone after {gone}, {shown} showed it."


def _first_sentence(text: str) -> str:
    return " ".join(text.split())


def _cell(text: str) -> str:
    return " ".join(text.replace("|", "\\|").replace("`", "'").split())


if __name__ == "__main__":
    (ROOT / "docs/causes.md").write_text(page(), "utf-8")
