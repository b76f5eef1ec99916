"""Compare the npm language with npm's own `semver` on generated pairs: `python tests/differential/npm.py [COUNT]`.

Needs Node.js and npm. With `--table FILE` it also writes a sample of the pairs as the table that the ordinary tests
carry. Prints the counts, and every pair on which the two differ; ends with 1 when there is one.
"""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import sys
from pathlib import Path

from dokimon.core.versions import VersionFault, admits

_ASK = """
const semver = require(process.argv[1] + '/node_modules/semver')
const pairs = JSON.parse(require('fs').readFileSync(0))
const answer = ([range, version]) => semver.validRange(range) === null ? null : semver.satisfies(version, range)
console.log(JSON.stringify(pairs.map(answer)))
"""


def _version(dice: random.Random) -> str:
    numbers = ".".join(str(dice.choice([0, 0, 1, 2, 3, 10])) for _ in range(3))
    return numbers + (f"-{dice.choice(['0', 'alpha', 'beta.2', 'rc.1', '1.a'])}" if dice.random() < 0.35 else "")


def _partial(dice: random.Random) -> str:
    count = dice.choice([1, 2, 3, 3])
    parts = [
        dice.choice(["0", "1", "2", "3", "10", "x", "*", "X"][: 8 if dice.random() < 0.2 else 4]) for _ in range(count)
    ]
    text = dice.choice(["", "", "", "v", "="]) + ".".join(parts)
    return text + (f"-{dice.choice(['0', 'alpha', 'rc.1'])}" if count == 3 and dice.random() < 0.25 else "")


def _range(dice: random.Random) -> str:
    alternatives = []
    for _ in range(dice.choice([1, 1, 2, 3])):
        kind = dice.random()
        if kind < 0.15:
            alternatives.append(f"{_partial(dice)} - {_partial(dice)}")
        elif kind < 0.2:
            alternatives.append(dice.choice(["", " ", "*"]))
        else:
            operators = ["^", "~", "~>", ">=", "<=", "<", ">", "=", "", ""]
            comparators = [
                dice.choice(operators) + dice.choice(["", " "]) + _partial(dice)
                for _ in range(dice.choice([1, 1, 2, 3]))
            ]
            alternatives.append(" ".join(comparators))
    return dice.choice(["||", " || "]).join(alternatives)


def main() -> int:
    """Generate, ask, compare; return the exit status."""
    arguments = sys.argv[1:]
    table = Path(arguments.pop(arguments.index("--table") + 1)) if "--table" in arguments else None
    count = next((int(each) for each in arguments if each.isdigit()), 20_000)
    npm = shutil.which("npm")
    if not npm:
        print("npm is not here: nothing to compare with")
        return 2
    dice = random.Random(20261125)
    pairs = [(_range(dice), _version(dice)) for _ in range(count)]
    folder = Path(npm).resolve().parents[1]
    told = subprocess.run(
        ["node", "-e", _ASK, str(folder)], input=json.dumps(pairs), capture_output=True, text=True, check=True
    )
    answers: list[bool | None] = json.loads(told.stdout)
    valid = [(pair, answer) for pair, answer in zip(pairs, answers, strict=True) if answer is not None]
    different = 0
    for (constraint, version), answer in valid:
        try:
            ours: bool | None = admits("npm", constraint, version)
        except VersionFault:
            ours = None
        if ours is not answer:
            different += 1
            print(f"{constraint!r} {version}: npm says {answer}, Dokimon {ours}")
    print(f"{len(valid)} pairs compared ({count - len(valid)} more were no ranges to npm), {different} differences")
    if table:
        accepted = [each for each in valid if each[1]][:45]
        refused = [each for each in valid if not each[1]][:45]
        lines = (
            f"{constraint}\t{version}\t{str(answer).lower()}\n" for (constraint, version), answer in accepted + refused
        )
        table.write_text("".join(lines))
    return 1 if different else 0


if __name__ == "__main__":
    sys.exit(main())
