"""Real work at an application that numbers what it is given: made, seen and cleared away only as
far as answers show it.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from datetime import UTC, datetime
from http.server import ThreadingHTTPServer

import pytest

from neatlatch.core import diagnosis
from neatlatch.core.evidence import Rung, RungResult
from neatlatch.core.profiles import Operation, Probe
from neatlatch.core.schemes import API_KEY
from neatlatch.core.sending import Credentials
from neatlatch.wire.ladder import LadderRun
from neatlatch.wire.ladder_plan import Leftover, Plan
from neatlatch.wire.transport import Transport

from .test_ladder import HERE, NoTokens, Picky, called


class Reports(Picky):
    """An application that gives each report a number of its own."""

    kept: dict[str, str] = {}
    in_answer = True
    soft = False  # it says that it deleted, and does not

    def do_GET(self) -> None:
        number = self.path.removeprefix("/reports").strip("/")
        known = not number or number in self.kept
        self.answer(200 if known else 404, json.dumps(self.kept) if known else "")

    def do_POST(self) -> None:
        title = json.loads(self.rfile.read(int(self.headers["Content-Length"])))["title"]
        number = f"T-{204 + len(self.kept)}"
        self.kept[number] = title
        self.answer(201, json.dumps({"number": number}) if self.in_answer else "{}", number)

    def do_DELETE(self) -> None:
        number = self.path.rpartition("/")[2]
        known = number in self.kept
        if known and not self.soft:
            del self.kept[number]
        self.answer(204 if known and not self.soft else 404, "")

    def answer(self, status: int, content: str, number: str = "") -> None:
        self.send_response(status)
        if number:
            self.send_header("Location", f"/reports/{number}")
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content.encode())


@pytest.fixture
def reports() -> Iterator[tuple[type[Reports], str]]:
    handler = type("One", (Reports,), {"kept": {}})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield handler, f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


def work_of(base: str, **changes: str) -> list[Leftover | RungResult]:
    usual = {
        "make_method": "POST",
        "make_path": "/reports",
        "make_body": {"title": "{test}"},
        "look_path": "/reports",
        "clear_method": "DELETE",
        "clear_path": "/reports/{id}",
        "id_at": "/number",
    }
    probe = Probe(**{**usual, **changes})  # type: ignore[arg-type]
    listing = Operation("GET", "/reports", "", ())
    held = Credentials(
        API_KEY, {}, {"api_key": "k-1234567"}, {"placement": "header", "name": "X-Key"}
    )
    plan = Plan(
        API_KEY,
        "TEST-1",
        api_base=base,
        harmless=listing,
        operations=(listing,),
        probe=probe,
        held=held,
    )
    with Transport(HERE, trust="", goes_to=called(plan)) as transport:
        climb = LadderRun(
            plan, transport, NoTokens(), lambda: datetime.now(UTC), lambda: 0.0, lambda: "n"
        )
        return [
            event for event in climb.run() if isinstance(event, Leftover) or event.rung is Rung.WORK
        ]


def rung_of(events: list[Leftover | RungResult]) -> RungResult:
    last = events[-1]
    assert isinstance(last, RungResult)
    return last


@pytest.mark.parametrize("id_at", ["/number", "Location"])
@pytest.mark.parametrize("look", ["/reports", "/reports/{id}", ""])
def test_what_an_application_numbers_itself_is_cleared_away(
    reports: tuple[type[Reports], str], id_at: str, look: str
) -> None:
    application, base = reports
    rung = rung_of(work_of(base, id_at=id_at, look_path=look))
    seen = "" if look == "" else "saw it, "
    assert (rung.passed, rung.says) == (True, f"made TEST-1 (T-204), {seen}cleared it away")
    assert application.kept == {}


def test_a_clearing_that_finds_nothing_is_no_clearing(reports: tuple[type[Reports], str]) -> None:
    """F1: the ID was the application's, and the test's own mark was cleared: 404 for a thing never
    seen.
    """
    application, base = reports
    events = work_of(base, clear_path="/reports/{test}", id_at="", look_path="")
    rung = rung_of(events)
    assert (rung.passed, rung.failure.code if rung.failure else "") == (False, "left_behind")
    causes = diagnosis.diagnose(rung, (), API_KEY).causes
    assert [cause.says for cause in causes] == ["What the test made is left behind."]
    assert application.kept == {"T-204": "TEST-1"}
    last = events[-2]
    assert isinstance(last, Leftover)
    assert (last.status, last.piece.made, last.piece.gone) == (404, True, False)


def test_not_found_is_believed_of_what_is_seen_no_more(reports: tuple[type[Reports], str]) -> None:
    application, base = reports
    application.soft = True
    rung = rung_of(work_of(base))
    assert (rung.passed, rung.failure.code if rung.failure else "") == (False, "left_behind")
    # It goes by itself between the look and the clearing.
    gone = lambda self: (self.kept.clear(), self.answer(404, ""))  # noqa: E731
    application.do_DELETE = gone  # type: ignore[assignment,method-assign]
    rung = rung_of(work_of(base))
    assert rung.says == "made TEST-1 (T-205), saw it, it was gone before it was cleared away"


def test_an_answer_without_the_id_that_it_should_have(reports: tuple[type[Reports], str]) -> None:
    application, base = reports
    application.in_answer = False
    events = work_of(base)
    rung, last = rung_of(events), events[-2]
    assert (rung.passed, rung.failure.code if rung.failure else "") == (False, "no_id")
    assert isinstance(last, Leftover)
    assert (last.address, last.piece.made) == ("", True)
