"""Advice of pipelines: the versions that the checkout's own CI uses. They never fail by themselves."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from dokimon.core.declarations.readers.containers import service_of
from dokimon.core.declarations.readers.images import filled, names, of_image, of_images, of_service, of_versions
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.yaml import Yaml, as_yaml


def read_workflow(manifest: Manifest) -> list[Requirement]:
    """Read a GitHub workflow: the versions that its set-up steps get, its containers, and its services."""
    found: list[Requirement] = []
    root = as_yaml(manifest)
    jobs = root.get("jobs")
    general = {**_inputs(root), **_texts(root.get("env"))}
    for _, job in jobs.items() if jobs else ():
        matrix = job.get("strategy", "matrix")
        known = {**general, **_texts(job.get("env"))}
        found += _container(job.get("container"), matrix, known, manifest)
        services = job.get("services")
        for _, service in services.items() if services else ():
            found += service_of(service, known, manifest)
        steps = job.get("steps")
        for step in steps.each() if steps else ():
            found += _of_step(step, matrix, {**known, **_texts(step.get("env"))}, manifest)
    return found


def _inputs(root: Yaml) -> dict[str, str]:
    """Return the inputs of a workflow or an action that have a value of their own (`on` is true in YAML 1.1)."""
    found = {}
    triggers = [root.get("on"), root.get("true")]
    for inputs in (root.get("inputs"), *(each.get(kind, "inputs") for each in triggers if each for kind in _BY_HAND)):
        for name, given in inputs.items() if inputs else ():
            if (value := given.get("default")) and value.text:
                found[name] = value.text
    return found


_BY_HAND = ("workflow_dispatch", "workflow_call")


def read_action(manifest: Manifest) -> list[Requirement]:
    """Read an action of the checkout's own that is made of steps (docs.github.com, "Metadata syntax", composite)."""
    root = as_yaml(manifest)
    steps, known = root.get("runs", "steps"), _inputs(root)
    return [need for step in (steps.each() if steps else ()) for need in _of_step(step, None, known, manifest)]


def _texts(node: Yaml | None) -> dict[str, str]:
    return {name: value.text for name, value in node.items() if value.text} if node else {}


def _of_step(step: Yaml, matrix: Yaml | None, known: Mapping[str, str], manifest: Manifest) -> list[Requirement]:
    uses, inputs = step.get("uses"), step.get("with")
    action, _, reference = (uses.text or "" if uses else "").partition("@")
    setup, why = names()["steps"].get(action), "the CI uses it"
    found: list[Requirement] = []
    for name, value in inputs.items() if inputs else ():
        tool = setup[1] if setup and name == setup[0] else names()["inputs"].get(name)
        if tool and not (setup and name != setup[0] and setup[1] == tool):
            found += of_versions(tool, list(_versions(value, matrix, known)), manifest.source(value.line), why)
    if (tool := _BY_REFERENCE.get(action)) and re.match(r"v?\d+\.\d", reference) and uses:
        found += of_versions(tool, [reference], manifest.source(uses.line), why)
    return found


_BY_REFERENCE = {"dtolnay/rust-toolchain": "rustc", "lukka/get-cmake": "cmake"}
"""Steps whose own version is the tool's."""


def _versions(value: Yaml, matrix: Yaml | None, known: Mapping[str, str]) -> Iterator[str]:
    texts = [value.value_text] if value.text else [each.value_text for each in value.each()]
    for text in texts:
        named = _EXPRESSION.fullmatch((text or "").strip())
        if named and named[1] != "matrix":
            yield from known.get(named[2], "").split("\n")
        elif named and matrix:
            yield from _of_matrix(matrix, named[2])
        elif "${{" not in (text or ""):
            yield from re.split(r"\n|,", text or "")


_EXPRESSION = expression(
    r"\$\{\{\s*(matrix|env|inputs|github\.event\.inputs)\.([\w-]+(?:\.[\w-]+)?)\s*(?:\|\|[^}]*)?\}\}"
)


def _of_matrix(matrix: Yaml, name: str) -> Iterator[str]:
    name, _, inner = name.partition(".")
    if inner:
        rows = matrix.get(name)
        found = [each.get(inner) for each in rows.each()] if rows else []
        yield from (each.value_text or "" for each in found if each and each.text)
        return
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
    named = re.search(r"\$\{\{\s*matrix\.([\w-]+)\s*\}\}", image.text)
    texts = [image.text]
    if named and matrix:
        texts = [image.text.replace(named[0], each) for each in _of_matrix(matrix, named[1])]
    texts = [filled(re.sub(r"\$\{\{\s*env\.(\w+)\s*\}\}", r"${\1}", each), known) for each in texts]
    return of_images(texts, manifest.source(image.line), "the CI runs in it")


