"""Fail unless the tests are 20 to 33 % of all Python lines in src/ and tests/, blank lines and comments apart."""

import sys
from pathlib import Path


def lines_below(folder: str) -> int:
    """Count the lines of Python below a folder that are neither blank nor only a comment."""
    texts = (path.read_text("utf-8") for path in Path(folder).rglob("*.py"))
    return sum(1 for text in texts for line in text.splitlines() if line.strip() and not line.strip().startswith("#"))


src, tests = lines_below("src"), lines_below("tests")
share = 100 * tests / (src + tests)
print(f"src {src} lines, tests {tests} lines: {share:.1f} % of the whole, {100 * tests / src:.0f} % of src")
sys.exit(0 if 20 <= share <= 33 else 1)
