"""Java with Maven: `pom.xml`, the wrapper's properties, `.java-version`."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from dokimon.core.declarations.compatibility import row_of
from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    beside_others,
    brought,
    platform_need,
    requirement,
    unreadable,
)
from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.reading.text import properties, version_line
from dokimon.core.reading.xml import Element, as_xml

_MOST_PARENTS = 6
_PROPERTIES_OF_JAVA = (
    "maven.compiler.release",
    "maven.compiler.testRelease",
    "maven.compiler.source",
    "maven.compiler.target",
    "java.version",
    "kotlin.compiler.jvmTarget",
)


def read_pom(manifest: Manifest) -> list[Requirement]:
    """Read which Java compiles the project, the enforcer's rules, the toolchain; parents below the root are read too."""
    project = as_xml(manifest)
    known = _properties(manifest, project)
    found = [*_java_of_compiler(manifest, project, known), *_java_of_parent(manifest, project)]
    found += _enforcer(manifest, project, known)
    for element in project.all("prerequisites", "maven"):
        found.append(_at_least("maven", element, manifest, known))
    for plugin in _plugins(project, "maven-toolchains-plugin"):
        for element in plugin.all("configuration", "toolchains", "jdk", "version"):
            found.append(_toolchain(element, manifest, known))
    if not any(each.tool == "java" for each in found):
        found.append(any_version("java", manifest.source(project.line), "Maven runs on Java"))
    model = project.first("modelVersion")
    if model is not None and model.text.strip().startswith("4.1"):
        source = manifest.source(model.line)
        found.append(requirement("maven", ">=4", "plain", source, why="it reads models of version 4.1"))
    wrapped = _is_wrapped(manifest)
    if wrapped:  # the wrapper brings its own Maven: what is asked of its version is a fact of the project
        found = [brought(each) if each.tool == "maven" else each for each in found]
    if not wrapped and not any(each.tool == "maven" for each in found):
        found.append(any_version("maven", manifest.source(project.line), "a pom.xml is Maven's"))
    covers = tuple(each.text.strip() for each in project.all("modules", "module") if each.text.strip())
    covers = (*covers, *(f"{each}/**" for each in covers))
    return [msgspec.structs.replace(each, covers=covers) for each in found] if covers else found


def _is_wrapped(manifest: Manifest) -> bool:
    """Whether the project, or one around it in the checkout, has the wrapper that brings Maven."""
    folder = manifest.path.parent
    while True:
        if (folder / ".mvn/wrapper/maven-wrapper.properties").is_file():
            return True
        if folder == manifest.root or manifest.root not in folder.parents:
            return False
        folder = folder.parent


def _toolchain(element: Element, manifest: Manifest, known: dict[str, str]) -> Requirement:
    """A JDK that Maven picks from those that toolchains.xml names: exactly that version, beside the one that runs Maven."""
    wanted, source = _resolved(element.text, known), manifest.source(element.line)
    why = "the toolchain of the build"
    if re.fullmatch(r"[\d.]+", wanted):
        wanted = re.sub(r"^1\.(\d)", r"\1", wanted)
        return beside_others(requirement("java", wanted, "plain", source, component="toolchain", why=why))
    if "${" in wanted:
        return unreadable("java", source, f"nothing in the checkout says what {wanted} is")
    return beside_others(requirement("java", wanted, "maven", source, component="toolchain", why=why))


def _properties(manifest: Manifest, project: Element, depth: int = 0) -> dict[str, str]:
    """Return the properties of the POM and its parents inside the checkout; the nearest definition counts."""
    known: dict[str, str] = {}
    parent = project.first("parent")
    if parent is not None and depth < _MOST_PARENTS:
        named = parent.first("relativePath")
        relative = named.text.strip() if named is not None else "../pom.xml"
        path = (manifest.path.parent / relative).resolve() if relative else manifest.path
        path = path / "pom.xml" if path.is_dir() else path
        root = manifest.root.resolve()
        if path != manifest.path.resolve() and path.is_file() and path.is_relative_to(root):
            try:
                above = open_manifest(path, root)
                known |= _properties(above, as_xml(above), depth + 1)
            except ManifestFault:
                pass  # the parent tells its own fault where the walk meets it
    for element in project.all("properties"):
        known |= {child.name: child.text.strip() for child in element.children}
    version = project.first("version") or project.first("parent", "version")
    known["project.version"] = version.text.strip() if version else ""
    return known


def _resolved(text: str, known: dict[str, str]) -> str:
    for _ in range(8):
        found = re.search(r"\$\{([^${}]+)\}", text)
        if not found or found[1] not in known:
            break
        text = text.replace(found[0], known[found[1]])[:200]
    return text.strip()


def _plugins(project: Element, name: str) -> Iterator[Element]:
    for path in (("build", "plugins"), ("build", "pluginManagement", "plugins")):
        for plugin in project.all(*path, "plugin"):
            artifact = plugin.first("artifactId")
            if artifact is not None and artifact.text.strip() == name:
                yield plugin