def _named_image(node: Yaml | None) -> Yaml | None:
    """Return the image, which is named alone or below `image`."""
    if node is None or node.text:
        return node
    return node.get("image")


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
            images = list(dict.fromkeys(filled(named.text, each) for each in _of_gitlab_matrix(value, mine)))
            found += of_images(images, manifest.source(named.line), "the CI runs in it")
        services = value.get("services")
        for service in services.each() if services else ():
            one = service if service.text else service.get("name")
            if one and one.text:
                found += of_service(filled(one.text, mine), None, manifest.source(one.line), "the CI uses it")
    return found


def _of_gitlab_matrix(job: Yaml, known: Mapping[str, str]) -> Iterator[dict[str, str]]:
    """Yield the variables of a job, once for each value of its `parallel: matrix`."""
    rows = job.get("parallel", "matrix")
    several = False
    for row in rows.each() if rows else ():
        for name, values in row.items():
            for value in values.each():
                several = True
                yield {**known, name: value.value_text or ""}
    if not several:
        yield dict(known)


def read_circleci(manifest: Manifest) -> list[Requirement]:
    """Read `.circleci/config.yml`: the first image of a job or executor runs it, the others are services."""
    root = as_yaml(manifest)
    found: list[Requirement] = []
    for table in ("jobs", "executors"):
        entries = root.get(table)
        for _, entry in entries.items() if entries else ():
            images = entry.get("docker")
            for index, each in enumerate(images.each() if images else ()):
                image = each.get("image")
                if image is None or not image.text or "<<" in image.text:
                    continue
                source = manifest.source(image.line)
                needs = of_service(image.text, None, source, "the CI uses it") if index else []
                found += needs or of_image(image.text, source, "the CI runs in it")
    return found


_TRAVIS = {"node_js": "node", "python": "python", "php": "php", "rvm": "ruby", "ruby": "ruby", "go": "go", "jdk": "java",
    "rust": "rustc", "elixir": "elixir", "otp_release": "erlang", "dotnet": "dotnet", "julia": "julia"}  # fmt: skip


def read_travis(manifest: Manifest) -> list[Requirement]:
    """Read `.travis.yml`: the key of a language lists its versions."""
    root = as_yaml(manifest)
    found: list[Requirement] = []
    for key, tool in _TRAVIS.items():
        given = root.get(key)
        if given is not None:
            values = [given.value_text] if given.text else [each.value_text for each in given.each()]
            found += of_versions(tool, [each for each in values if each], manifest.source(given.line), "the CI uses it")
    return found


_AZURE = {
    "NodeTool": ("versionSpec", "node"), "UseNode": ("version", "node"), "UsePythonVersion": ("versionSpec", "python"),
    "UseDotNet": ("version", "dotnet"), "GoTool": ("version", "go"), "UseRubyVersion": ("versionSpec", "ruby"),
    "JavaToolInstaller": ("versionSpec", "java"),
}  # fmt: skip


def read_azure(manifest: Manifest) -> list[Requirement]:
    """Read `azure-pipelines.yml`: the tasks that install a tool, wherever they stand."""
    root = as_yaml(manifest)
    known = _texts(root.get("variables"))
    found: list[Requirement] = []
    waiting, looked = [root], 0
    while waiting and looked < _MOST_NODES:
        node, looked = waiting.pop(0), looked + 1
        waiting += [*(value for _, value in node.items()), *node.each()]
        task, inputs = node.get("task"), node.get("inputs")
        name, tool = _AZURE.get((task.text or "").partition("@")[0] if task else "", ("", ""))
        value = inputs.get(name) if inputs and name else None
        if value and value.text and (version := filled(re.sub(r"\$\((\w+)\)", r"${\1}", value.text), known)):
            found += of_versions(tool, [version], manifest.source(value.line), "the CI uses it")
    return found


_MOST_NODES = 5000


def read_bitbucket(manifest: Manifest) -> list[Requirement]:
    """Read `bitbucket-pipelines.yml`: the image of all steps, and those of single ones."""
    found: list[Requirement] = []
    waiting, looked = [as_yaml(manifest)], 0
    while waiting and looked < _MOST_NODES:
        node, looked = waiting.pop(0), looked + 1
        image = node.get("image")
        named = image and (image if image.text else image.get("name"))
        if named and named.text:
            needs = of_image(named.text, manifest.source(named.line), "the CI runs in it")
            found += [need for need in needs if need not in found]
        waiting += [*(value for _, value in node.items()), *node.each()]
    return found
