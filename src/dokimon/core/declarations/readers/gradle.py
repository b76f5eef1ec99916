"""Gradle, with Java, Kotlin, Groovy or Android: build scripts read as text, the wrapper's and other properties."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from dokimon.core.declarations.compatibility import row_of
from dokimon.core.declarations.readers.gradle_values import filled_in
from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    beside_others,
    brought,
    fact,
    path_need,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_toml, open_manifest
from dokimon.core.reading.text import matches, properties, without_block_comments
from dokimon.core.reading.toml_lines import toml_line

_TOOLCHAINS = (
    r"JavaLanguageVersion\.of\(\s*[\"']?(?:(\d+)[\"']?\s*\)|([A-Za-z_]))",
    r"\bj(?:vm|dk)Toolchain\s*\(\s*(?:(\d+)\s*\)|([A-Za-z_]))",
)
"""A toolchain is exactly that version, and may lie beside the JDK that runs the build (Gradle, "Toolchains")."""

_JAVA = (
    (
        r"\b(?:source|target)Compatibility\s*(?:=|\s|\(|\.set\()\s*(?:JavaVersion\.)?(?:toVersion\(\s*)?(?:VERSION_)?"
        r"[\"']?(\d+(?:[._]\d+)?)",
        "the sources",
    ),
    (r"\boptions\.release(?:\.set\(|\s*=)\s*(\d+)", "the compiled classes"),
    (
        r"\bjvmTarget(?:\.set\(|\s*=|\s)\s*(?:JvmTarget\.JVM_|JavaVersion\.VERSION_)?[\"']?(\d+(?:[._]\d+)?)",
        "the target",
    ),
    (r"\bJavaVersion\.(?:toVersion\(\s*[\"']?|VERSION_)(\d+(?:[._]\d+)?)", "the sources"),
)

_ANDROID = (
    (r"\bcompileSdk(?:Version)?\s*(?:=|\(|\s)\s*(?:[\"']android-)?(\d+)", "platforms;android-{}"),
    (r"\bcompileSdk\s*\{\s*version\s*=\s*release\(\s*(\d+)", "platforms;android-{}"),
    (r"\bcompileSdkPreview\s*(?:=|\(|\s)\s*[\"'](\w+)[\"']", "platforms;android-{}"),
    (r"\bbuildToolsVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+(?:-rc\d+)?)[\"']", "build-tools;{}"),
    (r"\bndkVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+)[\"']", "ndk;{}"),
    (r"\bversion\s*(?:=|\s)\s*[\"'](3\.\d+\.\d+)[\"']", "cmake;{}"),
)

_PLUGINS = (
    r"(?:\bid\s*\(?\s*|\balias\b.*?)?[\"'](?P<id>[\w.-]+)[\"']\)?\s+version\s*\(?\s*[\"'](?P<of>\d[\w.-]*)[\"']"
    r"|\bkotlin\s*\(\s*[\"'](?P<kotlin>[\w.-]+)[\"']\s*\)\s+version\s*\(?\s*[\"'](?P<ofkotlin>\d[\w.-]*)[\"']"
    r"|[\"'](?P<module>[\w.-]+:[\w.-]+):(?P<ofmodule>\d[\w.-]*)[\"']"
)
"""A plug-in with its version: by its name, Kotlin's by its own form, or as a module of the build script's class path."""


def _java_of_gradle(version: str) -> str:
    """Return the versions of Java that a Gradle runs on (`compatibility.toml`)."""
    row = row_of("gradle", f"{version}.0")
    most = row.get("most")
    return f">={row['least']}" + (f", <={most}" if most else "")


def _of_plugin(name: str, version: str, manifest: Manifest, line: int) -> list[Requirement]:
    """Return what a plug-in asks of Java: the Android plug-in, Spring Boot's, Kotlin's (`compatibility.toml`)."""
    table, called = next((each for each in _TABLES if re.match(each[0], name)), ("", ("", "")))[1]
    row = row_of(table, version) if table else {}
    source, found = manifest.source(line), []
    if "least" in row:
        why = f"{called} {version} runs on it"
        found.append(requirement("java", f">={row['least']}", "plain", source, why=why))
    if "most" in row:
        why = f"the newest Java that {called} {version} knows"
        found.append(requirement("java", f"<={row['most']}", "plain", source, why=why, strength="advised"))
    return found


_TABLES = (
    (
        r"com\.android\.(?:application|library|test|dynamic-feature|tools\.build:gradle$)",
        ("android", "the Android plug-in"),
    ),
    (r"org\.springframework\.boot(?:$|:spring-boot-gradle-plugin$)", ("spring", "Spring Boot")),
    (r"org\.jetbrains\.kotlin(?:\.|:kotlin-gradle-plugin$)", ("kotlin", "Kotlin")),
)
"""Plug-ins by their names and modules: the table that knows what they run on, and what they are called."""


def _plugins(manifest: Manifest) -> list[Requirement]:
    """Return what the plug-ins that a script names with their versions ask for; the first of a kind counts."""
    found: dict[tuple[str, str], Requirement] = {}
    for match, line in matches(manifest, _PLUGINS, comment="//"):
        name = match["id"] or match["module"] or f"org.jetbrains.kotlin.{match['kotlin']}"
        version = match["of"] or match["ofmodule"] or match["ofkotlin"]
        for need in _of_plugin(name, version, manifest, line):
            found.setdefault((need.strength, need.wanted), need)
    return list(found.values())


def read_build(manifest: Manifest) -> list[Requirement]:
    """Read a build script: the toolchain, compatibility, and what an Android project needs of its SDK."""
    manifest = filled_in(without_block_comments(manifest))
    found = _of_script(manifest)
    if not any(each.tool == "java" and each.component is None and each.strength == "required" for each in found):
        found.append(any_version("java", manifest.source(1), "Gradle runs on Java"))
    if gradle := _gradle_itself(manifest):
        found.append(gradle)
    return _of_all_members(found, manifest.path.parent, manifest.root)


def read_script(manifest: Manifest) -> list[Requirement]:
    """Read another script of Gradle's: one that build scripts apply, or a convention plug-in (Gradle, "Sharing builds")."""
    if not manifest.path.name.endswith((".gradle", ".gradle.kts")):
        return []
    return _of_script(filled_in(without_block_comments(manifest)))


