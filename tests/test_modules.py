"""What the modules of a page import, to the bottom, and what is wrong with them."""

from __future__ import annotations

from collections.abc import Mapping

import pytest

from dokimon.core.checks.assets import check_assets
from dokimon.core.checks.fetching import fetch
from dokimon.core.checks.modules import Import, fault_in_bundle, read_module
from dokimon.core.report.model import Check
from serving import served


@pytest.mark.parametrize(
    "text, at_once, later, exports",
    [
        ("import a from '/a.js'\nimport {b,\n c} from \"./b.js\"; import './c.css'", "/a.js ./b.js ./c.css", "", ""),
        ("export { x } from '../x.js'\nexport * from '/y.js'; export * as z from './z.js'", "../x.js /y.js ./z.js", "",
            "x z"),
        ("import vue from 'vue'\nconst s = `\nimport z from \"/z.js\"`", "vue", "", ""),
        ("const f = () => import('/late.js'); class A { b() { return import('./b.js') } }", "", "/late.js ./b.js", ""),
        ("Promise.all([import('/now.js')]).then(() => 1); await import('./x.js')", "/now.js ./x.js", "", ""),
        ("// import a from '/a.js'\n/* import b from '/b.js'\n*/import c from '/c.js'", "/c.js", "", ""),
        ("export const a = 1, b = 2; export function c() {} export class D {} export default 1; export { e as f }",
            "", "", "D a b c default f"),
    ],
)  # fmt: skip
def test_what_a_module_imports_and_exports(text: str, at_once: str, later: str, exports: str) -> None:
    module = read_module(text)
    assert [each.address for each in module.imports if not each.is_later] == at_once.split()
    assert [each.address for each in module.imports if each.is_later] == later.split()
    assert sorted(module.exports) == exports.split() and not module.is_open


def test_a_large_module_is_searched_for_the_forms_that_bundlers_write() -> None:
    module = read_module(
        "/* import e from 'e' */ import{a as b}from'./c.js';var d;export{d as tide,b as default};", is_own=False
    )
    assert module.imports == (Import("./c.js"),) and module.exports == {"tide", "default"} and not module.is_open
    assert read_module("export const { a, b } = c;\nexport default 1", is_own=False).is_open
    assert read_module("import c from '/c.js' /* open").imports == (Import("/c.js"),)
    found = read_module("/** a */ export function a() {}\nconst b = '**/*.js'; /* c */ export { b }", is_own=False)
    assert found.exports == {"a", "b"} and not found.is_open


@pytest.mark.parametrize(
    "text, says",
    [
        ('throw new Error("Module build failed (from ./loader.js):\\nSyntaxError: board.jsx: Unexpected token");',
            "Module build failed (from ./loader.js): SyntaxError"),
        ("var e = new Error(\"Cannot find module './board'\"); e.code = 'MODULE_NOT_FOUND'; throw e;", "module './board'"),
        ("var e = new Error(\"Cannot find module '\" + req + \"'\"); e.code = 'MODULE_NOT_FOUND';", None),
        ("console.log('Module build failed is what it says')", None),
    ],
)  # fmt: skip
def test_an_error_that_a_bundler_has_put_in_place_of_a_module(text: str, says: str | None) -> None:
    found = fault_in_bundle(text)
    assert says in found if found and says else found is says, found


PAGE = "<title>Tides</title><div id=app></div><script type=module src=/main.js></script>"
FAULT = '<html><script>const error = {"message":"Unexpected token\\n  board.vue:2:43","stack":""}</script></html>'
STYLE = 'const __vite__css = "body { background: url(/gone.png) }"\nexport default 1'


def checks_of(files: Mapping[str, tuple[int, str] | str], page: str = PAGE) -> list[Check]:
    """Serve the files to a page, and return what is made of it."""

    def answer(path: str, _: object) -> tuple[int, str, str]:
        found = files.get(path, page if path == "/" else (404, "no"))
        status, text = found if isinstance(found, tuple) else (200, found)
        return status, "text/html" if path == "/" or text.startswith("<html") else "text/javascript", text

    with served(answer) as origin:
        return check_assets(origin, fetch(origin, "/", seconds=5), 20)


@pytest.mark.parametrize(
    "files, verdict, says",
    [
        ({"/main.js": "import './a.js'", "/a.js": "import { b } from './b.js'", "/b.js": "export const b = 1"}, "passed",
            "3 of 3 load (1 script, 2 modules)"),
        ({"/main.js": "import './a.js'", "/a.js": "import './b.js'", "/b.js": "import './c.js'", "/c.js": (500, FAULT)},
            "failed", "status 500: Unexpected token board.vue:2:43; /b.js imports it"),
        ({"/main.js": "import { c } from './b.js'", "/b.js": "export const b = 1"}, "failed",
            "/main.js imports “c” of ./b.js, which does not export it"),
        ({"/main.js": "import b from './b.js'", "/b.js": "export const b = 1"}, "failed", "imports “default” of"),
        ({"/main.js": "import { c } from './b.js'", "/b.js": "export * from './c.js'", "/c.js": "export const c = 1"},
            "passed", ""),
        ({"/main.js": "import { d } from './b.js'", "/b.js": "export * from './c.js'", "/c.js": "export const c = 1"},
            "failed", "imports “d”"),
        ({"/main.js": "import { d } from './b.js'", "/b.js": "export * from 'https://elsewhere.invalid/c.js'"},
            "passed", ""),
        ({"/main.js": "import vue from 'vue'"}, "failed", "“vue”, which no import map explains"),
        ({"/main.js": "const later = () => import('./b.js')", "/b.js": (500, FAULT)}, "unsure", "which is loaded later"),
        ({"/main.js": "const later = () => import('vue')"}, "passed", ""),
        ({"/main.js": "import '/deps/a.js'", "/deps/a.js": "const s = `\nimport 'fs'`; export default 1"}, "passed", ""),
        ({"/main.js": "await import('./b.js')", "/b.js": (500, FAULT)}, "failed", "status 500"),
        ({"/main.js": "import './a.css'", "/a.css": STYLE}, "unsure", "status 404"),
        ({"/main.js": "import './b.js'", "/b.js": "<html><p>the page"}, "failed", "a page, not a module"),
    ],
)  # fmt: skip
def test_modules_are_loaded_to_the_bottom(files: dict[str, tuple[int, str] | str], verdict: str, says: str) -> None:
    checks = checks_of(files)
    assert checks[0].verdict == verdict and any(says in each.seen for each in checks), checks


def test_an_import_map_and_modules_in_the_page() -> None:
    page = '<script type=importmap>{"imports": {"tides": "/t.js", "lib/": "/lib/"}}</script>'
    page += "<script type=module>import 'tides'; import 'lib/a.js'</script><script>{ import('/late.js') }</script>"
    checks = checks_of({"/t.js": "1", "/lib/a.js": "1"}, page)
    assert [each.name for each in checks if each.verdict == "failed"] == ["parts", "module /late.js"], checks


@pytest.mark.parametrize(
    "text, line",
    [
        ("export const c = 1;\n", None),
        ("export const b = 1;\nexport const c = ;\n", 2),
        (
            "import { a } from './a.js';\nclass X { #p = 1; static { this.q ??= 1n; } async *[Symbol.iterator]() {} }\n",
            None,
        ),
        ("const a = <p>{b}</p>;\n", None),
    ],
)
def test_a_module_that_does_not_parse_is_told_with_its_line(text: str, line: int | None) -> None:
    assert read_module(text).broken_at == line
