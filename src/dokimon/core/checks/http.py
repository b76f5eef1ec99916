"""Asking a run over HTTP, and comparing the answer with what is expected of it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import urlencode

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import Request, Response, fetch
from dokimon.core.checks.html import SelectorFault, read, selector_problems
from dokimon.core.checks.measuring import Measure, Scalar, as_text, judge_value, shown, within
from dokimon.core.checks.spec import CheckSpec, Texts
from dokimon.core.checks.value_places import Place, PlaceFault, parsed, pointed, value_in
from dokimon.core.measures import any_size, seconds
from dokimon.core.report.model import Check, CheckVerdict, Grade
from dokimon.core.text import clean

if TYPE_CHECKING:
    from dokimon.core.checks.contents import Contents

PAGE_TITLE = "page title"
"""A fact that the root page always gives. No check can use it by accident: it is not a valid name in braces."""

PAGE_SECONDS = 60.0
"""A development server may compile for a while at the first request: that is time, not failure."""


class Http(CheckSpec, frozen=True, kw_only=True):
    """`get = "/"`, or `request = "POST /login"` with what is sent; then what must come back.

    `status` is a number, several, or a range (`"2xx"`, `"200-204"`); without it the answer is graded as a person would.
    `lands` is the path where redirects must lead (`follow = false` follows none), `type` the media type, `size` bounds in
    bytes, `slower` than `within` it must not be, nor the second answer than `again_within`. `holds` compares values of
    JSON by pointer, `answer_headers` fields; `take` keeps values for later checks: `{token}`. The rest is for pages.
    """

    kind_name: ClassVar[str] = "http"
    asks_server: ClassVar[bool] = True

    get: str | None = None
    request: str | None = None
    headers: dict[str, str] = {}
    body: str | None = None
    json: Any = None
    form: dict[str, str] = {}
    follow: bool = True
    status: int | str | list[int | str] | None = None
    lands: str | None = None
    type: str | None = None
    size: str | None = None
    within: str | None = None
    again_within: str | None = None
    answer_headers: dict[str, Scalar | Measure] = {}
    holds: dict[str, Scalar | Measure] = {}
    take: dict[str, Place] = {}
    title: str | None = None
    shows: Texts = []
    hides: Texts = []
    elements: dict[str, int | str | Measure] = {}
    assets: bool | None = None

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return " ".join(method_and_path(self))

    @property
    def alone(self) -> bool:
        """Whether asking changes something (RFC 9110 §9.2.1), or keeps values, so that no other may ask meanwhile."""
        return method_and_path(self)[0] not in ("GET", "HEAD", "OPTIONS") or bool(self.take)

    def problems(self) -> Iterator[tuple[str, str]]:
        """The request and the statuses have a form of their own."""
        try:
            method_and_path(self)
        except ValueError as wrong:
            yield "request", str(wrong)
        try:
            _ranges(self.status or 200)
        except ValueError as wrong:
            yield "status", str(wrong)

    def late_problems(self) -> Iterator[str]:
        """Elements are named by CSS selectors."""
        yield from selector_problems(self.elements)

    def gives(self) -> frozenset[str]:
        """The values that it takes from the answer."""
        return frozenset(self.take)

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return look_at(self, context)[1]


def method_and_path(spec: Http) -> tuple[str, str]:
    """Return the method and the path that a check asks with; raises `ValueError` for anything that is not a request."""
    return ("GET", spec.get or "/") if spec.request is None else _split_request(spec.request)


def _split_request(request: str) -> tuple[str, str]:
    method, _, path = request.partition(" ")
    if not method.isupper() or not path.startswith("/"):
        raise ValueError(f'"request" is a method and a path, such as "POST /login"; not "{request}"')
    return method, path


def look_at(spec: Http, context: CheckContext) -> tuple[Response | None, list[Check]]:
    """Ask the run, and compare what comes with what is wanted; what is not named is graded as usual.

    Return the answer, None where none came, and what was seen.
    """
    from dokimon.core.checks import contents

    if context.origin is None:
        seen = "the run has no address that could be asked"
        return None, [Check(name=spec.default_name, verdict="failed", expected="an answer", seen=seen)]
    question = _question(spec, context)
    name = f"{question.method} {question.path}"
    limit = seconds(spec.within) if spec.within else PAGE_SECONDS
    answer = fetch(
        context.origin, question, seconds=max(limit, 1.0) + 1.0 if spec.within else limit, cookies=context.cookies
    )
    if answer.status is None:
        expected, seen = _statuses(spec.status) if spec.status else "an answer", clean(answer.fault or "nothing")
        return None, [Check(name=name, verdict="failed", expected=expected, seen=seen, seconds=answer.seconds)]
    checks = [_check_status(name, spec, question.path, answer), *_check_answer(spec, question, answer, context)]
    checks += contents.check(context.origin, answer, _contents(spec, context), PAGE_SECONDS)
    checks += _taken(spec, answer, context)
    if any(each.verdict != "passed" for each in checks):
        context.told.extend(_words_of(answer))
    if spec.get == "/" and answer.is_page and 200 <= answer.status < 300:
        context.facts[context.name, PAGE_TITLE] = read(answer.text).title or ""
    as_expected = spec.status is not None or len(checks) > 1
    grade: Grade = "answers" if answer.status >= 400 or not 200 <= answer.status < 300 else "serves"
    if as_expected and all(each.verdict == "passed" for each in checks):
        grade = "serves what is expected"
    return answer, [msgspec.structs.replace(checks[0], grade=grade), *checks[1:]]


def _words_of(answer: Response) -> list[str]:
    """Return the lines of an answer that was not what it should be: it may say why the server failed."""
    text = read(answer.text).words if answer.is_page else answer.text
    return [clean(line, 400) for line in text[:_MOST_OF_ANSWER].splitlines() if line.strip()][:_MOST_LINES]


_MOST_OF_ANSWER, _MOST_LINES = 20_000, 60


def _question(spec: Http, context: CheckContext) -> Request:
    method, path = method_and_path(spec)
    headers = {name: context.filled(value) for name, value in spec.headers.items()}
    body = None
    if spec.json is not None:
        body = msgspec.json.encode(_filled_data(spec.json, context))
        headers.setdefault("Content-Type", "application/json")
    elif spec.form:
        body = urlencode({name: context.filled(value) for name, value in spec.form.items()}).encode()
        headers.setdefault("Content-Type", "application/x-www-form-urlencoded")
    elif spec.body is not None:
        body = context.filled(spec.body).encode()
    return Request(path=context.filled(path), method=method, headers=headers, body=body, follow=spec.follow)


def _filled_data(value: Any, context: CheckContext) -> Any:
    """Fill in the texts of plain data, so that a value can never change the shape of what is sent."""
    if isinstance(value, str):
        return context.filled(value)
    if isinstance(value, list):
        return [_filled_data(each, context) for each in value]
    return {key: _filled_data(each, context) for key, each in value.items()} if isinstance(value, dict) else value


def _contents(spec: Http, context: CheckContext) -> Contents:
    from dokimon.core.checks.contents import Contents

    return Contents(
        title=context.filled(spec.title) if spec.title is not None else None,
        shows=spec.shows, hides=spec.hides, elements=spec.elements, assets=spec.assets,
        graded=spec.status is None or any(status_is(number, spec.status) for number in range(200, 300)),
    )  # fmt: skip


def status_is(status: int, accepted: int | str | list[int | str]) -> bool:
    """Whether a status is one of those accepted: numbers, `2xx`, `200-204`; raises `ValueError`."""
    return any(low <= status <= high for low, high in _ranges(accepted))


def _ranges(accepted: int | str | list[int | str]) -> list[tuple[int, int]]:
    return [_range(each) for each in (accepted if isinstance(accepted, list) else [accepted])]


def _range(status: int | str) -> tuple[int, int]:
    text = str(status).strip()
    if text[1:].lower() == "xx" and text[0] in "12345":
        return int(text[0]) * 100, int(text[0]) * 100 + 99
    low, _, high = text.partition("-")
    if low.isdecimal() and (high.isdecimal() or not high) and 100 <= int(low) <= 599:
        return int(low), int(high or low)
    raise ValueError(f'"{status}" is not a status; write 200, "2xx" or "200-204"')


def _statuses(statuses: int | str | list[int | str]) -> str:
    return "status " + " or ".join(map(str, statuses if isinstance(statuses, list) else [statuses]))


def _check_status(name: str, spec: Http, path: str, answer: Response) -> Check:
    assert answer.status is not None
    size = f"{len(answer.body)} bytes" if answer.complete else f"more than {len(answer.body)} bytes"
    if answer.cut:
        size = f"{len(answer.body)} bytes so far: it was still coming after {answer.seconds:.0f} s"
    elif answer.odd:
        size = f"{len(answer.body)} bytes of it: {answer.odd}"
    seen = f"{answer.status}, {answer.type or 'no type'}, {size}"
    if answer.path != path:
        seen += f", at {answer.path}"
    if answer.elsewhere:
        seen += f", redirects to {answer.elsewhere}"
    if spec.status is not None:
        verdict: CheckVerdict = "passed" if status_is(answer.status, spec.status) else "failed"
        expected = _statuses(spec.status)
    else:
        verdict, remark = grade(answer, asked=path != "/")
        seen += remark + _what_it_says(answer)
        expected = "a success (status 200 to 299)"
    if answer.odd and verdict == "passed":
        verdict = "failed"
    if answer.cut and verdict == "passed":
        verdict = "unsure"
    return Check(name=name, verdict=verdict, expected=expected, seen=clean(seen), seconds=answer.seconds)


def grade(answer: Response, *, asked: bool = False) -> tuple[CheckVerdict, str]:
    """Grade an answer of which nothing is expected: success passes, a server error fails, the rest is unsure.

    An address that somebody wrote down (`asked`: any but the root page, which is looked at without a word) must be there.
    """
    status = answer.status or 0
    if status == _NO_CONTENT:
        return "passed", ""
    if 200 <= status < 300:
        return ("passed", "") if answer.body.strip() else ("unsure", ": it answers, but with nothing")
    if 300 <= status < 400:
        return "unsure", ": it answers, but only redirects"
    if status in (401, 403):
        return "unsure", ": it answers, but asks to sign in"
    if status == 404 and asked:
        return "failed", ": nothing is routed here"
    if status == 404:
        return "unsure", ": it answers, but nothing is routed here"
    if status < 500:
        return "unsure", ": it answers, but refuses the request"
    return "failed", ": the server itself says that it failed"


_NO_CONTENT = 204
"""RFC 9110 §15.3.5: a success that has nothing to say."""

_SHORT = 400


def _what_it_says(answer: Response) -> str:
    """Return the short text of an answer that is no success: it often names the cause."""
    if (answer.status or 0) < 400 or answer.is_page or not answer.body or len(answer.body) > _SHORT:
        return ""
    return f" (“{clean(answer.text, 120)}”)"


def _check_answer(spec: Http, question: Request, answer: Response, context: CheckContext) -> list[Check]:
    """Compare all but a page's content with what is wanted: where it leads, type, size, time, headers, values."""
    checks = []

    def add(name: str, holds: bool, expected: str, seen: str) -> None:
        checks.append(
            Check(name=name, verdict="passed" if holds else "failed", expected=clean(expected), seen=clean(seen))
        )

    if spec.lands is not None:
        lands = context.filled(spec.lands)
        add("lands", answer.path == lands, lands, answer.elsewhere or answer.path)
    if spec.type is not None:
        add("type", answer.type == spec.type.lower(), spec.type, answer.type or "no type")
    if spec.size is not None:
        add(
            "size",
            answer.complete and within(len(answer.body), spec.size, any_size),
            spec.size,
            f"{len(answer.body)} bytes",
        )
    if spec.within is not None:
        add("time", answer.seconds <= seconds(spec.within), f"within {spec.within}", f"{answer.seconds:.2f} s")
    if spec.again_within is not None and context.origin:
        again = fetch(context.origin, question, seconds=PAGE_SECONDS, cookies=context.cookies)
        seen = f"first {answer.seconds:.2f} s, again {again.seconds:.2f} s"
        fine = again.status is not None and again.seconds <= seconds(spec.again_within)
        add("time again", fine, f"within {spec.again_within}", again.fault or seen)
    for header, expected in spec.answer_headers.items():
        value = answer.headers.get(header.lower())
        checks.append(_judged(f"header {header}", value, expected, "no such header" if value is None else None))
    if spec.holds:
        checks += _check_values(spec, answer)
    return checks


