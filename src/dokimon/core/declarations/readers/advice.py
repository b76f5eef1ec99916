"""Advice: the versions that the checkout's own CI and container files name. They never fail by themselves."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import msgspec

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, service_need
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import matches
from dokimon.core.reading.yaml import Yaml, as_yaml
from dokimon.core.source import Source
from dokimon.core.versions.languages.node_version_file import NEWEST_LTS

_SETUPS = {
    "node-version": "node", "python-version": "python", "java-version": "java", "go-version": "go",
    "ruby-version": "ruby", "php-version": "php", "dotnet-version": "dotnet", "elixir-version": "elixir",
    "flutter-version": "flutter", "otp-version": "erlang", "bun-version": "bun", "deno-version": "deno",
    "zig-version": "zig", "julia-version": "julia", "cmake-version": "cmake", "gradle-version": "gradle",
    "maven-version": "maven", "r-version": "r", "swift-version": "swift", "terraform_version": "terraform",
    "ghc-version": "ghc", "npm-version": "npm", "uv-version": "uv", "poetry-version": "poetry", "pnpm-version": "pnpm",
}  # fmt: skip
"""The inputs that give the usual set-up steps a version."""

_BY_STEP = {
    "pnpm/action-setup": ("version", "pnpm"), "dtolnay/rust-toolchain": ("toolchain", "rustc"),
    "actions-rs/toolchain": ("toolchain", "rustc"), "actions-rust-lang/setup-rust-toolchain": ("toolchain", "rustc"),
    "dart-lang/setup-dart": ("sdk", "dart"), "astral-sh/setup-uv": ("version", "uv"),
    "hashicorp/setup-terraform": ("terraform_version", "terraform"), "jiro4989/setup-nim-action": ("nim-version", "nim"),
    "shivammathur/setup-php": ("php-version", "php"), "coursier/setup-action": ("jvm", "java"),
    "goto-bus-stop/setup-zig": ("version", "zig"), "mlugg/setup-zig": ("version", "zig"),
    "snok/install-poetry": ("version", "poetry"),
}  # fmt: skip
"""Steps whose input has another name: the action, its input, the tool."""

_IMAGES = {
    "node": "node", "python": "python", "golang": "go", "ruby": "ruby", "php": "php", "openjdk": "java",
    "eclipse-temurin": "java", "amazoncorretto": "java", "rust": "rustc", "ibm-semeru-runtimes": "java",
    "composer": "composer", "elixir": "elixir", "erlang": "erlang", "swift": "swift", "dart": "dart",
    "dotnet/sdk": "dotnet", "oven/bun": "bun", "denoland/deno": "deno", "perl": "perl", "haskell": "ghc", "julia": "julia",
    "r-base": "r", "gcc": "gcc", "hashicorp/terraform": "terraform", "cimg/node": "node", "cimg/python": "python",
    "cimg/go": "go", "cimg/ruby": "ruby", "cimg/openjdk": "java", "cimg/php": "php", "cimg/rust": "rustc",
    "devcontainers/python": "python", "devcontainers/javascript-node": "node", "devcontainers/typescript-node": "node",
    "devcontainers/java": "java", "devcontainers/go": "go", "devcontainers/rust": "rustc", "devcontainers/ruby": "ruby",
    "devcontainers/php": "php", "devcontainers/dotnet": "dotnet", "bitnami/node": "node", "azul/zulu-openjdk": "java",
}  # fmt: skip
"""Container images that bring a tool whose version their tag names."""

_TWO_IN_ONE = {"maven": "maven", "gradle": "gradle"}
"""Images that bring a build tool, and a JDK that the tag names too (`3.9-eclipse-temurin-17`)."""

_REGISTRIES = (
    "docker.io/",
    "mcr.microsoft.com/",
    "ghcr.io/",
    "quay.io/",
    "public.ecr.aws/docker/",
    "registry.hub.docker.com/",
)
_OFFICIAL = ("docker.io/library/", "library/", "public.ecr.aws/docker/library/")

_SERVICES = {
    "postgres": ("postgres", 5432), "postgis/postgis": ("postgres", 5432), "bitnami/postgresql": ("postgres", 5432),
    "timescale/timescaledb": ("postgres", 5432), "pgvector/pgvector": ("postgres", 5432),
    "mysql": ("mysql", 3306), "mariadb": ("mariadb", 3306), "redis": ("redis", 6379), "bitnami/redis": ("redis", 6379),
    "redis/redis-stack": ("redis", 6379), "valkey/valkey": ("valkey", 6379), "mongo": ("mongodb", 27017),
    "rabbitmq": ("rabbitmq", 5672), "memcached": ("memcached", 11211), "nginx": ("nginx", 80),
    "elasticsearch": ("elasticsearch", 9200), "elasticsearch/elasticsearch": ("elasticsearch", 9200),
    "opensearchproject/opensearch": ("opensearch", 9200), "minio/minio": ("minio", 9000), "nats": ("nats", 4222),
    "mailhog/mailhog": ("smtp", 1025), "axllent/mailpit": ("smtp", 1025), "kafka": ("kafka", 9092),
    "bitnami/kafka": ("kafka", 9092), "confluentinc/cp-kafka": ("kafka", 9092), "apache/kafka": ("kafka", 9092),
    "influxdb": ("influxdb", 8086), "clickhouse/clickhouse-server": ("clickhouse", 8123), "neo4j": ("neo4j", 7687),
    "cassandra": ("cassandra", 9042), "couchdb": ("couchdb", 5984), "mssql/server": ("sqlserver", 1433),
    "adminer": ("adminer", 8080), "consul": ("consul", 8500), "vault": ("vault", 8200),
}  # fmt: skip
"""Container images that are services: the product, and the port on which it listens."""


def advised(tool: str, versions: list[str], source: Source, why: str) -> list[Requirement]:
    """Return one piece of advice for all these versions together; what is no version is skipped."""
    component = "sdk" if tool == "dotnet" else None
    names = [version.strip().strip("\"'").removeprefix("v") for version in versions]
    if tool == "node":
        lts = {"lts/*": str(NEWEST_LTS), "latest": "*", "current": "*", "node": "*"}
        wanted = " || ".join(dict.fromkeys(lts.get(each.lower(), each) for each in names if each))
        language = "node-version-file" if re.fullmatch(r"lts/[\w*-]+", wanted) else "npm"
        need = requirement(tool, wanted, language, source, strength="advised", why=why) if wanted else None
        return [need] if need and not need.fault and wanted != "*" else []
    plain = [re.sub(r"\.[xX*]$|-(?:dev|beta|rc\d*)$", "", name) for name in names]
    if tool == "java":
        plain = [re.sub(r"^[a-z]+(?:[-@:]|-openjdk-)", "", re.sub(r"^1\.8$", "8", each)) for each in plain]
    if any(re.match(r"[\^~<>=]", each) for each in plain):
        text = " or ".join(each.replace(" ", ", ") for each in plain if each)
        need = requirement(
            tool, text, "npm" if "^" in text or "~" in text else "plain", source, strength="advised", why=why
        )
        return [] if need.fault else [need]
    numbers = [version for version in plain if re.fullmatch(r"\d+(\.\d+){0,3}", version)]
    if not numbers:
        return []
    text = " or ".join(dict.fromkeys(numbers))
    return [requirement(tool, text, "plain", source, strength="advised", why=why, component=component)]


def read_workflow(manifest: Manifest) -> list[Requirement]:
    """Read a GitHub workflow: the versions that its set-up steps get, its containers, and its services."""
    found: list[Requirement] = []
    root = as_yaml(manifest)
    jobs = root.get("jobs")
    general = _texts(root.get("env"))
    for _, job in jobs.items() if jobs else ():
        matrix = job.get("strategy", "matrix")
        known = {**general, **_texts(job.get("env"))}
        found += _container(job.get("container"), matrix, known, manifest)
        services = job.get("services")
        for _, service in services.items() if services else ():
            found += _service_of(service, known, manifest)
        steps = job.get("steps")
        for step in steps.each() if steps else ():
            found += _of_step(step, matrix, {**known, **_texts(step.get("env"))}, manifest)
    return found


def _texts(node: Yaml | None) -> dict[str, str]:
    return {name: value.text for name, value in node.items() if value.text} if node else {}


def _of_step(step: Yaml, matrix: Yaml | None, known: Mapping[str, str], manifest: Manifest) -> list[Requirement]:
    uses, inputs = step.get("uses"), step.get("with")
    action, _, reference = (uses.text or "" if uses else "").partition("@")
    setup, why = _BY_STEP.get(action), "the CI uses it"
    found: list[Requirement] = []
    for name, value in inputs.items() if inputs else ():
        tool = setup[1] if setup and name == setup[0] else _SETUPS.get(name)
        if tool and not (setup and name != setup[0] and setup[1] == tool):
            found += advised(tool, list(_versions(value, matrix, known)), manifest.source(value.line), why)
    if action == "dtolnay/rust-toolchain" and re.match(r"\d", reference) and uses:
        found += advised("rustc", [reference], manifest.source(uses.line), why)
    return found


def _versions(value: Yaml, matrix: Yaml | None, known: Mapping[str, str]) -> Iterator[str]:
    texts = [value.value_text] if value.text else [each.value_text for each in value.each()]
    for text in texts:
        named = re.fullmatch(r"\$\{\{\s*(matrix|env)\.([\w-]+)\s*\}\}", (text or "").strip())
        if named and named[1] == "env":
            yield from known.get(named[2], "").split("\n")
        elif named and matrix:
            yield from _of_matrix(matrix, named[2])
        elif "${{" not in (text or ""):
            yield from re.split(r"\n|,", text or "")


def _of_matrix(matrix: Yaml, name: str) -> Iterator[str]:
    excluded = set()
    excludes = matrix.get("exclude")
    for entry in excludes.each() if excludes else ():
        # Only an entry that names nothing else leaves a version out of every job.
        if [key for key, _ in entry.items()] == [name] and (one := entry.get(name)) and one.text:
            excluded.add(one.text)
    given = matrix.get(name)
    kept = (each for each in given.each() if each.text and each.text not in excluded) if given else ()
    yield from (each.value_text or "" for each in kept)
    includes = matrix.get("include")
    for entry in includes.each() if includes else ():
        listed = entry.get(name)
        if listed and listed.text:
            yield listed.value_text or ""


def _container(
    node: Yaml | None, matrix: Yaml | None, known: Mapping[str, str], manifest: Manifest
) -> list[Requirement]:
    image = _named_image(node)
    if image is None or not image.text:
        return []
    found: list[Requirement] = []
    named = re.search(r"\$\{\{\s*matrix\.([\w-]+)\s*\}\}", image.text)
    texts = [image.text]
    if named and matrix:
        texts = [image.text.replace(named[0], each) for each in _of_matrix(matrix, named[1])]
    for text in texts:
        found += of_image(_filled(text, known), manifest.source(image.line), "the CI runs in it")
    return found


def _named_image(node: Yaml | None) -> Yaml | None:
    """Return the image, which is named alone or below `image`."""
    if node is None or node.text:
        return node
    return node.get("image")


def _filled(text: str, known: Mapping[str, str]) -> str:
    text = re.sub(r"\$\{\{\s*env\.(\w+)\s*\}\}", lambda found: known.get(found[1], found[0]), text)

    def value(found: re.Match[str]) -> str:
        return known.get(found[1] or found[3], found[2] or found[0])

    return re.sub(r"\$\{(\w+)(?::?-([^}]*))?\}|\$(\w+)", value, text)


def read_gitlab(manifest: Manifest) -> list[Requirement]:
    """Read `image` of the whole pipeline and of each job, with the variables that they name, and the services."""
    root = as_yaml(manifest)
    found: list[Requirement] = []
    known = _texts(root.get("variables"))
    for _, value in [("", root), *root.items()]:
        mine = {**known, **_texts(value.get("variables"))}
        image = value.get("image")
        named = image and (image if image.text else image.get("name"))
        if named and named.text:
            found += of_image(_filled(named.text, mine), manifest.source(named.line), "the CI runs in it")
        services = value.get("services")
        for service in services.each() if services else ():
            one = service if service.text else service.get("name")
            if one and one.text:
                found += _service_need(_filled(one.text, mine), None, manifest.source(one.line), "the CI uses it")
    return found


def read_dockerfile(manifest: Manifest) -> list[Requirement]:
    """Read the images that a container file starts from, with its ARGs filled in."""
    found: list[Requirement] = []
    known: dict[str, str] = {}
    stages: set[str] = set()
    for match, line in matches(manifest, r"(?i)^\s*(ARG|FROM)\s+(.+?)\s*$"):
        words = [word for word in match[2].split() if not word.startswith("--")]
        if match[1].upper() == "ARG":
            name, _, value = match[2].partition("=")
            known[name.strip()] = value.strip().strip("\"'")
        elif words and words[0].lower() not in stages:
            found += of_image(_filled(words[0], known), manifest.source(line), "the container is built from it")
        if match[1].upper() == "FROM" and len(words) > 2 and words[1].lower() == "as":
            stages.add(words[2].lower())
    return found


def of_image(image: str, source: Source, why: str) -> list[Requirement]:
    """Return what a container image brings: the tool that its tag names a version of."""
    name, tag = _name_and_tag(image)
    if name in _TWO_IN_ONE:
        found = advised(_TWO_IN_ONE[name], [version[0]], source, why) if (version := _leading(tag)) else []
        jdk = re.search(r"(?:jdk|temurin|openjdk|corretto|zulu|jre|sapmachine|semeru)-?(?:[a-z]+-)?(\d+)", tag)
        return [*found, *(advised("java", [jdk[1]], source, why) if jdk else [])]
    tool, version = _IMAGES.get(name), _leading(tag.removeprefix("1-") if name.startswith("devcontainers/") else tag)
    return advised(tool, [version[0]], source, why) if tool and version else []


def _leading(tag: str) -> re.Match[str] | None:
    return re.match(r"\d+(?:\.\d+){0,2}", tag)


def _name_and_tag(image: str) -> tuple[str, str]:
    """Return the name of an image without the registry that everybody uses, and its tag. Others' images are others."""
    name, _, tag = image.partition("@")[0].rpartition(":")
    if not name or "/" in tag:
        name, tag = image.partition("@")[0], ""
    for official in _OFFICIAL:
        name = name.removeprefix(official)
    for registry in _REGISTRIES:
        name = name.removeprefix(registry)
    return name, tag


