"""How long the lines of a large dokimon.toml take: `python bench/settings_lines.py [ROUNDS]`.

A file of 400 needs, then one of 4,000, is read with the line of every key; next to it, `tomllib` alone reads the same text.
Linear growth is ten times as long.
"""

from __future__ import annotations

import statistics
import sys
import time
import tomllib

from dokimon.core.reading.toml_lines import toml_line

_NEED = '[[need]]\ntool = "node"\nversion = ">=18"\nwhy = """\n[[run]]\nfor the board\n"""\n\n'


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    medians = []
    for needs in (400, 4_000):
        lines, parsing = [], []
        for number in range(rounds):
            text = f"# round {number}: the lines of a text that was read before are kept\n" + _NEED * needs
            started = time.perf_counter()
            tomllib.loads(text)
            parsing.append(time.perf_counter() - started)
            started = time.perf_counter()
            for index in range(needs):
                toml_line(text, ("need", index, "version"))
            lines.append(time.perf_counter() - started)
        medians.append(statistics.median(lines))
        ratio = statistics.median(mine / theirs for mine, theirs in zip(lines, parsing, strict=True))
        print(f"{needs:,} needs: lines in {medians[-1] * 1000:.0f} ms, {ratio:.2f} times as long as parsing the text")
    print(f"from 400 to 4,000 needs: {medians[1] / medians[0]:.1f} times as long")


if __name__ == "__main__":
    main()
