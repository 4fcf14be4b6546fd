"""An application's own plain screens: sign-in, consent, and the harbour office where clients are
kept.
"""

from __future__ import annotations

import secrets
import time
from html import escape
from typing import Any
from urllib.parse import parse_qsl, urlencode

from starlette.requests import Request
from starlette.responses import HTMLResponse, RedirectResponse, Response
from starlette.routing import Route

from .. import clock
from .about import JWT_GRANT
from .store import Store

_STYLE = (
    "body{font:17px/1.5 Georgia,serif;max-width:44rem;margin:2rem auto;padding:0 "
    "1rem;color:#222;background:#fff}"
    "h1{font-size:1.5rem;border-bottom:3px double "
    "#557}table{border-collapse:collapse}td,th{border:1px solid #99a;padding:.3rem .6rem;"
    "text-align:left;vertical-align:top}input,textarea,select,button{font:inherit}"
    "code{background:#eef}.no{color:#900}"
)


def page(title: str, body: str, status: int = 200) -> HTMLResponse:
    """A page in the harbour's own plain dress: nothing like Neat Latch, because carrying values
    between two screens is the job.
    """
    return HTMLResponse(
        f"<!doctype html><html lang=en><meta "
        f"charset=utf-8><title>{escape(title)}</title><style>{_STYLE}</style>"
        f"<h1>{escape(title)}</h1>{body}</html>",
        status,
        {
            "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'",
            "Referrer-Policy": "no-referrer",
        },
    )