def read_compose(manifest: Manifest) -> list[Requirement]:
    """Read a compose file: the services that it would start are what the project talks to (compose-spec, "services").

    A service with a published port is looked for there; one that is built from the checkout is the project itself.
    """
    services = as_yaml(manifest).get("services")
    found: list[Requirement] = []
    for _, service in services.items() if services else ():
        if not service.get("build"):
            found += _service_of(service, {}, manifest)
    return found


def _service_of(service: Yaml, known: Mapping[str, str], manifest: Manifest) -> list[Requirement]:
    image = service if service.text else service.get("image")
    if image is None or not image.text:
        return []
    ports = service.get("ports")
    published = next((port for each in (ports.each() if ports else ()) if (port := _published(each))), None)
    text = _filled(image.text, known)
    found = _service_need(text, published, manifest.source(image.line), "the project's container files start it")
    return found or of_image(text, manifest.source(image.line), "the project's container files use it")


def _published(port: Yaml) -> int | None:
    """Return the port on this machine (`"5433:5432"`, `127.0.0.1:5433:5432`, the long form)."""
    long = port.get("published")
    text = (long.text if long else port.text) or ""
    text = re.sub(r"\$\{\w+:?-([^}]*)\}", r"\1", text)
    found = re.fullmatch(r"(?:\d+(?:\.\d+){3}:|\[[\d:a-f]+\]:)?(\d+)(?:-\d+)?(?::\d+(?:-\d+)?)?(?:/\w+)?", text)
    return int(found[1]) if found and int(found[1]) < 65536 else None


