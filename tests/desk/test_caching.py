"""A list that is asked for again is told by its tag, and goes out small; nothing else does."""

from __future__ import annotations

import gzip
import json

import pytest
from django.test import Client as WebClient

from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.actors import NOBODY
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person

from .conftest import Setup


@pytest.fixture
def web(setup: Setup) -> WebClient:
    for number in range(12):
        setup.latched(name=f"cargo-{number}")
    return setup.web()


def test_the_same_list_is_told_in_a_word(web: WebClient) -> None:
    first = web.get("/api/connections")
    tag = first.headers["ETag"]
    again = web.get("/api/connections", headers={"If-None-Match": tag})
    assert (again.status_code, again.content, again.headers["ETag"]) == (304, b"", tag)
    assert again.headers["Cache-Control"] == first.headers["Cache-Control"] == "no-store"
    Connection.objects.filter(ref="sandbox/cargo-3").update(state="unlatched")
    other = web.get("/api/connections", headers={"If-None-Match": tag})
    assert other.status_code == 200
    assert other.headers["ETag"] != tag


def test_a_list_goes_out_compressed_where_that_is_taken(web: WebClient) -> None:
    plain = web.get("/api/connections")
    small = web.get("/api/connections", headers={"Accept-Encoding": "br, gzip;q=0.8"})
    assert small.headers["Content-Encoding"] == "gzip"
    assert "Accept-Encoding" in small.headers["Vary"]
    assert json.loads(gzip.decompress(small.content)) == plain.json()
    assert int(small.headers["Content-Length"]) == len(small.content) < len(plain.content) / 4
    for refused in ("gzip;q=0", "br", "", "gzip;q=0.000"):
        assert (
            "Content-Encoding"
            not in web.get("/api/connections", headers={"Accept-Encoding": refused}).headers
        )


@pytest.mark.parametrize("address", ["/inventory", "/exports/connections", "/journal"])
def test_exports_and_the_journal_go_out_compressed_too(web: WebClient, address: str) -> None:
    for number in range(20):
        write(NOBODY, "tried", "connection", f"cargo-{number}")
    answer = web.get(f"/api{address}", headers={"Accept-Encoding": "gzip"})
    assert answer.headers["Content-Encoding"] == "gzip"
    assert answer.headers["Cache-Control"] == "no-store"
    assert b"cargo-1" in gzip.decompress(answer.content)


@pytest.mark.parametrize(
    "address",
    [
        "/session",
        "/connections/sandbox/cargo-1",
        "/connections/sandbox/nothing",
        "/environments",
        "/revealing",
        "/owners",
    ],
)
def test_what_is_no_long_list_is_neither_compressed_nor_tagged_so(
    web: WebClient, address: str
) -> None:
    answer = web.get(f"/api{address}", headers={"Accept-Encoding": "gzip"})
    assert "Content-Encoding" not in answer.headers
    assert answer.headers["Cache-Control"] == "no-store"


def test_a_tag_lets_nobody_in(web: WebClient) -> None:
    tag = web.get("/api/connections").headers["ETag"]
    stranger = WebClient()
    assert stranger.get("/api/connections", headers={"If-None-Match": tag}).status_code == 401
    Person.objects.update(is_active=False)
    assert web.get("/api/connections", headers={"If-None-Match": tag}).status_code == 401
