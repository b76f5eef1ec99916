"""Ruby: `Gemfile` and its lock file, `.ruby-version`, gem specifications; all read as text."""

from __future__ import annotations

import re

from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.requirement import Requirement, Strength, any_version, requirement, unreadable
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches, version_line

_QUOTED = r"[\"']([^\"']+)[\"']"
_LOCKED_RUBY = expression(r"ruby (\d+(?:\.\d+)*)\w*(?:\s+\((\w+) ([\d.]+)\))?")
_ENGINE = expression(r"engine:?\s*(?:=>)?\s*[\"'](\w+)[\"'].*?engine_version:?\s*(?:=>)?\s*[\"']([^\"']+)")


def read_gemfile(manifest: Manifest) -> list[Requirement]:
    """Read the line `ruby "3.2.2"`, which may name several requirements. What an `if` decides is advice."""
    found = []
    guarded = _guarded_lines(manifest)
    for match, line in matches(manifest, r"^[ \t]*ruby\s*\(?\s*((?:[\"'][^\"']+[\"']\s*,?\s*)+)(.*)$"):
        wanted = ", ".join(re.findall(_QUOTED, match[1]))
        strength: Strength = "advised" if line in guarded or re.search(r"\b(?:if|unless)\b", match[2]) else "required"
        other = _ENGINE.search(match[2])
        if other and other[1] != "ruby":
            why = f"an implementation of Ruby {wanted}"
            found.append(requirement(other[1], other[2], "gem", manifest.source(line), why=why, strength=strength))
            continue
        found.append(requirement("ruby", wanted, "gem", manifest.source(line), strength=strength))
    of_file = r"(?:file:\s*|(?:File|IO)\.read\(?\s*(?:File\.\w+\(\s*(?:__dir__|__FILE__)\s*,\s*)?)[\"']([^\"']+)[\"']"
    for match, line in matches(manifest, rf"^[ \t]*ruby\s*\(?\s*(?:{of_file}|(ENV|File|Gem|IO)\b)"):
        if match[2]:
            says = "the version is worked out by a program, which is not run here"
            found.append(unreadable("ruby", manifest.source(line), says))
        else:
            found.append(any_version("ruby", manifest.source(line), f"{match[1]} names its version"))
    if not any(each.strength == "required" for each in found):
        found.append(any_version("ruby", manifest.source(1), f"a {manifest.path.name} is Ruby's"))
    return [*found, any_version("bundler", manifest.source(1), "it installs what the Gemfile names")]


def _guarded_lines(manifest: Manifest) -> set[int]:
    """Return the lines that an `if`, `unless` or `case` decides: those between it and the `end` in the same column."""
    guarded: set[int] = set()
    column = -1
    for match, line in matches(manifest, r"^([ \t]*)(\S+).*$"):
        if column < 0 and match[2] in ("if", "unless", "case"):
            column = len(match[1])
        elif match[2] == "end" and len(match[1]) <= column:
            column = -1
        elif column >= 0:
            guarded.add(line)
    return guarded


def read_lock(manifest: Manifest) -> list[Requirement]:
    """Read which Ruby and which Bundler wrote the lock file: advice; Bundler fetches its own version by itself."""
    lines = manifest.text.split("\n")
    found = []
    for number, line in enumerate(lines, start=1):
        following = lines[number].strip() if number < len(lines) else ""
        if line.strip() == "BUNDLED WITH" and following:
            source, why = manifest.source(number + 1), "the lock file was written by it"
            found.append(requirement("bundler", f">= {following}", "gem", source, strength="advised", why=why))
        elif line.strip() == "RUBY VERSION" and (ruby := _LOCKED_RUBY.match(following)):
            source, why = manifest.source(number + 1), "the lock file was written with it"
            tool, version = (ruby[2], ruby[3]) if ruby[2] else ("ruby", ruby[1])
            found.append(requirement(tool, version, "plain", source, strength="advised", why=why))
    return found


def read_gemspec(manifest: Manifest) -> list[Requirement]:
    """Read `required_ruby_version` and `required_rubygems_version`."""
    found = []
    for match, line in matches(manifest, r"\.required_(ruby|rubygems)_version\s*=\s*(.+)$"):
        wanted = ", ".join(re.findall(_QUOTED, match[2]))
        tool, source = {"ruby": "ruby", "rubygems": "gem"}[match[1]], manifest.source(line)
        if wanted:
            found.append(requirement(tool, re.sub(r"^(?=\d)", "= ", wanted), "gem", source))
        elif not re.fullmatch(r"\s*(?:Gem::Requirement\.default|nil)\s*", match[2]):
            found.append(unreadable(tool, source, "the version is worked out by a program, which is not run here"))
    if not any(each.tool == "ruby" for each in found):
        found.append(any_version("ruby", manifest.source(1), "a gem specification is Ruby's"))
    return found


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.ruby-version`: a version of CRuby, the beginning of one, or one of another implementation."""
    wanted, line = version_line(manifest)
    return version_need("ruby", [wanted], manifest.source(line))
