"""Which package brought a program, and of which version: read from the metadata beside it, so that nothing is run."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.machine.debian_packages import upstream_version
from dokimon.core.machine.folders import matching, system_root
from dokimon.core.machine.go_binaries import module_of
from dokimon.core.text import clean

_LARGEST_SCRIPT = 20_000
_LARGEST_METADATA = 4_000_000
_MOST = 2000


class Brought(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """The package that brought a program: its name and version, the kind of package, and the file that says so."""

    package: str
    kind: str
    version: str | None = None
    file: str | None = None


def brought_by(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """Return the package of a program that PATH names as `path` and that is `real` behind its links; None where no
    metadata says so.
    """
    for way in _WAYS:
        if found := way(path, real, environment):
            return Brought(
                package=clean(found.package, 120),
                kind=found.kind,
                version=clean(found.version, 80) if found.version else None,
                file=found.file,
            )
    return None


_PACKAGE = expression(r"(.*/node_modules/)((?:@[^/]+/)?[^/.][^/]*)/(?!.*/node_modules/)")


def engines_of(real: Path) -> str | None:
    """Return on which Node.js a program runs that npm brought, as its package says (npm docs, "package.json: engines")."""
    found = _PACKAGE.match(str(real))
    engines = _json(Path(found[1] + found[2]) / "package.json").get("engines") if found else None
    wanted = engines.get("node") if isinstance(engines, dict) else None
    return clean(wanted, 200) if isinstance(wanted, str) else None


def _of_npm(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """npm, pnpm, Yarn and Bun keep a package in a folder of its name below `node_modules` (npm docs, "folders")."""
    places = [str(real), *_named_in_script(path)]
    for place in places:
        found = _PACKAGE.match(place)
        if found:
            manifest = Path(found[1] + found[2]) / "package.json"
            version = _json(manifest).get("version")
            if isinstance(version, str):
                return Brought(package=found[2], kind="npm", version=version, file=str(manifest))
    if path.parent.name == "bin" and path.parent.parent.name in (".volta", "volta"):
        data = _json(path.parent.parent / f"tools/user/bins/{path.name}.json")
        package, version = data.get("package"), data.get("version")
        if isinstance(package, str):
            return Brought(package=package, kind="npm", version=version if isinstance(version, str) else None)
    return None


def _named_in_script(path: Path) -> Iterator[str]:
    """Yield the files below `node_modules` that a small wrapper script starts, as pnpm writes them."""
    text = _script(path)
    for found in re.findall(r"[\"']?((?:\$basedir|/)[^\"'\s]*/node_modules/[^\"'\s]+)", text):
        resolved = found.replace("$basedir", str(path.parent))
        yield str(Path(resolved).resolve()) if "$" not in resolved else ""


def _of_python(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """A console script of an installed distribution (packaging.python.org, "Entry points specification")."""
    script = re.match(r"#!.*python", _script(real)) is not None
    name = re.escape(path.name)
    for root in dict.fromkeys((real.parent.parent, path.parent.parent)):
        folders = [each for written in _SITES for each in matching(root, written)]
        for points in (
            each for folder in folders if script for each in matching(folder, "*.*-info/entry_points.txt")[:_MOST]
        ):
            if re.search(rf"^{name}\s*=", text_of(points, _LARGEST_METADATA), re.MULTILINE):
                return _distribution(points.parent)
        # Scripts without an entry point, and compiled programs: these of environments alone, for a system has thousands.
        if script or (root / "pyvenv.cfg").is_file() or root.name == ".local":
            for record in (each for folder in folders for each in matching(folder, "*.dist-info/RECORD")[:_MOST]):
                if re.search(rf"(?:^|/)bin/{name},", text_of(record, _LARGEST_METADATA), re.MULTILINE):
                    return _distribution(record.parent)
    return None


_SITES = ("lib/python*/site-packages", "lib/python3/dist-packages", "local/lib/python*/dist-packages")


def _distribution(info: Path) -> Brought | None:
    metadata = info / "METADATA" if (info / "METADATA").is_file() else info / "PKG-INFO"
    text = text_of(metadata, _LARGEST_METADATA)
    name = re.search(r"^Name: (.+)$", text, re.MULTILINE)
    version = re.search(r"^Version: (.+)$", text, re.MULTILINE)
    if name is None:
        return None
    return Brought(package=name[1], kind="Python", version=version[1] if version else None, file=str(metadata))


def _of_gem(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """The program that RubyGems writes for a gem names it (rubygems/installer.rb, `app_script_text`)."""
    text = _script(real)
    named = re.search(r"activate_bin_path\(['\"]([\w.-]+)['\"]", text) or re.search(
        r"^gem ['\"]([\w.-]+)['\"]", text, re.M
    )
    if "ubygems" not in text or named is None:
        return None
    gem = named[1]
    homes = [path.parent.parent, real.parent.parent, *matching(system_root(environment), "var/lib/gems/*"),
        *matching(system_root(environment), "usr/share/rubygems-integration/*"),
        *matching(path.parent.parent, "lib/ruby/gems/*")]  # fmt: skip
    found = [spec for home in dict.fromkeys(homes) for spec in matching(home, f"specifications/{gem}-*.gemspec")]
    versions = [
        (match[1], spec)
        for spec in found
        if (match := re.fullmatch(rf"{re.escape(gem)}-(\d[\w.]*)\.gemspec", spec.name))
    ]
    if not versions:
        return Brought(package=gem, kind="gem")
    return Brought(package=gem, kind="gem", version=versions[0][0], file=str(versions[0][1]))


def _of_cargo(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """Cargo lists what it installed beside its `bin` (The Cargo Book, "cargo install", `.crates.toml`)."""
    listed = path.parent.parent / ".crates.toml"
    for name, version, programs in re.findall(
        r'^"([\w-]+) (\S+) \([^)]*\)" = \[([^\]]*)\]', text_of(listed, _LARGEST_METADATA), re.MULTILINE
    ):
        if f'"{path.name}"' in programs:
            return Brought(package=name, kind="crate", version=version, file=str(listed))
    return None


def _of_go(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """What Go built says of itself which module it is."""
    module = module_of(real)
    if module is None:
        return None
    return Brought(package=module[0], kind="Go module", version=module[1], file=str(real))


def _of_composer(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """A program of `vendor/bin` is a link or a small script that leads to its package (getcomposer.org, "bin")."""
    vendor = path.parent.parent
    if path.parent.name != "bin" or not (vendor / "composer/installed.json").is_file():
        return None
    inside = str(real).removeprefix(f"{vendor}/") if real.is_relative_to(vendor) and real.parent != path.parent else ""
    found = re.match(r"([\w.-]+/[\w.-]+)/", inside) or re.search(r"/\.\.'?\s*\.\s*'/([\w.-]+/[\w.-]+)/", _script(path))
    if found is None:
        return None
    installed = vendor / "composer/installed.json"
    packages = _json(installed).get("packages")
    for each in packages if isinstance(packages, list) else []:
        if isinstance(each, dict) and each.get("name") == found[1] and isinstance(each.get("version"), str):
            return Brought(
                package=found[1], kind="Composer", version=each["version"].removeprefix("v"), file=str(installed)
            )
    return Brought(package=found[1], kind="Composer")


def _of_dotnet(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """A global tool of .NET: its settings in the store beside it name the command (learn.microsoft.com, ".NET tools")."""
    for settings in matching(path.parent, ".store/*/*/*/*/tools/*/*/DotnetToolSettings.xml")[:_MOST]:
        if re.search(rf'Name="{re.escape(path.name)}"', text_of(settings)):
            name, version = settings.parts[-8], settings.parts[-7]
            return Brought(package=name, kind=".NET tool", version=version, file=str(settings))
    return None


_IN_PATHS = (
    (re.compile(r"/Cellar/([^/]+)/([^/]+)/"), "Homebrew"),
    (re.compile(r"/nix/store/[0-9a-z]{32}-([\w.+-]+?)-(\d[\w.+-]*)/"), "Nix"),
    (re.compile(r"/\.sdkman/candidates/([^/]+)/(\d[^/]*)/"), "SDKMAN!"),
    (re.compile(r"/conda(?:3)?/pkgs/([\w.+-]+?)-(\d[\w.]*)-"), "conda"),
)
"""Where packages lie in folders that are called after them."""


def _of_path(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    for pattern, kind in _IN_PATHS:
        if found := pattern.search(str(real)):
            return Brought(package=found[1], kind=kind, version=found[2])
    return None


def _of_dpkg(path: Path, real: Path, environment: Mapping[str, str]) -> Brought | None:
    """Debian's lists of files (dpkg-query(1), "--listfiles"), and the version that dpkg's status has of the package."""
    root = system_root(environment)
    lists = root / "var/lib/dpkg/info"
    if not lists.is_dir():
        return None
    names = {f"/{each.relative_to(root)}" for each in (path, real) if each.is_relative_to(root)}
    names |= {name.removeprefix("/usr") for name in names if name.startswith("/usr/")}  # /bin may be a link to /usr/bin
    lines = [f"\n{name}\n".encode() for name in names]
    for file in sorted(lists.glob("*.list")):
        try:
            text = b"\n" + file.read_bytes()
        except OSError:
            continue
        if any(line in text for line in lines):
            return Brought(
                package=file.stem.partition(":")[0], kind="Debian", version=_in_status(file.stem, root), file=str(file)
            )
    return None


def _in_status(package: str, root: Path) -> str | None:
    """Return the version of a package that is installed."""
    status = text_of(root / "var/lib/dpkg/status", 64_000_000)
    name = re.escape(package.partition(":")[0])
    found = re.search(rf"^Package: {name}\n(?:[^\n]+\n)*?Version: (\S+)", status, re.MULTILINE)
    return upstream_version(found[1]) if found else None


def _script(path: Path) -> str:
    """Return the text of a small script; nothing of a compiled program."""
    try:
        with path.open("rb") as file:
            if file.read(2) not in (b"#!", b"<?", b"@E", b"@e"):
                return ""
    except (OSError, ValueError):
        return ""
    return text_of(path, _LARGEST_SCRIPT)


def _json(path: Path) -> dict[str, object]:
    try:
        data = json.loads(text_of(path, _LARGEST_METADATA) or "{}")
    except (ValueError, RecursionError):
        return {}
    return data if isinstance(data, dict) else {}


_Way = Callable[[Path, Path, Mapping[str, str]], Brought | None]
_WAYS: tuple[_Way, ...] = (
    _of_npm, _of_python, _of_gem, _of_cargo, _of_composer, _of_dotnet, _of_path, _of_dpkg, _of_go,
)  # fmt: skip