def _java_of_compiler(manifest: Manifest, project: Element, known: dict[str, str]) -> list[Requirement]:
    places = [each for each in project.all("properties") for each in each.children if each.name in _PROPERTIES_OF_JAVA]
    for profile in project.all("profiles", "profile"):
        active = profile.first("activation", "activeByDefault")
        if active is not None and active.text.strip() == "true":
            places += [
                each for held in profile.all("properties") for each in held.children if each.name in _PROPERTIES_OF_JAVA
            ]
    for plugin in _plugins(project, "maven-compiler-plugin"):
        for configuration in [*plugin.all("configuration"), *plugin.all("executions", "execution", "configuration")]:
            places += [each for each in configuration.children if each.name in ("release", "source", "target")]
    found: dict[str, Requirement] = {}
    for element in places:
        need = _at_least("java", element, manifest, known)
        found.setdefault(need.wanted, need)
    return list(found.values())


def _java_of_parent(manifest: Manifest, project: Element) -> list[Requirement]:
    """Spring Boot, from which many projects inherit, runs on newer versions of Java only (`compatibility.toml`)."""
    named, version = project.first("parent", "artifactId"), project.first("parent", "version")
    if named is None or version is None or named.text.strip() != "spring-boot-starter-parent":
        return []
    row, source = row_of("spring", version.text), manifest.source(version.line)
    why = f"Spring Boot {version.text.strip()} runs on it"
    return [requirement("java", f">={row['least']}", "plain", source, why=why)] if row else []


def _enforcer(manifest: Manifest, project: Element, known: dict[str, str]) -> list[Requirement]:
    found = []
    for plugin in _plugins(project, "maven-enforcer-plugin"):
        for configuration in [*plugin.all("configuration"), *plugin.all("executions", "execution", "configuration")]:
            for rule, tool in (("requireJavaVersion", "java"), ("requireMavenVersion", "maven")):
                for element in configuration.all("rules", rule, "version"):
                    found.append(_maven_range(tool, element, manifest, known))
            for element in configuration.all("rules", "requireOS"):
                found += _required_system(element, manifest)
    return found


_FAMILIES = {"windows": "windows", "mac": "macos", "unix": "!windows", "dos": "windows"}


def _required_system(rule: Element, manifest: Manifest) -> list[Requirement]:
    """The enforcer's rule on the operating system (maven-enforcer, "Require OS")."""
    family, name = rule.first("family"), rule.first("name")
    named_by = family if family is not None else name
    text = named_by.text.strip().lower() if named_by is not None else ""
    system = _FAMILIES.get(text.lstrip("!")) or {"linux": "linux", "mac os x": "macos"}.get(text.lstrip("!"))
    if system is None:
        return []
    if text.startswith("!"):
        system = system[1:] if system.startswith("!") else f"!{system}"
    return [platform_need([system], manifest.source(rule.line), "the build's enforcer asks for it")]


def _at_least(tool: str, element: Element, manifest: Manifest, known: dict[str, str]) -> Requirement:
    wanted = _resolved(element.text, known)
    wanted = re.sub(r"^1\.(\d+)$", r"\1", wanted) if tool == "java" else wanted
    source = manifest.source(element.line)
    if not re.fullmatch(r"\d+(\.\d+)*", wanted):
        return unreadable(
            tool, source, f"{wanted or 'nothing'!r} is not a version, and nothing in the checkout says which"
        )
    return requirement(tool, f">={wanted}", "plain", source)


def _maven_range(tool: str, element: Element, manifest: Manifest, known: dict[str, str]) -> Requirement:
    """The enforcer takes a version alone as the oldest that will do (maven-enforcer, "Version Range Specification")."""
    wanted = _resolved(element.text, known)
    if "${" in wanted:
        return unreadable(tool, manifest.source(element.line), f"nothing in the checkout says what {wanted} is")
    bounded = wanted if wanted.startswith(("[", "(")) else f"[{wanted},)"
    return requirement(tool, bounded, "maven", manifest.source(element.line))


def read_wrapper(manifest: Manifest) -> list[Requirement]:
    """The wrapper brings its own Maven: its version is shown, and only Java is required of the machine."""
    known = properties(manifest)
    url, line = known.get("distributionUrl", ("", 1))
    plain = known.get("mavenVersion", ("", 1))[0]
    found = re.search(r"apache-maven-(\d+(?:\.\d+)*)", url) or re.match(r"(\d+(?:\.\d+)*)$", plain)
    if not found:
        return [unreadable("maven", manifest.source(line), "distributionUrl names no version of Maven")]
    why = "the wrapper brings it"
    return [brought(requirement("maven", found[1], "plain", manifest.source(line), why=why))]


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.java-version`: a version, with or without the name of a distribution before it."""
    wanted, line = version_line(manifest)
    return version_need("java", [wanted], manifest.source(line))
