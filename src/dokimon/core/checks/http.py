"""Asking a run over HTTP, and holding the answer against what is expected of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode

import msgspec

from dokimon.core.checks.fetching import Answer, Question, fetch
from dokimon.core.checks.html import SelectorFault, read
from dokimon.core.checks.measuring import Measure, Scalar, as_text, judge_value, shown, within
from dokimon.core.checks.places import Place, PlaceFault, parsed, pointed, value_in
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Texts, Wanted
from dokimon.core.measures import any_size, seconds
from dokimon.core.report.model import Check, CheckVerdict, Grade
from dokimon.core.text import clean

if TYPE_CHECKING:
    from dokimon.core.checks.contents import Contents

PAGE_TITLE = "page title"
"""The fact that the root page tells unasked: no word in braces, so that no text of a check is taken for it."""

PAGE_SECONDS = 60.0
"""A development server may compile for a while at the first request: that is time, not failure."""


class Http(Wanted, frozen=True, kw_only=True):
    """`get = "/"`, or `request = "POST /login"` with what is sent; then what must come back.

    `status` is a number, several, or a range (`"2xx"`, `"200-204"`); without it the answer is graded as a person would.
    `lands` is the path where redirects must lead (`follow = false` follows none), `type` the media type, `size` bounds in
    bytes, `slower` than `within` it must not be, nor the second answer than `again_within`. `holds` compares values of
    JSON by pointer, `answer_headers` fields; `take` keeps values for later checks: `{token}`. The rest is for pages.
    """

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


def method_and_path(wanted: Http) -> tuple[str, str]:
    """Return the method and the path that a check asks with; raises `ValueError` for what is no request."""
    if wanted.request is None:
        return "GET", wanted.get or "/"
    method, _, path = wanted.request.partition(" ")
    if not method.isupper() or not path.startswith("/"):
        raise ValueError(f'"request" is a method and a path, such as "POST /login"; not "{wanted.request}"')
    return method, path


def is_safe(wanted: Http) -> bool:
    """Whether asking changes nothing (RFC 9110 §9.2.1), so that others may ask meanwhile."""
    return method_and_path(wanted)[0] in ("GET", "HEAD", "OPTIONS") and not wanted.take


def title(wanted: Http) -> str:
    """Return what the check is called where nobody named it."""
    return " ".join(method_and_path(wanted))


def check(wanted: Http, scene: Scene) -> list[Check]:
    """Ask the run, and hold what comes against what is wanted; what is not named is graded as usual."""
    from dokimon.core.checks import contents

    if scene.origin is None:
        return [Check(title(wanted), "failed", "an answer", "the run has no address that could be asked")]
    question = _question(wanted, scene)
    name = f"{question.method} {question.path}"
    limit = seconds(wanted.within) if wanted.within else PAGE_SECONDS
    answer = fetch(
        scene.origin, question, seconds=max(limit, 1.0) + 1.0 if wanted.within else limit, cookies=scene.cookies
    )
    if answer.status is None:
        expected = _statuses(wanted.status) if wanted.status else "an answer"
        return [Check(name, "failed", expected, clean(answer.fault or "nothing"), answer.seconds)]
    checks = [_check_status(name, wanted, question.path, answer), *_check_answer(wanted, question, answer, scene)]
    checks += contents.check(scene.origin, answer, _contents(wanted, scene), PAGE_SECONDS)
    checks += _taken(wanted, answer, scene)
    if wanted.get == "/" and answer.is_page and 200 <= answer.status < 300:
        scene.facts[scene.name, PAGE_TITLE] = read(answer.body).title or ""
    as_expected = wanted.status is not None or len(checks) > 1
    grade: Grade = "answers" if answer.status >= 400 or not 200 <= answer.status < 300 else "serves"
    if as_expected and all(each.verdict == "passed" for each in checks):
        grade = "serves what is expected"
    return [msgspec.structs.replace(checks[0], grade=grade), *checks[1:]]


def _question(wanted: Http, scene: Scene) -> Question:
    method, path = method_and_path(wanted)
    headers = {name: scene.filled(value) for name, value in wanted.headers.items()}
    body = None
    if wanted.json is not None:
        body = scene.filled(msgspec.json.encode(wanted.json).decode()).encode()
        headers.setdefault("Content-Type", "application/json")
    elif wanted.form:
        body = urlencode({name: scene.filled(value) for name, value in wanted.form.items()}).encode()
        headers.setdefault("Content-Type", "application/x-www-form-urlencoded")
    elif wanted.body is not None:
        body = scene.filled(wanted.body).encode()
    return Question(scene.filled(path), method, headers, body, follow=wanted.follow)


def _contents(wanted: Http, scene: Scene) -> Contents:
    from dokimon.core.checks.contents import Contents

    return Contents(
        scene.filled(wanted.title) if wanted.title is not None else None,
        wanted.shows, wanted.hides, wanted.elements, wanted.assets,
        graded=wanted.status is None or any(status_is(number, wanted.status) for number in range(200, 300)),
    )  # fmt: skip


def status_is(status: int, wanted: int | str | list[int | str]) -> bool:
    """Whether a status is one of those that are wanted: numbers, `2xx`, `200-204`; raises `ValueError`."""
    for each in wanted if isinstance(wanted, list) else [wanted]:
        low, high = _range(each)
        if low <= status <= high:
            return True
    return False


def _range(status: int | str) -> tuple[int, int]:
    text = str(status).strip()
    if text[1:].lower() == "xx" and text[0] in "12345":
        return int(text[0]) * 100, int(text[0]) * 100 + 99
    low, _, high = text.partition("-")
    if low.isdigit() and (high.isdigit() or not high) and 100 <= int(low) <= 599:
        return int(low), int(high or low)
    raise ValueError(f'"{status}" is no status; write 200, "2xx" or "200-204"')


def _statuses(statuses: int | str | list[int | str]) -> str:
    return "status " + " or ".join(map(str, statuses if isinstance(statuses, list) else [statuses]))


def _check_status(name: str, wanted: Http, path: str, answer: Answer) -> Check:
    assert answer.status is not None
    size = f"{len(answer.body)} bytes" if answer.complete else f"more than {len(answer.body)} bytes"
    if answer.odd:
        size = f"{len(answer.body)} bytes of it: {answer.odd}"
    seen = f"{answer.status}, {answer.type or 'no type'}, {size}"
    if answer.path != path:
        seen += f", at {answer.path}"
    if answer.elsewhere:
        seen += f", sends on to {answer.elsewhere}"
    if wanted.status is not None:
        verdict: CheckVerdict = "passed" if status_is(answer.status, wanted.status) else "failed"
        expected = _statuses(wanted.status)
    else:
        verdict, remark = grade(answer)
        seen += remark
        expected = "a success (status 200 to 299)"
    if answer.odd and verdict == "passed":
        verdict = "failed"
    return Check(name, verdict, expected, clean(seen), answer.seconds)


def grade(answer: Answer) -> tuple[CheckVerdict, str]:
    """Grade an answer nobody described: a success passes, the run's own error fails, what is between is unsure."""
    status = answer.status or 0
    if 200 <= status < 300:
        return ("passed", "") if answer.body.strip() else ("unsure", ": it answers, but with nothing")
    if 300 <= status < 400:
        return "unsure", ": it answers, but only sends on to another place"
    if status in (401, 403):
        return "unsure", ": it answers, but lets nobody in without signing in"
    if status == 404:
        return "unsure", ": it answers, but nothing is routed here"
    if status < 500:
        return "unsure", ": it answers, but refuses the request"
    return "failed", ": the server itself says that it failed"


