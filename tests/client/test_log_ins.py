"""What ``nlatch login`` keeps, and how it is renewed."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import httpx
import pytest

from neatlatch.client import KeyRefused
from neatlatch.remote import log_ins
from neatlatch.remote.log_ins import LoggedIn, LogIn

URL = "https://latch.example"


@pytest.fixture(autouse=True)
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    return tmp_path / "neatlatch"


def a_log_in(ends: float) -> LogIn:
    return LogIn("a0", "r0", ends, "nlatch", f"{URL}/token", f"{URL}/revoke", "read")


class TokenEndpoint:
    """Takes each refresh token once."""

    def __init__(self) -> None:
        self.number, self.lock = 0, threading.Lock()

    def __call__(self, request: httpx.Request) -> httpx.Response:
        with self.lock:
            if f"refresh_token=r{self.number}&" not in f"{request.content.decode()}&":
                return httpx.Response(400, json={"error": "invalid_grant"})
            self.number += 1
            time.sleep(0.05)  # long enough that the others come meanwhile
            told = {"access_token": f"a{self.number}", "refresh_token": f"r{self.number}"}
            return httpx.Response(200, json={**told, "expires_in": 900, "scope": "read"})


def test_many_commands_at_once_renew_it_once() -> None:
    log_ins.keep(URL, a_log_in(time.time() - 1))
    endpoint = TokenEndpoint()
    got: list[str] = []

    def run() -> None:
        web = httpx.Client(transport=httpx.MockTransport(endpoint))
        got.append(LoggedIn(URL, web).token())

    threads = [threading.Thread(target=run) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert got == ["a1"] * 8
    kept = log_ins.find(URL)
    assert kept is not None
    assert (kept.refresh_token, endpoint.number) == ("r1", 1)


def test_one_that_lasts_is_used_as_it_is(folder: Path) -> None:
    log_ins.keep(f"{URL}/", a_log_in(time.time() + 900))

    def nobody(_: httpx.Request) -> httpx.Response:
        raise AssertionError("nothing was to be asked")

    web = httpx.Client(transport=httpx.MockTransport(nobody))
    assert LoggedIn(URL, web).token() == "a0"
    file = folder / "logins.json"
    assert (file.stat().st_mode & 0o777, folder.stat().st_mode & 0o777) == (0o600, 0o700)
    assert "a0" not in repr(log_ins.find(URL))
    assert log_ins.only_url() == URL


def test_one_that_is_over_is_said_so() -> None:
    log_ins.keep(URL, a_log_in(0))
    refused = {"error": "invalid_grant", "error_description": "It has expired"}
    transport = httpx.MockTransport(lambda _: httpx.Response(400, json=refused))
    with pytest.raises(KeyRefused, match="It has expired"):
        LoggedIn(URL, httpx.Client(transport=transport)).token()
    forgotten = log_ins.forget(URL)
    assert forgotten is not None
    assert forgotten.refresh_token == "r0"
    assert log_ins.forget(URL) is None
    with pytest.raises(KeyRefused, match="not logged in"):
        LoggedIn(URL, httpx.Client(transport=transport)).token()


def test_a_file_that_cannot_be_read_is_said_so(folder: Path) -> None:
    folder.mkdir()
    (folder / "logins.json").write_text("{")
    with pytest.raises(KeyRefused, match="Remove it"):
        log_ins.find(URL)
    (folder / "logins.json").write_text('{"https://latch.example": {"old": 1}}')
    assert log_ins.find(URL) is None
