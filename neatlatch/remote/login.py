"""``nlatch login``: somebody lets the command line act in their name, in their browser.

The authorization code grant (RFC 6749 §4.1) of a native application: PKCE (RFC 7636), and a
loopback redirect at a port that is free (RFC 8252 §7.3).
"""

from __future__ import annotations

import argparse
import base64
import hashlib
import secrets
import sys
import webbrowser
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx

from neatlatch.client.errors import CannotReach, DeskFailed, KeyRefused, error_of
from neatlatch.exit_codes import ExitCode

from . import log_ins, output, where
from .arguments import add_where
from .log_ins import LogIn

# As long as the desk waits for an answer.
_WAITS = 600.0
_PAGE = (
    "<!doctype html><meta charset=utf-8><title>Neat Latch</title>"
    "<p style='font: 16px system-ui; margin: 3em'>{says} You can close this page."
)


class _Return(HTTPServer):
    """Waits on a free port of the loopback interface for the browser to come back once."""

    def __init__(self, state: str) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.state, self.timeout = state, 1.0
        self.found: dict[str, str] | None = None

    @property
    def redirect_uri(self) -> str:
        """Where the browser is sent back to."""
        return f"http://127.0.0.1:{self.server_port}/login"


class _Handler(BaseHTTPRequestHandler):
    server: _Return
    # Seconds for a request to arrive: one that never does must not keep the browser's out.
    timeout = 5

    def do_GET(self) -> None:  # the name is the base class's
        """Take the answer, if it is the one that was asked for."""
        address = urlsplit(self.path)
        told = {name: values[0] for name, values in parse_qs(address.query).items()}
        ours = address.path == "/login" and secrets.compare_digest(
            told.get("state", "").encode(), self.server.state.encode()
        )
        says = "This is no answer to a log-in that waits."
        if ours:
            self.server.found = told
            says = "You are logged in." if "code" in told else "You refused."
        self.send_response(200 if ours else 400)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.send_header("Cache-Control", "no-store")
        self.send_header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
        self.end_headers()
        self.wfile.write(_PAGE.format(says=says).encode())

    def log_message(self, format: str, *args: Any) -> None:
        """Say nothing: the address holds the code."""


def _get(web: httpx.Client, url: str) -> Any:
    try:
        answer = web.get(url)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise CannotReach(f"{url} does not answer: {error}.") from error
    if not answer.is_success:
        raise error_of(answer.status_code, answer.headers, answer.content)
    try:
        return answer.json()
    except ValueError as error:
        raise DeskFailed(f"{url} is no desk of Neat Latch.", "Check --url.") from error


def _login(arguments: argparse.Namespace) -> int:
    settings = where.settings_of(arguments)
    with httpx.Client(verify=settings.tls(), timeout=30) as web:
        told = _get(web, f"{settings.url}/api/command-line")
        metadata = _get(web, told["metadata"])
        wanted = arguments.right or ["read", "test", "change", "put-secrets"]
        if unknown := sorted(set(wanted) - set(told["scopes"])):
            output.complain(
                f"there is no right {unknown[0]} for this; rights are {', '.join(told['scopes'])}."
            )
            return ExitCode.WRONG
        verifier, state = secrets.token_urlsafe(48), secrets.token_urlsafe(24)
        digest = hashlib.sha256(verifier.encode()).digest()
        with _Return(state) as back:
            question = {
                "response_type": "code",
                "client_id": told["client_id"],
                "redirect_uri": back.redirect_uri,
                "scope": " ".join(wanted),
                "state": state,
                "code_challenge": base64.urlsafe_b64encode(digest).rstrip(b"=").decode(),
                "code_challenge_method": "S256",
            }
            address = f"{metadata['authorization_endpoint']}?{urlencode(question)}"
            answer = _asked(back, address, arguments)
        if answer is None:
            output.complain("nobody answered in the browser.")
            return ExitCode.TIMED_OUT
        # RFC 9207 §2.4: the answer says which server it is of.
        if answer.get("iss") != metadata["issuer"]:
            raise DeskFailed("The answer is of another server.", "Log in again.")
        if "code" not in answer:
            raise KeyRefused("You did not allow it.", "Nothing was kept.")
        form = {
            "grant_type": "authorization_code",
            "code": answer["code"],
            "redirect_uri": question["redirect_uri"],
            "client_id": told["client_id"],
            "code_verifier": verifier,
        }
        try:
            given = web.post(metadata["token_endpoint"], data=form)
        except httpx.HTTPError as error:
            raise CannotReach(f"{metadata['token_endpoint']} does not answer: {error}.") from error
    empty = LogIn(
        "",
        "",
        0,
        told["client_id"],
        metadata["token_endpoint"],
        metadata["revocation_endpoint"],
        "",
    )
    log_in = log_ins.answered(given, empty)
    log_ins.keep(settings.url, log_in)
    output.say(f"You are logged in at {settings.url}, to {log_in.scope.replace(' ', ', ')}.")
    return ExitCode.DONE


def _asked(back: _Return, address: str, arguments: argparse.Namespace) -> dict[str, str] | None:
    """Send the person to their browser, and wait for the answer; ``None``: there was none."""
    opened = not arguments.no_browser and webbrowser.open(address)
    # On standard error: a program may read what this prints.
    says = "Your browser asks whether to allow this." if opened else "Open this in your browser:"
    print(f"{says}\n{address}", file=sys.stderr, flush=True)
    waited = 0.0
    while back.found is None and waited < _WAITS:
        back.handle_request()
        waited += float(back.timeout or 0)
    return back.found


def _logout(arguments: argparse.Namespace) -> int:
    settings = where.settings_of(arguments)
    log_in = log_ins.forget(settings.url)
    if log_in is None:
        output.say(f"You are not logged in at {settings.url}.")
        return ExitCode.DONE
    form = {"token": log_in.refresh_token, "client_id": log_in.client_id}
    try:
        with httpx.Client(verify=settings.tls(), timeout=30) as web:
            web.post(log_in.revocation_endpoint, data=form).raise_for_status()
    except httpx.HTTPError as error:
        raise CannotReach(
            f"It is forgotten here, and {settings.url} could not be told: {error}.",
            "It ends there by itself, or end it on your page “Your log-in”.",
        ) from error
    output.say(f"You are logged out at {settings.url}.")
    return ExitCode.DONE


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    one = parsers.add_parser(
        "login",
        help="log in at a desk, in your browser, so that commands act in your name",
        description="Log in at a desk, in your browser, so that commands act in your name, by "
        "what your role allows. It lasts for thirty days without use, and ends with your password, "
        "your role, or when you log out everywhere.",
    )
    add_where(one)
    one.add_argument(
        "--right",
        action="append",
        default=[],
        help="read, test, change, put-secrets, people or metrics; may be repeated (the first four)",
    )
    one.add_argument(
        "--no-browser", action="store_true", help="print the address in place of opening it"
    )
    one.set_defaults(run=_login)
    one = parsers.add_parser("logout", help="end what “login” began", description="Log out.")
    add_where(one)
    one.set_defaults(run=_logout)
