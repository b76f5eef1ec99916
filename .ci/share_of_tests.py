"""Print how much of all Python lines in src/ and tests/ is tests, blank lines and comments apart; aim at 25 to 33 %."""

from pathlib import Path


def lines_below(folder: str) -> int:
    """Count the lines of Python below a folder that are neither blank nor only a comment."""
    texts = (path.read_text("utf-8") for path in Path(folder).rglob("*.py"))
    return sum(1 for text in texts for line in text.splitlines() if line.strip() and not line.strip().startswith("#"))


src, tests = lines_below("src"), lines_below("tests")
share = 100 * tests / (src + tests)
print(f"src {src} lines, tests {tests} lines: {share:.1f} % of the whole (the aim: a quarter to a third)")
