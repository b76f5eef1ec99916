"""Ruby: `Gemfile` and its lock file, `.ruby-version`, gem specifications; all read as text."""

from __future__ import annotations

import re

from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches, version_line

_QUOTED = r"[\"']([^\"']+)[\"']"
_ENGINE = re.compile(r"engine:?\s*(?:=>)?\s*[\"'](\w+)[\"'].*?engine_version:?\s*(?:=>)?\s*[\"']([^\"']+)")


def read_gemfile(manifest: Manifest) -> list[Requirement]:
    """Read the line `ruby "3.2.2"`, which may name several requirements."""
    found = []
    for match, line in matches(manifest, r"^\s*ruby\s*\(?\s*((?:[\"'][^\"']+[\"']\s*,?\s*)+)(.*)$"):
        wanted = ", ".join(re.findall(_QUOTED, match[1]))
        other = _ENGINE.search(match[2])
        if other and other[1] != "ruby":
            why = f"an implementation of Ruby {wanted}"
            found.append(requirement(other[1], other[2], "gem", manifest.source(line), why=why))
            continue
        found.append(requirement("ruby", wanted, "gem", manifest.source(line)))
    for match, line in matches(manifest, r"^\s*ruby\s*\(?\s*(?:file:\s*[\"']([^\"']+)[\"']|(ENV|File|Gem|IO)\b)"):
        if match[2]:
            says = "the version is worked out by a program, which is not run here"
            found.append(unreadable("ruby", manifest.source(line), says))
        else:
            found.append(any_version("ruby", manifest.source(line), f"{match[1]} names its version"))
    if not found:
        found.append(any_version("ruby", manifest.source(1), "a Gemfile is Ruby's"))
    return [*found, any_version("bundler", manifest.source(1), "it installs what the Gemfile names")]


def read_lock(manifest: Manifest) -> list[Requirement]:
    """Read which Ruby and which Bundler wrote the lock file: advice; Bundler fetches its own version by itself."""
    lines = manifest.text.split("\n")
    found = []
    for number, line in enumerate(lines, start=1):
        following = lines[number].strip() if number < len(lines) else ""
        if line.strip() == "BUNDLED WITH" and following:
            source, why = manifest.source(number + 1), "the lock file was written by it"
            found.append(requirement("bundler", f">= {following}", "gem", source, strength="advised", why=why))
        elif line.strip() == "RUBY VERSION" and (ruby := re.match(r"ruby (\d+(?:\.\d+)*)", following)):
            source, why = manifest.source(number + 1), "the lock file was written with it"
            found.append(requirement("ruby", ruby[1], "plain", source, strength="advised", why=why))
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
