"""Gradle, with Java, Kotlin, Groovy or Android: build scripts read as text, the wrapper's and other properties."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    brought,
    fact,
    path_need,
    requirement,
    unreadable,
)
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches, properties

_JAVA = (
    (r"JavaLanguageVersion\.of\(\s*[\"']?(\d+)[\"']?\s*\)", "the toolchain"),
    (r"\bjvmToolchain\(\s*(\d+)\s*\)", "the toolchain"),
    (
        r"\b(?:source|target)Compatibility\s*(?:=|\s)\s*(?:JavaVersion\.)?(?:VERSION_)?[\"']?(\d+(?:[._]\d+)?)",
        "the sources",
    ),
    (r"\boptions\.release(?:\.set\(|\s*=)\s*(\d+)", "the compiled classes"),
)

_ANDROID = (
    (r"\bcompileSdk(?:Version)?\s*(?:=|\(|\s)\s*(\d+)", "platforms;android-{}"),
    (r"\bbuildToolsVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+(?:-rc\d+)?)[\"']", "build-tools;{}"),
    (r"\bndkVersion\s*(?:=|\(|\s)\s*[\"']([\d.]+)[\"']", "ndk;{}"),
)

_ANDROID_PLUGIN = (
    r"com\.android\.(?:application|library)[\"']\)?\s+version\s+[\"'](\d+)\.|com\.android\.tools\.build:gradle:(\d+)\."
)
_JAVA_OF_ANDROID_PLUGIN = ((8, 17), (7, 11), (0, 8))
_JAVA_OF_GRADLE = ((9, 17), (5, 8), (0, 7))
"""From which major version on the Android plug-in, and Gradle itself, need which Java (their release notes)."""


def _java_for(major: int, steps: tuple[tuple[int, int], ...]) -> int:
    return next(java for first, java in steps if major >= first)


def read_build(manifest: Manifest) -> list[Requirement]:
    """Read a build script: the toolchain, compatibility, and what an Android project needs of its SDK."""
    found: dict[tuple[str, str], Requirement] = {}
    for pattern, what in _JAVA:
        for match, line in matches(manifest, pattern, comment="//"):
            wanted = match[1].replace("_", ".")
            need = requirement("java", f">={wanted}", "plain", manifest.source(line), why=f"{what} of the build")
            found.setdefault(("java", wanted), need)
    for pattern, name in _ANDROID:
        for match, line in matches(manifest, pattern, comment="//"):
            component = name.format(match[1])
            need = any_version("android-sdk", manifest.source(line), component=component)
            found.setdefault(("android-sdk", component), need)
    for match, line in matches(manifest, r"\bminSdk(?:Version)?\s*(?:=|\(|\s)\s*(\d+)", comment="//"):
        found[("android-sdk", "least")] = fact("oldest Android API level", match[1], manifest.source(line))
    for match, line in matches(manifest, _ANDROID_PLUGIN, comment="//"):
        java = _java_for(int(match[1] or match[2]), _JAVA_OF_ANDROID_PLUGIN)
        why = "the Android plug-in runs on it"
        found[("java", "plug-in")] = requirement("java", f">={java}", "plain", manifest.source(line), why=why)
    if not any(tool == "java" for tool, _ in found):
        found[("java", "")] = any_version("java", manifest.source(1), "Gradle runs on Java")
    wrapped = (manifest.path.parent / "gradle/wrapper/gradle-wrapper.properties").is_file()
    if not wrapped and manifest.path.parent == manifest.root:
        found[("gradle", "")] = any_version("gradle", manifest.source(1), "there is no wrapper that would bring it")
    return list(found.values())


def read_wrapper(manifest: Manifest) -> list[Requirement]:
    """The wrapper brings its own Gradle; what it asks of the machine is the Java which that Gradle runs on."""
    url, line = properties(manifest).get("distributionUrl", ("", 1))
    found = re.search(r"gradle-(\d+)((?:\.\d+)*)", url)
    if not found:
        return [unreadable("gradle", manifest.source(line), "distributionUrl names no version of Gradle")]
    source, version = manifest.source(line), found[1] + found[2]
    java = _java_for(int(found[1]), _JAVA_OF_GRADLE)
    return [
        brought(requirement("gradle", version, "gradle", source, why="the wrapper brings it")),
        requirement("java", f">={java}", "plain", source, why=f"Gradle {version} runs on it"),
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