def _service_need(image: str, published: int | None, source: Source, why: str) -> list[Requirement]:
    name, tag = _name_and_tag(image)
    known = _SERVICES.get(name)
    if known is None:
        return []
    version = re.match(r"\d+(?:\.\d+){0,2}", tag)
    need = service_need(known[0], version[0] if version else None, "127.0.0.1", published or known[1], source)
    return [msgspec.structs.replace(need, strength="advised", why=why)]


_FEATURES = {"node": "node", "python": "python", "java": "java", "go": "go", "rust": "rustc", "ruby": "ruby", "php": "php",
    "dotnet": "dotnet", "terraform": "terraform", "deno": "deno", "bun": "bun"}  # fmt: skip


def read_devcontainer(manifest: Manifest) -> list[Requirement]:
    """Read the image and the features of a devcontainer.json (containers.dev, "Dev Container metadata reference")."""
    data = as_json(manifest, comments=True)
    found: list[Requirement] = []
    image = data.get("image")
    if isinstance(image, str):
        found += of_image(image, manifest.json_source("image"), "the development container has it")
    features = data.get("features")
    for name, options in features.items() if isinstance(features, dict) else ():
        tool = _FEATURES.get(name.partition("@")[0].rpartition("/")[2].partition(":")[0])
        version = options.get("version") if isinstance(options, dict) else options
        source = manifest.json_source("features", name)
        if tool and isinstance(version, str):
            found += advised(tool, [version], source, "the development container has it")
        elif tool:
            found.append(any_version(tool, source, "the development container has it", strength="advised"))
    return found
