"""One office: its administration screen, where keys are made and shown once, and its
API over TLS.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from html import escape
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Mount, Route

from .. import clock, small_ca
from ..house import House
from ..oauth.faults import Faults
from . import signed
from .proofs import Proof
from .shelf import ENVIRONMENTS, Shelf, form_of, page


@dataclass(frozen=True)
class Style:
    """What tells one office from another.

    ``kind`` is what is handed out: key, pair, token, password, oauth1 or certificate. ``roles``
    come in rising order, each allowing what those before it do; the methods each may call are in
    ``may``. ``second_code``: a code is asked for before a secret is shown. ``root``: a folder that
    is part of the API's address. ``life``: days until a key ends (0: never). ``calls``: it sends
    signed calls when something changes.
    """

    key: str
    name: str
    colour: str
    kind: str
    thing: str
    roles: tuple[str, ...]
    may: dict[str, tuple[str, ...]]
    wanted: tuple[str, ...] = ("title",)
    roles_word: str = "role"
    second_code: bool = False
    root: str = ""
    life: int = 180
    calls: bool = False
    scheme: dict[str, Any] = field(default_factory=dict)


class Office:
    """The screens and the API of an application, in all three environments."""

    def __init__(
        self, style: Style, folder: Path, proof: Proof, faults: Faults, house: House
    ) -> None:
        self.style, self.proof, self.faults, self.certificates, self.house = (
            style,
            proof,
            faults,
            folder / "certificates",
            house,
        )
        self.shelf = Shelf(folder / f"{style.key}.json")
        # The second code is on a slip in the office's own drawer: a simulation, so the page says
        # it.
        self.codes: dict[str, str] = {}
        self.caller = signed.Caller()

    # Screens (plain http, for a browser on this machine)

    def screens(self) -> list[Route]:
        """The list of keys, making one, and what can be done with one."""
        return [
            Route("/{env}", self.list_keys),
            Route("/{env}/make", self.make, methods=["POST"]),
            Route("/{env}/show", self.show, methods=["POST"]),
            *([Route("/{env}/calls", self.calls, methods=["POST"])] if self.style.calls else []),
            Route("/{env}/{key}/{act}", self.act, methods=["POST"]),
        ]

    def _drawer(self, request: Request) -> dict[str, Any]:
        found: dict[str, Any] = self.shelf.data[request.path_params["env"]]
        return found

    def _calls_of(self, request: Request) -> dict[str, Any]:
        """Where signed calls go, and what they are signed with."""
        found: dict[str, Any] = self._drawer(request).setdefault("signed_calls", {})
        return found

    def _page(self, request: Request, body: str, status: int = 200) -> Response:
        return page(
            f"{self.style.name} administration, {request.path_params['env']}",
            self.style.colour,
            body,
            status,
        )

    async def list_keys(self, request: Request) -> Response:
        """What was handed out, and the form for more."""
        env, style = request.path_params["env"], self.style
        if env not in ENVIRONMENTS:
            return page(
                "Nothing here", style.colour, "<p class=no>There is no such environment.</p>", 404
            )
        rows = ""
        for name, one in self._drawer(request)["keys"].items():
            choices = "".join(
                f"<option{' selected' if one['role'] == role else ''}>{role}"
                for role in style.roles
            )
            ends = time.strftime("%d %b %Y", time.gmtime(one["ends"])) if one["ends"] else "never"
            rows += (
                f"<tr><td>{escape(one['name'])}<td><code>{escape(name)}</code>"
                f"<td>{escape(one['account'])}<td>"
                f"<form method=post action='/{env}/{escape(name)}/role'><select "
                f"name=role>{choices}</select><button>Set</button></form>"
                f"<td>{ends}<td><form method=post "
                f"action='/{env}/{escape(name)}/end'><button>Withdraw</button></form>"
            )
        accounts = "".join(
            f"<option>{name}" for name in (f"svc-{style.key}", "r.oake (Rowan Oake)")
        )
        roles = "".join(f"<option>{role}" for role in style.roles)
        upload = (
            "<p>Certificate in PEM, or leave it empty and we issue one:<br><textarea "
            "name=certificate rows=6 cols=66></textarea></p><p>Good for <input name=days "
            "size=4> days</p>"
            if style.kind == "certificate"
            else ""
        )
        return self._page(
            request,
            f"<table><tr><th>For<th>ID<th>Account<th>{style.roles_word.capitalize()}<th>Ends<th>"
            f"{rows}</table><h2>Hand out a {style.kind}</h2>"
            f"<form method=post action='/{env}/make'><p>For <input name=name required "
            f"size=40></p><p>Account <select name=account>{accounts}</select></p>"
            f"<p>{style.roles_word.capitalize()} <select "
            f"name=role>{roles}</select></p>{upload}<button>Make</button></form>"
            + (signed.section(env, self._calls_of(request)) if style.calls else ""),
        )

    async def calls(self, request: Request) -> Response:
        """Say where calls go, or have a secret made that signs them."""
        env = request.path_params["env"]
        made = signed.change(self._calls_of(request), await form_of(request))
        self.shelf.save()
        if not made:
            return RedirectResponse(f"/{env}", 303)
        return self._page(
            request,
            f"<p>Write this down. It is shown this once.</p><table><tr><th>Signing secret<td>"
            f"<code>{made}</code></table><p><a href='/{env}'>Done</a></p>",
        )

    async def make(self, request: Request) -> Response:
        """Make one. Its secret is shown on the next page and never again."""
        form, drawer, style = await form_of(request), self._drawer(request), self.style
        now = clock.now()
        account = form.get("account", "").split(" ")[0]
        record = {
            "name": form.get("name", "").strip(),
            "account": account,
            "role": form.get("role", style.roles[0]),
            "made": now,
            "ends": now + style.life * 86400 if style.life else 0,
            "secret": secrets.token_urlsafe(30),
        }
        if record["role"] not in style.roles:
            return self._page(request, "<p class=no>No such role.</p>", 400)
        name = f"{style.key[:3]}-{secrets.token_hex(4)}"
        if style.kind == "password":
            number = 1
            name = account
            while name in drawer["keys"]:
                number += 1
                name = f"{account}-{number}"
        elif style.kind == "oauth1":
            record |= {
                "client_key": f"ck-{secrets.token_hex(5)}",
                "client_secret": secrets.token_urlsafe(24),
            }
        elif style.kind == "certificate":
            if not form.get("certificate", "").strip():
                chain, private = small_ca.issue_client(
                    self.certificates, str(record["name"]), int(form.get("days") or style.life)
                )
                form["certificate"], record["issued"] = chain, chain + private
            try:
                read = x509.load_pem_x509_certificate(
                    form.get("certificate", "").replace("\r\n", "\n").encode()
                )
            except ValueError:
                return self._page(request, "<p class=no>That is not a certificate in PEM.</p>", 400)
            name = read.fingerprint(hashes.SHA256()).hex()
            record["ends"] = read.not_valid_after_utc.timestamp()
        issued = record.pop("issued", "")
        drawer["keys"][name] = record
        self.shelf.save()
        if issued:
            return self._page(
                request,
                f"<p>Keep this: certificate, chain and private key. It is shown this "
                f"once.</p><p>Thumbprint <code>{name}</code></p>"
                f"<p><textarea id=issued rows=24 cols=70 "
                f"readonly>{issued}</textarea></p><p><a "
                f"href='/{request.path_params['env']}'>Done</a></p>",
            )
        if style.second_code:
            self.codes[name] = f"{secrets.randbelow(10**6):06d}"
            return self._page(
                request,
                f"<p>Made: <code>{name}</code>. Before its secret is shown, the code on "
                f"your slip is wanted.</p>"
                f"<p>(A simulation: the slip says <b "
                f"id=slip>{self.codes[name]}</b>.)</p><form method=post "
                f"action='/{request.path_params['env']}/show'>"
                f"<input type=hidden name=key value='{name}'><p>Code <input name=code "
                f"autocomplete=off></p><button>Show it</button></form>",
            )
        return self._shown(request, name, record)

    async def show(self, request: Request) -> Response:
        """The secret, after the second code."""
        form = await form_of(request)
        name = form.get("key", "")
        record = self._drawer(request)["keys"].get(name)
        if record is None or not secrets.compare_digest(
            self.codes.pop(name, "no code"), form.get("code", "")
        ):
            return self._page(
                request,
                (
                    "<p class=no>The code is wrong, and used up. Withdraw the key and make "
                    "another.</p>"
                ),
                403,
            )
        return self._shown(request, name, record)

    def _shown(self, request: Request, name: str, record: dict[str, Any]) -> Response:
        rows = {
            "key": [("Key ID", name), ("API key", record["secret"])],
            "pair": [("Key ID", name), ("Key secret", record["secret"])],
            "token": [("Token ID", name), ("Token", record["secret"])],
            "password": [("User name", name), ("Password", record["secret"])],
            "certificate": [("Thumbprint", name)],
            "oauth1": [
                ("Client key", record.get("client_key", "")),
                ("Client secret", record.get("client_secret", "")),
                ("Token", name),
                ("Token secret", record["secret"]),
            ],
        }[self.style.kind]
        table = "".join(f"<tr><th>{label}<td><code>{escape(value)}</code>" for label, value in rows)
        return self._page(
            request,
            (
                f"<p>Write this down. It is shown this once.</p><table>{table}</table><p><a "
                f"href='/{request.path_params['env']}'>Done</a></p>"
            ),
        )

    async def act(self, request: Request) -> Response:
        """Set a role, withdraw."""
        drawer, name = self._drawer(request), request.path_params["key"]
        form = await form_of(request)
        if name in drawer["keys"] and request.path_params["act"] == "end":
            del drawer["keys"][name]
        elif name in drawer["keys"] and form.get("role") in self.style.roles:
            record = drawer["keys"][name]
            if self.style.kind == "oauth1":
                # The permission belongs to the program: a token keeps the one it was made under.
                record.setdefault("token_role", record["role"])
            record["role"] = form["role"]
        self.shelf.save()
        return RedirectResponse(f"/{request.path_params['env']}", 303)

    # API (over TLS)

    def api(self) -> Mount:
        """The operations, below environment and root folder."""
        path = f"/{{env}}{self.style.root}"
        return Mount(
            "/",
            routes=[
                Route(f"{path}/openapi.json", self.description),
                Route(f"{path}/{self.style.thing}", self._guarded(self.list_things)),
                Route(
                    f"{path}/{self.style.thing}/{{number}}",
                    self._guarded(self.put_thing),
                    methods=["PUT"],
                ),
                Route(
                    f"{path}/{self.style.thing}/{{number}}",
                    self._guarded(self.delete_thing),
                    methods=["DELETE"],
                ),
            ],
        )

    def _guarded(
        self, handler: Callable[[Request, dict[str, Any]], Awaitable[Response]]
    ) -> Callable[[Request], Awaitable[Response]]:
        async def run(request: Request) -> Response:
            if request.path_params["env"] not in ENVIRONMENTS:
                return JSONResponse({"error": "not found"}, 404)
            instead, _ = await self.faults.before("api")
            if instead is not None:
                return instead
            drawer, body = self._drawer(request), (await request.body()).decode("utf-8", "replace")
            shown = self.proof(request, drawer["keys"], body)
            if isinstance(shown, Response):
                # Not one of its own: perhaps a certificate of the firm's authority, whose account
                # it was told.
                der = request.scope.get("extensions", {}).get("client_certificate_der")
                role_of = (
                    await self.house.role(self.style.key, request.path_params["env"], der)
                    if der is not None
                    else None
                )
                if role_of is None:
                    return shown
                shown = {"role": role_of}
            role = shown.get("token_role", shown["role"])
            allowed = {
                one
                for some in self.style.roles[: self.style.roles.index(role) + 1]
                for one in self.style.may[some]
            }
            if request.method not in allowed:
                return JSONResponse(
                    {
                        "error": "forbidden",
                        "says": f"The {self.style.roles_word} {role} may not do this",
                    },
                    403,
                )
            return await handler(request, drawer)

        return run

    async def list_things(self, request: Request, drawer: dict[str, Any]) -> Response:
        """All of them."""
        return JSONResponse({self.style.thing: list(drawer["things"].values())})

    async def put_thing(self, request: Request, drawer: dict[str, Any]) -> Response:
        """Enter or change one."""
        try:
            given = await request.json()
        except ValueError:
            return JSONResponse({"error": "The body is not JSON"}, 400)
        sent = given if isinstance(given, dict) else {}
        if lacking := [text for text in self.style.wanted if not sent.get(text)]:
            return JSONResponse({"error": f"wanted: {', '.join(lacking)}"}, 422)
        number = request.path_params["number"]
        drawer["things"][number] = {
            "number": number,
            **{text: str(given[text]) for text in self.style.wanted},
        }
        self.shelf.save()
        what = f"{self.style.thing}.changed"
        self.caller.tell(self._calls_of(request), what, drawer["things"][number])
        return JSONResponse(drawer["things"][number], 201)

    async def delete_thing(self, request: Request, drawer: dict[str, Any]) -> Response:
        """Take one away."""
        drawer["things"].pop(request.path_params["number"], None)
        self.shelf.save()
        return Response(status_code=204)

    async def description(self, request: Request) -> Response:
        """The OpenAPI description; roles stand in the security requirements (OpenAPI
        3.1 §4.8.30).
        """
        style = self.style
        if request.path_params["env"] not in ENVIRONMENTS:
            return JSONResponse({"error": "not found"}, 404)

        def needs(method: str) -> list[dict[str, list[str]]]:
            return [
                {"way": [role]}
                for place, role in enumerate(style.roles)
                if any(method in style.may[role] for role in style.roles[: place + 1])
            ]

        def operation(method: str, summary: str) -> dict[str, Any]:
            return {
                "summary": summary,
                "security": needs(method),
                "responses": {"default": {"description": "answer"}},
            }

        one = f"/{style.thing}/{{number}}"
        return JSONResponse(
            {
                "openapi": "3.1.0",
                "info": {"title": style.name, "version": "1"},
                "servers": [{"url": str(request.url).rpartition("/")[0]}],
                "components": {"securitySchemes": {"way": style.scheme}},
                "paths": {
                    f"/{style.thing}": {"get": operation("GET", f"List the {style.thing}")},
                    one: {
                        "put": operation("PUT", "Enter or change one"),
                        "delete": operation("DELETE", "Take one away"),
                    },
                },
            }
        )
