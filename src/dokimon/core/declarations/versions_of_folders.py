"""Version files: they choose the version of a tool for a folder and all below it, up to the next one."""

from __future__ import annotations

VERSION_FILES = frozenset({
    ".nvmrc", ".node-version", ".python-version", ".ruby-version", ".php-version", ".java-version", ".swift-version",
    ".go-version", ".tool-versions", ".sdkmanrc", "rust-toolchain", "rust-toolchain.toml", "global.json", "runtime.txt",
    ".fvmrc", "fvm_config.json", ".terraform-version", ".bazelversion", ".zigversion", ".perl-version", ".xcode-version",
    ".bun-version", ".dvmrc", "mise.toml", ".mise.toml",
})  # fmt: skip


def is_version_file(file: str) -> bool:
    """Whether a file, by its path, is a version file."""
    return file.rpartition("/")[2] in VERSION_FILES