def _of_script(manifest: Manifest) -> list[Requirement]:
    found: dict[tuple[str, str], Requirement] = {}
    for pattern in _TOOLCHAINS:
        for match, line in matches(manifest, pattern, comment="//"):
            source = manifest.source(line)
            if match[2]:
                says = "the version of the toolchain is worked out by Gradle, which is not run here"
                found.setdefault(("toolchain", "?"), unreadable("java", source, says, component="toolchain"))
                continue
            why = "the toolchain of the build; it may lie beside the Java that runs Gradle"
            need = requirement("java", match[1], "plain", source, component="toolchain", why=why)
            found.setdefault(("toolchain", match[1]), beside_others(need))
    has_toolchain = bool(found)
    for pattern, what in () if has_toolchain else _JAVA:
        for match, line in matches(manifest, pattern, comment="//"):
            wanted = re.sub(r"^1[._]", "", match[1]).replace("_", ".")
            need = requirement("java", f">={wanted}", "plain", manifest.source(line), why=f"{what} of the build")
            found.setdefault(("java", wanted), need)
    for pattern, name in _ANDROID:
        if name.startswith("cmake") and "externalNativeBuild" not in manifest.text:
            continue
        for match, line in matches(manifest, pattern, comment="//"):
            component = name.format(match[1])
            need = any_version("android-sdk", manifest.source(line), component=component)
            found.setdefault(("android-sdk", component), need)
    for _, line in matches(manifest, r"\bcompileSdk(?:Version)?\s*(?:=|\(|\s)\s*(?:[A-Za-z_]\w*\.)+\w+", comment="//"):
        says = "the platform is worked out by Gradle, which is not run here"
        need = unreadable("android-sdk", manifest.source(line), says, component="platforms")
        found.setdefault(("android-sdk", "?"), need)
    for match, line in matches(manifest, r"\bminSdk(?:Version)?\s*(?:=|\(|\s)\s*(\d+)", comment="//"):
        found[("android-sdk", "least")] = fact("oldest Android API level", match[1], manifest.source(line))
    return [*found.values(), *_plugins(manifest)]


def _gradle_itself(manifest: Manifest) -> Requirement | None:
    """Gradle is needed where the root of a build has no wrapper that would bring it."""
    folder = manifest.path.parent
    while True:
        if (folder / "gradle/wrapper/gradle-wrapper.properties").is_file():
            return None
        above = folder.parent
        if folder == manifest.root or any((folder / name).is_file() for name in _SETTINGS):
            return any_version("gradle", manifest.source(1), "there is no wrapper that would bring it")
        if manifest.root not in folder.parents:
            return None
        folder = above


_SETTINGS = ("settings.gradle", "settings.gradle.kts")


