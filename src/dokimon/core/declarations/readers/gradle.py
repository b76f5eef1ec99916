"""Gradle, with Java, Kotlin, Groovy or Android: build scripts read as text, the wrapper's and other properties."""

from __future__ import annotations

import re

from dokimon.core.declarations.compatibility import compatibility
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
from dokimon.core.reading.manifest import Manifest, as_toml
from dokimon.core.reading.text import matches, properties, without_block_comments
from dokimon.core.reading.toml_lines import toml_line

_TOOLCHAINS = (
    r"JavaLanguageVersion\.of\(\s*[\"']?(\d+)[\"']?\s*\)",
    r"\bjvmToolchain\s*\(\s*(\d+)\s*\)",
    r"\bjdkToolchain\s*\(\s*(\d+)\s*\)",
)
"""A toolchain is exactly that version, and may lie beside the JDK that runs the build (Gradle, "Toolchains")."""

_JAVA = (
    (
        r"\b(?:source|target)Compatibility\s*(?:=|\s|\()\s*(?:JavaVersion\.)?(?:toVersion\(\s*)?(?:VERSION_)?"
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
    (r"\bbuildToolsVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+(?:-rc\d+)?)[\"']", "build-tools;{}"),
    (r"\bndkVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+)[\"']", "ndk;{}"),
    (r"\bversion\s*(?:=|\s)\s*[\"'](3\.\d+\.\d+)[\"']", "cmake;{}"),
)

_ANDROID_PLUGIN = (
    r"com\.android\.(?:application|library)[\"']\)?\s+version\s+[\"'](\d{1,4})\."
    r"|com\.android\.tools\.build:gradle:(\d{1,4})\."
)
_JAVA_OF_ANDROID_PLUGIN = ((8, 17), (7, 11), (0, 8))
"""From which major version on the Android plug-in needs which Java (its release notes)."""


def _java_for(major: int, steps: tuple[tuple[int, int], ...]) -> int:
    return next(java for first, java in steps if major >= first)


def _java_of_gradle(version: str) -> str:
    """Return the versions of Java that a Gradle runs on (`compatibility.toml`)."""
    numbers = [int(each) for each in version.split(".")[:2]] + [0]
    known = [row for row in compatibility()["gradle"] if row["from"] <= numbers[:2]]
    row = known[-1] if known else {"least": 7, "most": 8}
    most = row.get("most")
    return f">={row['least']}" + (f", <={most}" if most else "")


def read_build(manifest: Manifest) -> list[Requirement]:
    """Read a build script: the toolchain, compatibility, and what an Android project needs of its SDK."""
    manifest = without_block_comments(manifest)
    found: dict[tuple[str, str], Requirement] = {}
    for pattern in _TOOLCHAINS:
        for match, line in matches(manifest, pattern, comment="//"):
            why = "the toolchain of the build; it may lie beside the Java that runs Gradle"
            need = requirement("java", match[1], "plain", manifest.source(line), component="toolchain", why=why)
            found.setdefault(("toolchain", match[1]), beside_others(need))
    for pattern, what in _JAVA:
        for match, line in matches(manifest, pattern, comment="//"):
            wanted = re.sub(r"^1[._]", "", match[1]).replace("_", ".")
            if not any(tool == "toolchain" for tool, _ in found):
                need = requirement("java", f">={wanted}", "plain", manifest.source(line), why=f"{what} of the build")
                found.setdefault(("java", wanted), need)
    for pattern, name in _ANDROID:
        if name.startswith("cmake") and "externalNativeBuild" not in manifest.text:
            continue
        for match, line in matches(manifest, pattern, comment="//"):
            component = name.format(match[1])
            need = any_version("android-sdk", manifest.source(line), component=component)
            found.setdefault(("android-sdk", component), need)
    for match, line in matches(manifest, r"\bminSdk(?:Version)?\s*(?:=|\(|\s)\s*(\d+)", comment="//"):
        found[("android-sdk", "least")] = fact("oldest Android API level", match[1], manifest.source(line))
    for match, line in matches(manifest, _ANDROID_PLUGIN, comment="//"):
        found[("java", "plug-in")] = _java_of_android(match[1] or match[2], manifest, line)
    if not any(tool == "java" for tool, _ in found) and manifest.path.name.startswith("build."):
        found[("java", "")] = any_version("java", manifest.source(1), "Gradle runs on Java")
    if gradle := _gradle_itself(manifest):
        found[("gradle", "")] = gradle
    return list(found.values())


def _java_of_android(major: str, manifest: Manifest, line: int) -> Requirement:
    java = _java_for(int(major), _JAVA_OF_ANDROID_PLUGIN)
    why = "the Android plug-in runs on it"
    return requirement("java", f">={java}", "plain", manifest.source(line), why=why)


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
    manifest = without_block_comments(manifest)
    found = [
        _java_of_android(match[1] or match[2], manifest, line)
        for match, line in matches(manifest, _ANDROID_PLUGIN, "//")
    ]
    if any((manifest.path.parent / name).is_file() for name in ("build.gradle", "build.gradle.kts")):
        return found[:1]
    gradle = _gradle_itself(manifest)
    return [
        *found[:1],
        *([] if found else [any_version("java", manifest.source(1), "Gradle runs on Java")]),
        *([gradle] if gradle else []),
    ]


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
    """Read `libs.versions.toml`, where versions of plug-ins are kept (Gradle, "Version catalogs"): that of Android's."""
    data = as_toml(manifest)
    wrong = misfits(manifest, data, _CATALOG, "java")
    versions, plugins = data.get("versions"), data.get("plugins")
    for name, entry in plugins.items() if isinstance(plugins, dict) else ():
        given = (
            entry
            if isinstance(entry, dict)
            else {"id": str(entry).partition(":")[0], "version": str(entry).partition(":")[2]}
        )
        if not str(given.get("id", "")).startswith("com.android."):
            continue
        version = given.get("version")
        if isinstance(version, dict):
            version = versions.get(str(version.get("ref"))) if isinstance(versions, dict) else None
        if isinstance(version, str) and (major := re.match(r"\d{1,4}", version)):
            return [*wrong, _java_of_android(major[0], manifest, toml_line(manifest.text, ("plugins", name)))]
    return wrong


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
    return [
        brought(requirement("gradle", named, "gradle", source, why="the wrapper brings it")),
        requirement("java", _java_of_gradle(version), "plain", source, why=f"Gradle {version} runs on it"),
    ]


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
