"""Writes docs/causes.md: what is known of failures, for readers who search an error's words. `python .ci/causes_page.py`."""

import tomllib
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
HEAD = """# Causes

What Dokimon says of a failure comes, in this order, from a need that is not met of what runs, from what the checkout
shows, from what the run itself printed or answered, and from what is other than when it last passed. Of several that fit
two are shown, the likeliest first; where none is known, the line that says most. Where a stack names a place in the
project's own code, that is told. A step is held against the checkout and this machine before it is offered: a command in
it is there, and a script, a manifest or a file that it names as well.

What the checkout shows (`core/smoking/shown/`): a submodule, a file of Git LFS or a link that is not there;
a name in other letters; line ends of Windows; a script without its first line; a module of the project's own that is
missing, with what lies there instead; a package that lies in `node_modules` in part, or one of the workspace that is not
built; a variable that `.env` gives and nobody reads; a host that only the containers of a compose file know; an attribute
that no other version of a module would bring.

What the run printed (`dokimon/diagnoses/*.toml`, written here by `python .ci/causes_page.py`):
"""


def page() -> str:
    """Return the page: a table for each file of the data, a row for each cause."""
    parts = [HEAD]
    for path in sorted((ROOT / "src/dokimon/diagnoses").glob("*.toml")):
        title = path.stem.replace("-", " ").capitalize()
        parts += [f"\n## {title}\n", "| cause | a line that shows it | what to do |", "|---|---|---|"]
        parts += [_row(cause) for cause in tomllib.loads(path.read_text("utf-8")).values()]
    return "\n".join(parts) + "\n"


def _row(cause: dict[str, Any]) -> str:
    steps = [
        _cell(step["say"]) + (f" (`{_cell(step['command'])}`)" if "command" in step else "")
        for step in cause.get("steps", [])
    ]
    exits = f"exit status {', '.join(map(str, cause.get('exits', [])))}"
    shown = f"`{_cell(cause['shown'][0])}`" if cause.get("shown") else exits
    said = cause["cause"].replace("[", "").replace("]", "")
    return f"| {_cell(said)} | {shown} | {'; '.join(steps)} |"


def _cell(text: str) -> str:
    return " ".join(text.replace("|", "\\|").replace("`", "'").split())


if __name__ == "__main__":
    (ROOT / "docs/causes.md").write_text(page(), "utf-8")
