"""The ecosystems whose files are read: a new one is one more module in `readers/` and one more entry here."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import NamedTuple

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.reading.manifest import Manifest

Reader = Callable[[Manifest], list[Requirement]]


class Ecosystem(NamedTuple):
    """The files of one ecosystem: its module in `readers/` (loaded when one of them is met), and who reads which.

    `readers` maps the names of files, or endings such as `*.sln`, to functions of that module. `speaks_of` is the tool
    whose need stays unknown where a file cannot be read; empty where nothing is missed then. Files in `unread` are not
    read whole: their reader gets an empty text.
    """

    module: str
    speaks_of: str
    readers: Mapping[str, str]
    unread: frozenset[str] = frozenset()

    def reader(self, function: str) -> Reader:
        """Return the function of this name."""
        found: Reader = getattr(import_module(f"dokimon.core.declarations.readers.{self.module}"), function)
        return found


_NODE_LOCKS = ("package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "bun.lock", "bun.lockb")

_COMPOSE = tuple(
    f"{name}{purpose}.{ending}"
    for name in ("compose", "docker-compose")
    for purpose in ("", ".override", ".dev", ".local")
    for ending in ("yaml", "yml")
)

_README = ("README", "Readme", "readme", "ReadMe")
_TEXTS = ("", ".md", ".rst", ".txt", ".adoc", ".markdown", ".MD", ".mkd")

_OF_ONE_VERSION = (
    ".terraform-version", "*.tf", ".bazelversion", "build.zig.zon", ".zigversion", "project/*.properties", "build.sbt",
    "project.clj", "stack.yaml", "cabal.project", "cpanfile", "Makefile.PL", "Build.PL",
    ".perl-version", "shard.yml", "*.cabal", "*.nimble",
    "*.rockspec", "dune-project", "*.opam", "rebar.config", "gleam.toml", "DESCRIPTION", "meta/*.yml", "Podfile",
    "Podfile.lock", ".xcode-version", ".bun-version", ".dvmrc", "elm.json", "build.xml", "*.pro", "index.php", "SConstruct",
)  # fmt: skip
"""The files of `readers/one_version.toml`."""

ECOSYSTEMS: tuple[Ecosystem, ...] = (
    Ecosystem(
        "node",
        "node",
        {
            "package.json": "read_package",
            ".nvmrc": "read_version_file",
            ".node-version": "read_version_file",
            "deno.json": "read_deno",
            "deno.jsonc": "read_deno",
            **dict.fromkeys(_NODE_LOCKS, "read_lock"),
        },
        unread=frozenset(
            {"bun.lock", "bun.lockb", "npm-shrinkwrap.json", "package-lock.json", "pnpm-lock.yaml", "yarn.lock"}
        ),
    ),
    Ecosystem(
        "python",
        "python",
        {
            "pyproject.toml": "read_pyproject",
            ".python-version": "read_version_file",
            "setup.cfg": "read_setup_cfg",
            "setup.py": "read_setup_py",
            "Pipfile": "read_pipfile",
            "runtime.txt": "read_runtime",
            "uv.toml": "read_uv",
            "hatch.toml": "read_hatch",
            "pixi.toml": "read_pixi",
            "environment.yml": "read_conda",
            "environment.yaml": "read_conda",
            "requirements.txt": "read_presence",
            "manage.py": "read_presence",
        },
        unread=frozenset({"manage.py", "requirements.txt"}),
    ),
    Ecosystem(
        "php",
        "php",
        {
            "composer.json": "read_composer",
            ".php-version": "read_version_file",
        },
    ),
    Ecosystem(
        "maven",
        "java",
        {
            "pom.xml": "read_pom",
            "maven-wrapper.properties": "read_wrapper",
            ".java-version": "read_version_file",
        },
    ),
    Ecosystem(
        "gradle",
        "java",
        {
            "build.gradle": "read_build",
            "build.gradle.kts": "read_build",
            "settings.gradle": "read_settings_script",
            "settings.gradle.kts": "read_settings_script",
            "*.gradle": "read_script",
            "*.kts": "read_script",
            "gradle-wrapper.properties": "read_wrapper",
            "gradle-daemon-jvm.properties": "read_daemon",
            "libs.versions.toml": "read_catalog",
            "gradle.properties": "read_properties",
            "local.properties": "read_local",
        },
    ),
    Ecosystem(
        "dotnet",
        "dotnet",
        {
            "global.json": "read_global",
            "*.csproj": "read_project",
            "*.fsproj": "read_project",
            "*.vbproj": "read_project",
            "Directory.Build.props": "read_project",
            "dotnet-tools.json": "read_tools",
            "*.sln": "read_solution",
            "*.slnx": "read_slnx",
            "app.cs": "read_file_program",
            "apphost.cs": "read_file_program",
            "main.cs": "read_file_program",
        },
    ),
    Ecosystem(
        "cmake",
        "cmake",
        {
            "CMakeLists.txt": "read_cmake",
            "CMakePresets.json": "read_presets",
        },
    ),
    Ecosystem("meson", "meson", {"meson.build": "read_meson"}),
    Ecosystem(
        "autotools",
        "make",
        {
            **dict.fromkeys(("Makefile", "makefile", "GNUmakefile"), "read_makefile"),
            "configure.ac": "read_configure",
            "configure.in": "read_configure",
        },
    ),
    Ecosystem(
        "conan",
        "conan",
        {
            "conanfile.txt": "read_conan",
            "conanfile.py": "read_conan",
            "vcpkg.json": "read_vcpkg",
        },
    ),
    Ecosystem(
        "embedded",
        "esp-idf",
        {
            "idf_component.yml": "read_component",
            "dependencies.lock": "read_lock",
            "sdkconfig": "read_sdkconfig",
            "sdkconfig.defaults": "read_sdkconfig",
            "platformio.ini": "read_platformio",
        },
    ),
    Ecosystem(
        "rust",
        "rustc",
        {
            "Cargo.toml": "read_cargo",
            "Cargo.lock": "read_lock",
            ".cargo/*.toml": "read_config",
            "rust-toolchain.toml": "read_toolchain",
            "rust-toolchain": "read_toolchain",
        },
    ),
    Ecosystem(
        "golang",
        "go",
        {
            "go.mod": "read_mod",
            "go.work": "read_mod",
            ".go-version": "read_version_file",
        },
    ),
    Ecosystem(
        "ruby",
        "ruby",
        {
            "Gemfile": "read_gemfile",
            "gems.rb": "read_gemfile",
            "Gemfile.lock": "read_lock",
            "gems.locked": "read_lock",
            "*.gemspec": "read_gemspec",
            ".ruby-version": "read_version_file",
        },
    ),
    Ecosystem(
        "swift",
        "swift",
        {
            "Package.swift": "read_package",
            ".swift-version": "read_version_file",
        },
    ),
    Ecosystem(
        "elixir",
        "elixir",
        {
            "mix.exs": "read_mix",
        },
    ),
    Ecosystem(
        "dart",
        "dart",
        {
            "pubspec.yaml": "read_pubspec",
            "pubspec.lock": "read_lock",
            ".fvmrc": "read_fvm",
            "fvm_config.json": "read_fvm",
        },
    ),
    Ecosystem(
        "tool_versions",
        "",
        {
            ".tool-versions": "read_tool_versions",
            ".sdkmanrc": "read_sdkman",
            "mise.toml": "read_mise",
            ".mise.toml": "read_mise",
            "mise/*.toml": "read_mise",
        },
    ),
    Ecosystem("one_version", "", {**dict.fromkeys(_OF_ONE_VERSION, "read_one"), "Project.toml": "read_julia"}),
    Ecosystem(
        "pipelines",
        "",
        {
            ".github/workflows/*.yml": "read_workflow",
            ".github/workflows/*.yaml": "read_workflow",
            "action.yml": "read_action",
            "action.yaml": "read_action",
            ".gitlab-ci.yml": "read_gitlab",
            ".circleci/*.yml": "read_circleci",
            ".travis.yml": "read_travis",
            "azure-pipelines.yml": "read_azure",
            "bitbucket-pipelines.yml": "read_bitbucket",
        },
    ),
    Ecosystem(
        "containers",
        "",
        {
            "Dockerfile": "read_dockerfile",
            "Containerfile": "read_dockerfile",
            "*.dockerfile": "read_dockerfile",
            **dict.fromkeys(_COMPOSE, "read_compose"),
            "devcontainer.json": "read_devcontainer",
            ".devcontainer.json": "read_devcontainer",
        },
    ),
    Ecosystem(
        "readme",
        "",
        dict.fromkeys((f"{name}{ending}" for name in _README for ending in _TEXTS), "read_readme"),
    ),
)
"""In the order in which the files of one folder are read."""