def read_settings_script(manifest: Manifest) -> list[Requirement]:
    """A settings script is the root of a build of Gradle; plug-ins that it names with versions count too."""
    manifest = filled_in(without_block_comments(manifest))
    found = _plugins(manifest)
    if not any((manifest.path.parent / name).is_file() for name in ("build.gradle", "build.gradle.kts")):
        if not any(each.strength == "required" for each in found):
            found.append(any_version("java", manifest.source(1), "Gradle runs on Java"))
        if gradle := _gradle_itself(manifest):
            found.append(gradle)
    return _of_all_members(found, manifest.path.parent, manifest.root)


def _of_all_members(needs: list[Requirement], folder: Path, root: Path) -> list[Requirement]:
    """Let what the root of a build asks for count for the modules that its settings script includes."""
    for name in _SETTINGS:
        try:
            settings = without_block_comments(open_manifest(folder / name, root))
        except ManifestFault:
            continue
        calls = re.findall(r"(?m)^[ \t]*include\b[ \t(]*((?:[\"'][\w:./-]+[\"'][\s,]*){1,400})", settings.text)
        named = [
            path.strip(":").replace(":", "/") for call in calls for path in re.findall(r"[\"']([\w:./-]+)[\"']", call)
        ]
        covers = tuple(pattern for path in named if path for pattern in (path, f"{path}/**"))
        return [msgspec.structs.replace(need, covers=covers) for need in needs] if covers else needs
    return needs


_CATALOG = {
    "versions": "table",
    "versions.*": "text or table",
    "plugins": "table",
    "plugins.*": "table or text",
    "plugins.*.id": "text",
    "plugins.*.version": "table or text",
    "plugins.*.version.ref": "text",
}


def read_catalog(manifest: Manifest) -> list[Requirement]:
    """Read `libs.versions.toml`, where versions of plug-ins are kept (Gradle, "Version catalogs")."""
    data = as_toml(manifest)
    wrong, found = misfits(manifest, data, _CATALOG, "java"), list[Requirement]()
    versions, plugins = data.get("versions"), data.get("plugins")
    for name, entry in plugins.items() if isinstance(plugins, dict) else ():
        given = (
            entry
            if isinstance(entry, dict)
            else {"id": str(entry).partition(":")[0], "version": str(entry).partition(":")[2]}
        )
        version = given.get("version")
        if isinstance(version, dict):
            version = versions.get(str(version.get("ref"))) if isinstance(versions, dict) else None
        if isinstance(version, str) and re.match(r"\d", version):
            line = toml_line(manifest.text, ("plugins", name))
            found += [each for each in _of_plugin(str(given.get("id")), version, manifest, line) if each not in found]
    kinds = {(each.strength, each.wanted): each for each in reversed(found)}
    return [*wrong, *reversed(kinds.values())]


def read_daemon(manifest: Manifest) -> list[Requirement]:
    """Read `gradle-daemon-jvm.properties`: the Java that runs the build (Gradle, "Daemon JVM criteria")."""
    version, line = properties(manifest).get("toolchainVersion", ("", 1))
    if not version.isdecimal():
        return []
    need = requirement(
        "java", version, "plain", manifest.source(line), component="toolchain", why="it runs Gradle's daemon"
    )
    return [beside_others(need)]


def read_wrapper(manifest: Manifest) -> list[Requirement]:
    """The wrapper brings its own Gradle; what it asks of the machine is the Java which that Gradle runs on."""
    url, line = properties(manifest).get("distributionUrl", ("", 1))
    found = re.search(r"gradle-(\d{1,4})((?:\.\d{1,4}){0,4})", url)
    if not found:
        return [unreadable("gradle", manifest.source(line), "distributionUrl names no version of Gradle")]
    source, version = manifest.source(line), found[1] + found[2]
    pre_release = re.search(r"gradle-[\d.]+(-(?:rc|milestone)-\d+)", url)
    named = version + (pre_release[1] if pre_release else "")
    needs = [
        brought(requirement("gradle", named, "gradle", source, why="the wrapper brings it")),
        requirement("java", _java_of_gradle(version), "plain", source, why=f"Gradle {version} runs on it"),
    ]
    return _of_all_members(needs, manifest.path.parent.parent.parent, manifest.root)


def read_properties(manifest: Manifest) -> list[Requirement]:
    """Read `gradle.properties`: the Java home that it fixes."""
    home, line = properties(manifest).get("org.gradle.java.home", ("", 1))
    if not home:
        return []
    why = "org.gradle.java.home fixes it"
    return [path_need(home, manifest.source(line), why)]


def read_local(manifest: Manifest) -> list[Requirement]:
    """Read `local.properties`: where this machine's Android SDK should be."""
    home, line = properties(manifest).get("sdk.dir", ("", 1))
    if not home:
        return []
    return [path_need(home, manifest.source(line), "the Android SDK")]
