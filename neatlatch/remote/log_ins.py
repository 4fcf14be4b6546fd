"""What ``nlatch login`` got: kept in a file for its owner only, and renewed from there."""

from __future__ import annotations

import fcntl
import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import httpx

from neatlatch.client.errors import CannotReach, DeskFailed, KeyRefused

# Seconds before its end at which a token is renewed.
_MARGIN = 30


@dataclass(frozen=True)
class LogIn:
    """A log-in at one desk. Moments are seconds since 1970."""

    access_token: str = field(repr=False)
    refresh_token: str = field(repr=False)
    ends: float
    client_id: str
    token_endpoint: str
    revocation_endpoint: str
    # Rights that were granted.
    scope: str


def folder() -> Path:
    """Return where log-ins are kept (XDG Base Directory Specification 0.8)."""
    named = os.environ.get("XDG_CONFIG_HOME", "")
    base = Path(named) if os.path.isabs(named) else Path.home() / ".config"
    return base / "neatlatch"


def _file() -> Path:
    return folder() / "logins.json"


def _read() -> dict[str, Any]:
    try:
        found = json.loads(_file().read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        raise KeyRefused(
            f"{_file()} cannot be read.", "Remove it, and log in again: nlatch login."
        ) from error
    return found if isinstance(found, dict) else {}


def _write(all_of_them: dict[str, Any]) -> None:
    half = _file().with_suffix(".half")
    with os.fdopen(os.open(half, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as out:
        json.dump(all_of_them, out)
        out.flush()
        os.fsync(out.fileno())
    half.replace(_file())


@contextmanager
def _locked() -> Iterator[None]:
    """One process at a time: a refresh token serves once, and a second use ends the log-in."""
    folder().mkdir(mode=0o700, parents=True, exist_ok=True)
    with os.fdopen(os.open(folder() / "lock", os.O_WRONLY | os.O_CREAT, 0o600), "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def find(url: str) -> LogIn | None:
    """Return the log-in at a desk; ``None`` where there is none."""
    found = _read().get(url.rstrip("/"))
    try:
        return LogIn(**found) if found else None
    except TypeError:
        return None


def only_url() -> str:
    """Return the only desk that somebody is logged in at; empty where there is none, or several."""
    urls = list(_read())
    return urls[0] if len(urls) == 1 else ""


def keep(url: str, log_in: LogIn) -> None:
    """Keep a log-in in place of the one before."""
    with _locked():
        _write({**_read(), url.rstrip("/"): asdict(log_in)})


def forget(url: str) -> LogIn | None:
    """Forget a log-in, and return it."""
    with _locked():
        found, all_of_them = find(url), _read()
        if all_of_them.pop(url.rstrip("/"), None) is not None:
            _write(all_of_them)
        return found


def answered(answer: httpx.Response, log_in: LogIn) -> LogIn:
    """Return a log-in with what a token endpoint answered (RFC 6749 §5.1). Raises
    :class:`KeyRefused` where it refused (§5.2).
    """
    try:
        told = answer.json()
        if answer.status_code >= 400:
            says = told.get("error_description") or told.get("error") or answer.status_code
            raise KeyRefused(f"The log-in is over: {says}.", "Log in again: nlatch login.")
        return replace(
            log_in,
            access_token=told["access_token"],
            refresh_token=told.get("refresh_token", ""),
            ends=time.time() + float(told["expires_in"]),
            scope=told.get("scope", log_in.scope),
        )
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise DeskFailed("The token endpoint's answer cannot be read.") from error


class LoggedIn:
    """The tokens of a log-in, renewed as they end."""

    def __init__(self, url: str, web: httpx.Client) -> None:
        self._url, self._web = url, web

    def token(self) -> str:
        """Return a valid access token. Raises :class:`KeyRefused` where the log-in is over."""
        log_in = find(self._url)
        if log_in is None:
            raise KeyRefused("You are not logged in.", "Log in: nlatch login.")
        if log_in.ends - _MARGIN > time.time():
            return log_in.access_token
        with _locked():
            log_in = find(self._url) or log_in  # another process may have renewed it
            if log_in.ends - _MARGIN > time.time():
                return log_in.access_token
            renewed = answered(self._ask(log_in), log_in)
            _write({**_read(), self._url.rstrip("/"): asdict(renewed)})
            return renewed.access_token

    def _ask(self, log_in: LogIn) -> httpx.Response:
        form = {
            "grant_type": "refresh_token",
            "refresh_token": log_in.refresh_token,
            "client_id": log_in.client_id,
        }
        try:
            return self._web.post(log_in.token_endpoint, data=form)
        except httpx.HTTPError as error:
            raise CannotReach(f"{log_in.token_endpoint} does not answer: {error}.") from error