def _check_answer(wanted: Http, question: Question, answer: Answer, scene: Scene) -> list[Check]:
    """Hold what is no content of a page against what is wanted: where it leads, type, size, time, headers, values."""
    checks = []

    def add(name: str, holds: bool, expected: str, seen: str) -> None:
        checks.append(Check(name, "passed" if holds else "failed", clean(expected), clean(seen)))

    if wanted.lands is not None:
        lands = scene.filled(wanted.lands)
        add("lands", answer.path == lands, lands, answer.elsewhere or answer.path)
    if wanted.type is not None:
        add("type", answer.type == wanted.type.lower(), wanted.type, answer.type or "no type")
    if wanted.size is not None:
        add(
            "size",
            answer.complete and within(len(answer.body), wanted.size, any_size),
            wanted.size,
            f"{len(answer.body)} bytes",
        )
    if wanted.within is not None:
        add("time", answer.seconds <= seconds(wanted.within), f"within {wanted.within}", f"{answer.seconds:.2f} s")
    if wanted.again_within is not None and scene.origin:
        again = fetch(scene.origin, question, seconds=PAGE_SECONDS, cookies=scene.cookies)
        seen = f"first {answer.seconds:.2f} s, again {again.seconds:.2f} s"
        fine = again.status is not None and again.seconds <= seconds(wanted.again_within)
        add("time again", fine, f"within {wanted.again_within}", again.fault or seen)
    for header, expected in wanted.answer_headers.items():
        value = answer.headers.get(header.lower())
        checks.append(_judged(f"header {header}", value, expected, "no such header" if value is None else None))
    if wanted.holds:
        checks += _check_values(wanted, answer)
    return checks


def _check_values(wanted: Http, answer: Answer) -> list[Check]:
    try:
        data = parsed(answer.text, "json")
    except PlaceFault as fault:
        return [Check("values", "failed", "JSON", clean(str(fault)))]
    checks = []
    for pointer, expected in wanted.holds.items():
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
    return Check(clean(name, 120), verdict, clean(judged.expected), clean(seen))


def _taken(wanted: Http, answer: Answer, scene: Scene) -> list[Check]:
    """Keep values of the answer for later checks; one that is not there is a failure."""
    checks = []
    for name, place in wanted.take.items():
        try:
            value = value_in(place, answer.text, answer.headers)
        except (PlaceFault, SelectorFault) as fault:
            checks.append(Check(f"takes {name}", "failed", place.in_words, clean(str(fault))))
            continue
        scene.facts[scene.name, name] = value
        checks.append(
            Check(f"takes {name}", "passed", clean(place.in_words), clean(f"{len(as_text(value))} characters"))
        )
    return checks