def _check_values(spec: Http, answer: Response) -> list[Check]:
    try:
        data = parsed(answer.text, "json")
    except PlaceFault as fault:
        return [Check(name="values", verdict="failed", expected="JSON", seen=clean(str(fault)))]
    checks = []
    for pointer, expected in spec.holds.items():
        try:
            checks.append(_judged(pointer, pointed(data, pointer), expected, None))
        except PlaceFault as fault:
            checks.append(_judged(pointer, None, expected, str(fault)))
    return checks


def _judged(name: str, value: Any, expected: Scalar | Measure, fault: str | None) -> Check:
    measure = expected if isinstance(expected, Measure) else Measure(is_=expected)
    judged = judge_value(value, measure)
    verdict: CheckVerdict = "failed" if fault else judged.verdict
    seen = fault or shown(value) + (f", {judged.remark}" if judged.remark else "")
    return Check(name=clean(name, 120), verdict=verdict, expected=clean(judged.expected), seen=clean(seen))


def _taken(spec: Http, answer: Response, context: CheckContext) -> list[Check]:
    """Keep values of the answer for later checks; one that is not there is a failure."""
    checks = []
    for name, place in spec.take.items():
        try:
            value = value_in(place, answer.text, answer.headers)
        except (PlaceFault, SelectorFault) as fault:
            checks.append(
                Check(name=f"takes {name}", verdict="failed", expected=place.in_words, seen=clean(str(fault)))
            )
            continue
        context.facts[context.name, name] = value
        checks.append(
            Check(
                name=f"takes {name}",
                verdict="passed",
                expected=clean(place.in_words),
                seen=clean(f"{len(as_text(value))} characters"),
            )
        )
    return checks