class Screens:
    """The browser side of one environment."""

    def __init__(self, store: Store, issuer: str, root: str = "") -> None:
        self.store, self.issuer, self.about, self.root = store, issuer, store.about, root
        self.cookie = f"{store.about.key}_{store.environment}"
        self.sessions: dict[str, str] = {}
        self.asked: dict[str, dict[str, Any]] = {}

    @property
    def title(self) -> str:
        """What the office is called."""
        return "Harbour office" if self.about.key == "cargo" else f"{self.about.name}: office"

    def routes(self) -> list[Route]:
        """All pages."""
        return [
            Route("/authorize", self.authorize),
            Route("/choose", self.choose, methods=["POST"]),
            Route("/answer", self.answer, methods=["POST"]),
            Route("/office", self.office),
            Route("/office/enter", self.enter, methods=["POST"]),
            Route("/office/clients", self.add_client, methods=["POST"]),
            Route("/office/switch", self.switch, methods=["POST"]),
            Route("/office/{client_id}", self.client_page),
            Route("/office/{client_id}/{act}", self.act, methods=["POST"]),
        ]

    # Signing in (RFC 6749 §4.1.1, §4.1.2)

    async def authorize(self, request: Request) -> Response:
        """Check the request, then ask who it is.

        Nobody is sent to an address that is not registered (§4.1.2.1).
        """
        self.store.count("authorize")
        pairs = parse_qsl(request.url.query, keep_blank_values=True)
        given = dict(pairs)
        client = self.store.client(given.get("client_id"))
        if client is None:
            return page(
                "Sign-in cannot go on", "<p class=no>The client is not known here.</p>", 400
            )
        uri = given.get(
            "redirect_uri", client["redirect_uris"][0] if len(client["redirect_uris"]) == 1 else ""
        )
        if uri not in client["redirect_uris"]:
            return page(
                "Sign-in cannot go on",
                (
                    f"<p class=no>The redirect URI is not registered for "
                    f"{escape(client['client_name'])}.</p>"
                ),
                400,
            )

        def back(**values: str) -> Response:
            return self._back(uri, given.get("state", ""), **values)

        if len(given) != len(pairs):
            return back(error="invalid_request", error_description="A parameter stands twice")
        if self.about.switch and not self.store.data["switch"]:
            return back(
                error="unauthorized_client",
                error_description=f"The switch “{self.about.switch}” is off for the whole firm",
            )
        if given.get("response_type") != "code":
            return back(error="unsupported_response_type")
        if "authorization_code" not in client["grant_types"]:
            return back(
                error="unauthorized_client",
                error_description="authorization_code is not switched on for this client",
            )
        if not given.get("code_challenge") or given.get("code_challenge_method") != "S256":
            return back(error="invalid_request", error_description="PKCE with S256 is required")
        scope = given.get("scope") or client["scope"]
        if over := sorted(set(scope.split()) - set(client["scope"].split())):
            return back(
                error="invalid_scope",
                error_description=f"Not permitted for this client: {' '.join(over)}",
            )
        ticket = secrets.token_urlsafe(16)
        self.asked[ticket] = {
            "client_id": client["client_id"],
            "redirect_uri": uri,
            "asked_uri": given.get("redirect_uri"),
            "scope": scope,
            "state": given.get("state", ""),
            "challenge": given["code_challenge"],
            "at": clock.now(),
        }
        for old in [key for key, one in self.asked.items() if one["at"] < clock.now() - 900]:
            del self.asked[old]
        buttons = "".join(
            f"<p><button name=account value='{escape(mail)}'>{escape(name)} "
            f"&lt;{escape(mail)}&gt;</button></p>"
            for mail, name in self.about.accounts.items()
        )
        return page(
            f"{self.about.name}, {self.store.environment}: who are you?",
            f"<p>You are signed in to this computer with two accounts. Which one is to be "
            f"used for <b>{escape(client['client_name'])}</b>?</p>"
            f"<form method=post action={self.root}/choose><input type=hidden name=ticket "
            f"value='{ticket}'>{buttons}</form>",
        )

    def _back(self, uri: str, state: str, **values: str) -> Response:
        query = urlencode({**values, **({"state": state} if state else {}), "iss": self.issuer})
        return RedirectResponse(
            f"{uri}{'&' if '?' in uri else '?'}{query}",
            303,
            {"Referrer-Policy": "no-referrer", "Cache-Control": "no-store"},
        )

    async def choose(self, request: Request) -> Response:
        """An account was picked: an administrator's consent is checked, then the person's own is
        asked for.
        """
        form = await _form(request)
        asked = self.asked.get(form.get("ticket", ""))
        if asked is None or form.get("account") not in self.about.accounts:
            return page(
                "Sign-in cannot go on",
                "<p class=no>This sign-in has ended. Go back and start again.</p>",
                400,
            )
        client = self.store.client(asked["client_id"])
        assert client is not None
        wanted = set(asked["scope"].split())
        if without := sorted(wanted & self.about.admin_scopes - set(client["consents"])):
            return self._back(
                asked["redirect_uri"],
                asked["state"],
                error="access_denied",
                error_description=f"An administrator has not consented to {' '.join(without)}",
            )
        asked["account"] = form["account"]
        items = "".join(
            f"<li><code>{escape(part)}</code>: {escape(self.about.scopes[part])}</li>"
            for part in sorted(wanted)
        )
        return page(
            "Do you agree?",
            f"<p><b>{escape(client['client_name'])}</b> asks, for "
            f"{escape(form['account'])}, to be allowed to:</p><ul>{items}</ul>"
            f"<form method=post action={self.root}/answer><input type=hidden name=ticket "
            f"value='{escape(form['ticket'])}'>"
            "<button name=say value=yes>I agree</button> <button name=say "
            "value=no>No</button></form>",
        )

    async def answer(self, request: Request) -> Response:
        """Yes gives a code, no gives access_denied."""
        form = await _form(request)
        asked = self.asked.pop(form.get("ticket", ""), None)
        if asked is None or "account" not in asked:
            return page(
                "Sign-in cannot go on",
                "<p class=no>This sign-in has ended. Go back and start again.</p>",
                400,
            )
        if form.get("say") != "yes":
            return self._back(
                asked["redirect_uri"],
                asked["state"],
                error="access_denied",
                error_description="The person said no",
            )
        code = self.store.new_code(
            client_id=asked["client_id"],
            account=asked["account"],
            scope=asked["scope"],
            redirect_uri=asked["asked_uri"],
            challenge=asked["challenge"],
        )
        return self._back(asked["redirect_uri"], asked["state"], code=code)

    # The harbour office

    def _is_office(self, request: Request) -> bool:
        return self.sessions.get(request.cookies.get(self.cookie, "")) == self.about.office

    async def enter(self, request: Request) -> Response:
        """Enter the office. A simulation: no password is asked for."""
        key = secrets.token_urlsafe(16)
        self.sessions[key] = self.about.office
        answer = RedirectResponse(f"{self.root}/office", 303)
        answer.set_cookie(self.cookie, key, httponly=True, samesite="strict")
        return answer

    async def office(self, request: Request) -> Response:
        """The list of clients, and the form for a new one."""
        if not self._is_office(request):
            return page(
                self.title,
                (
                    f"<form method=post action={self.root}/office/enter><p>Only for "
                    f"{self.about.office}.</p><button>Enter</button></form>"
                ),
            )
        rows = "".join(
            f"<tr><td><a "
            f"href='{self.root}/office/{escape(key)}'>{escape(one['client_name'])}</a>"
            f"<td><code>{escape(key)}</code><td>{escape(one['scope'])}"
            for key, one in self.store.data["clients"].items()
        )
        boxes = "".join(
            f"<label><input type=checkbox name=scope value='{scope}'> {scope}</label><br>"
            for scope in self.about.scopes
        )
        usual = self.about.grants[:2]
        grants = "".join(
            f"<label><input type=checkbox name=grant "
            f"value='{grant}'{' checked' if grant in usual else ''}> {grant}</label><br>"
            for grant in self.about.grants
        )
        switch = ""
        if self.about.switch:
            state = "on" if self.store.data["switch"] else "off"
            switch = (
                f"<h2>For the whole firm</h2><form method=post "
                f"action={self.root}/office/switch><p>{escape(self.about.switch)}: "
                f"<b>{state}</b> "
                f"<button>Turn it {'off' if state == 'on' else 'on'}</button></p></form>"
            )
        certificate = ""
        if JWT_GRANT in self.about.grants:
            certificate = (
                "<p><label>Certificate, in PEM<br><textarea name=certificate cols=66 "
                "rows=6></textarea></label></p>"
            )
        methods = "".join(f"<option>{method}</option>" for method in self.about.methods)
        return page(
            f"{self.title}, {self.store.environment}",
            f"<table><tr><th>Programme<th>Client ID<th>May{rows}</table><h2>Add a "
            f"programme</h2><form method=post action={self.root}/office/clients>"
            f"<p><label>Name <input name=name required></label></p><p><label>Sends people "
            f"back to (one a line)<br>"
            f"<textarea name=uris cols=60 "
            f"rows=2></textarea></label></p><p>{boxes}</p><p>{grants}</p>"
            f"<p><label>Proves itself by <select "
            f"name=method>{methods}</select></label></p>{certificate}"
            f"<button>Add</button></form>{switch}",
        )

    async def add_client(self, request: Request) -> Response:
        """A client entered manually. Its secret is shown on this page and never again."""
        if not self._is_office(request):
            return RedirectResponse(f"{self.root}/office", 303)
        pairs = parse_qsl((await request.body()).decode(), keep_blank_values=True)
        form = dict(pairs)
        client, secret, _ = self.store.new_client(
            {
                "client_name": form.get("name", "").strip(),
                "contacts": [],
                "redirect_uris": form.get("uris", "").split(),
                "grant_types": [v for k, v in pairs if k == "grant"],
                "response_types": ["code"],
                "scope": " ".join(v for k, v in pairs if k == "scope"),
                "token_endpoint_auth_method": form.get("method", self.about.methods[0]),
            }
        )
        if form.get("certificate", "").strip():
            client["certificate"] = form["certificate"].replace("\r\n", "\n").strip() + "\n"
            self.store.save()
        return self._secret_page(client, client["secrets"][-1]["id"] if secret else "", secret)

    async def switch(self, request: Request) -> Response:
        """The firm-wide switch, on or off."""
        if self._is_office(request):
            self.store.data["switch"] = not self.store.data["switch"]
            self.store.save()
        return RedirectResponse(f"{self.root}/office", 303)

    def _secret_page(self, client: dict[str, Any], secret_id: str, value: str) -> Response:
        return page(
            "Write this down",
            f"<table><tr><th>Client ID<td><code>{client['client_id']}</code><tr><th>Secret "
            f"ID<td><code>{secret_id}</code>"
            f"<tr><th>Secret value<td><code>{escape(value)}</code></table><p>The value is "
            f"shown this once.</p>"
            f"<p><a href='{self.root}/office/{client['client_id']}'>I have it</a></p>",
        )

    async def client_page(self, request: Request) -> Response:
        """One client: its secrets, its consents, its addresses."""
        client = self.store.client(request.path_params["client_id"])
        if client is None or not self._is_office(request):
            return RedirectResponse(f"{self.root}/office", 303)
        own = f"{self.root}/office/{client['client_id']}"

        def button(act: str, what: str, value: str = "") -> str:
            return (
                f"<form method=post action='{own}/{act}'><input type=hidden name=value "
                f"value='{escape(value)}'><button>{what}</button></form>"
            )

        def day(at: float) -> str:
            return time.strftime("%d %b %Y", time.gmtime(at))

        live = "".join(
            f"<tr><td><code>{secret['id']}</code>"
            f"<td>…{escape(secret['hint'])}<td>{day(secret['ends'])}"
            f"<td>{button('retire', 'Retire', secret['id'])}"
            for secret in client["secrets"]
        )
        consents = "".join(
            f"<tr><td>{part}<td>"
            + (
                "agreed"
                if part in client["consents"]
                else button("consent", "Agree for everyone", part)
            )
            for part in sorted(set(client["scope"].split()) & self.about.admin_scopes)
        )
        uris = "\n".join(client["redirect_uris"])
        return page(
            client["client_name"] or "Programme",
            f"<p>Client ID <code>{client['client_id']}</code>, "
            f"{', '.join(client['grant_types'])}</p><h2>Secrets</h2><table>{live}</table>"
            f"{button('secret', 'Make another secret')}<h2>For an "
            f"administrator</h2><table>{consents}</table><h2>Addresses and rights</h2>"
            f"<form method=post action='{own}/change'><textarea name=uris cols=60 "
            f"rows=3>{escape(uris)}</textarea><br>"
            f"<input name=scope size=60 "
            f"value='{escape(client['scope'])}'><br><button>Change</button></form><p><a "
            f"href={self.root}/office>All programmes</a></p>",
        )

    async def act(self, request: Request) -> Response:
        """The buttons of a client's page."""
        client = self.store.client(request.path_params["client_id"])
        if client is None or not self._is_office(request):
            return RedirectResponse(f"{self.root}/office", 303)
        form = await _form(request)
        act, value = request.path_params["act"], form.get("value", "")
        if act == "secret":
            try:
                return self._secret_page(client, *self.store.new_secret(client))
            except ValueError as error:
                return page("Not possible", f"<p class=no>{escape(str(error))}</p>", 409)
        if act == "retire":
            client["secrets"] = [secret for secret in client["secrets"] if secret["id"] != value]
        elif act == "consent" and value in self.about.admin_scopes:
            client["consents"][value] = {"who": self.about.office, "when": int(clock.now())}
        elif act == "certificate":
            client["certificate"] = value.replace("\r\n", "\n").strip() + "\n"
        elif act == "change":
            client["redirect_uris"] = form.get("uris", "").split()
            client["scope"] = " ".join(
                part for part in form.get("scope", "").split() if part in self.about.scopes
            )
        self.store.save()
        return RedirectResponse(f"{self.root}/office/{client['client_id']}", 303)


async def _form(request: Request) -> dict[str, str]:
    return dict(
        parse_qsl((await request.body()).decode("utf-8", "replace"), keep_blank_values=True)
    )
