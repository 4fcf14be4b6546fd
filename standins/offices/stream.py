"""The stream of Vessel positions: TLS, then frames of four octets of length (network order) and so
much JSON. Its register of message formats is a second endpoint, over HTTP Basic, with accounts of
its own.
"""

from __future__ import annotations

import asyncio
import hashlib
import ipaddress
import json
import secrets
import ssl
import struct
from html import escape
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Route

from .. import clock
from . import proofs
from .office import Office
from .shelf import ENVIRONMENTS, form_of, page

TOPICS: dict[str, dict[str, Any]] = {
    "positions": {"vessel": "Gannet Sound", "at": [58.98, -2.96]},
    "arrivals": {"vessel": "Little Auk", "quay": "South slip"},
}


RULE = ("effect", "who", "operation", "resource", "match", "from")


def _tag(drawer: dict[str, Any]) -> str:
    rules = json.dumps(drawer.get("rules"), sort_keys=True)
    return f'"{hashlib.sha256(rules.encode()).hexdigest()[:16]}"'


def allowed(book: dict[str, Any] | None, who: str, operation: str, stream: str, peer: str) -> bool:
    """Deny wins; without any rules everybody may read, with some, no rule means no."""
    if book is None:
        return operation == "read"
    yes = False
    for rule in book["rules"]:
        subject = rule["who"]
        mine = (
            subject == "*"
            or subject == who
            or (subject.startswith("group:") and who in book["groups"].get(subject[6:], ()))
        )
        thing = (
            stream.startswith(rule["resource"])
            if rule["match"] == "prefix"
            else stream == rule["resource"]
        )
        near = not rule["from"] or any(
            ipaddress.ip_address(peer) in ipaddress.ip_network(item, strict=False)
            for item in rule["from"]
        )
        if mine and thing and near and rule["operation"] in (operation, "*"):
            if rule["effect"] == "deny":
                return False
            yes = True
    return yes


class Positions:
    """Keys are made in the office; each begins with the environment it is for."""

    def __init__(self, office: Office) -> None:
        self.office = office

    def _record(self, key: str) -> dict[str, Any] | None:
        for drawer in (self.office.shelf.data[environment] for environment in ENVIRONMENTS):
            if key in drawer["keys"]:
                found: dict[str, Any] = drawer["keys"][key]
                return found
        return None

    async def serve(self, port: int, context: ssl.SSLContext) -> asyncio.Server:
        """Listen."""
        return await asyncio.start_server(self._talk, "127.0.0.1", port, ssl=context)

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        known: dict[str, Any] | None = None
        try:
            while True:
                size = struct.unpack("!I", await asyncio.wait_for(reader.readexactly(4), 30))[0]
                if size > 65536:
                    break
                given = json.loads(await reader.readexactly(size))
                known, answer = self._answer(given, known, writer.get_extra_info("peername")[0])
                body = json.dumps(answer).encode()
                writer.write(struct.pack("!I", len(body)) + body)
                await writer.drain()
        except (
            asyncio.IncompleteReadError,
            TimeoutError,
            ValueError,
            ConnectionError,
            ssl.SSLError,
        ):
            pass
        finally:
            writer.close()

    def _answer(
        self, given: dict[str, Any], known: dict[str, Any] | None, peer: str
    ) -> tuple[dict[str, Any] | None, dict[str, Any]]:
        act = given.get("do")
        if act == "sign_in":
            record = self._record(str(given.get("key")))
            if record is None:
                return None, {
                    "ok": False,
                    "error": "unknown_key",
                    "says": "This key ID is not known",
                }
            if record["ends"] and record["ends"] < clock.now():
                return None, {"ok": False, "error": "key_ended", "says": "This key has ended"}
            if not secrets.compare_digest(
                record["secret"].encode(), str(given.get("secret")).encode()
            ):
                return None, {
                    "ok": False,
                    "error": "wrong_secret",
                    "says": "The secret is not this key's",
                }
            return record, {"ok": True, "as": record["account"]}
        if known is None:
            return None, {"ok": False, "error": "forbidden", "says": "Sign in first"}
        env = next(
            environment
            for environment in ENVIRONMENTS
            if any(
                record is known for record in self.office.shelf.data[environment]["keys"].values()
            )
        )
        may = self.office.shelf.data[env].get("rules")
        if act == "list":
            return known, {
                "ok": True,
                "topics": [
                    topic
                    for topic in sorted(TOPICS)
                    if allowed(may, known["account"], "read", topic, peer)
                ],
            }
        if act == "peek" and given.get("topic") in TOPICS:
            if not allowed(may, known["account"], "read", str(given["topic"]), peer):
                return known, {
                    "ok": False,
                    "error": "forbidden",
                    "says": f"{known['account']} may not read {given['topic']}",
                }
            return known, {"ok": True, "message": TOPICS[str(given["topic"])]}
        return known, {"ok": False, "error": "unknown", "says": "There is no such thing to do"}

    # The register

    def routes(self) -> list[Route]:
        """The register's API, below the environment."""
        return [
            Route("/{env}/register/formats", self.formats),
            Route("/{env}/register/rules", self.rules, methods=["GET", "PUT"]),
        ]

    def screens(self) -> list[Route]:
        """Where passwords of the register are handed out."""
        return [
            Route("/{env}/register", self.accounts),
            Route("/{env}/register/make", self.make, methods=["POST"]),
            Route("/{env}/register/rules", self.rule_list),
            Route("/{env}/register/rules/{act}", self.rule_act, methods=["POST"]),
        ]

    def _accounts(self, request: Request) -> dict[str, dict[str, Any]]:
        found: dict[str, dict[str, Any]] = self.office.shelf.data[
            request.path_params["env"]
        ].setdefault("register", {})
        return found

    async def formats(self, request: Request) -> Response:
        """The message formats, for those who have an account of the register."""
        if request.path_params["env"] not in ENVIRONMENTS:
            return JSONResponse({"error": "not found"}, 404)
        shown = proofs.basic(request, self._accounts(request), "")
        if isinstance(shown, Response):
            return shown
        return JSONResponse(
            {"formats": {name: sorted(example) for name, example in TOPICS.items()}}
        )

    async def accounts(self, request: Request) -> Response:
        """Who has one, and the form for more."""
        if request.path_params["env"] not in ENVIRONMENTS:
            return RedirectResponse("/sandbox/register", 303)
        rows = "".join(f"<tr><td>{escape(name)}" for name in self._accounts(request))
        return page(
            f"Register of message formats, {request.path_params['env']}",
            self.office.style.colour,
            f"<table><tr><th>User name{rows}</table><form method=post "
            f"action='/{request.path_params['env']}/register/make'><p>User name <input "
            f"name=name required></p>"
            "<button>Make</button></form>",
        )

    # Who may read and send what

    async def rules(self, request: Request) -> Response:
        """The rules, for accounts of the register: read with their tag, replaced as a whole under
        it (RFC 9110 §13.1.1).
        """
        if request.path_params["env"] not in ENVIRONMENTS:
            return JSONResponse({"error": "not found"}, 404)
        shown = proofs.basic(request, self._accounts(request), "")
        if isinstance(shown, Response):
            return shown
        drawer = self.office.shelf.data[request.path_params["env"]]
        if request.method == "PUT":
            if request.headers.get("if-match") not in ("*", _tag(drawer)):
                return JSONResponse(
                    {"error": "changed", "says": "The rules were changed in the meantime"}, 412
                )
            try:
                given = json.loads(await request.body())
                drawer["rules"] = {
                    "groups": {
                        str(k): [str(item) for item in v] for k, v in given["groups"].items()
                    },
                    "rules": [{key: rule[key] for key in RULE} for rule in given["rules"]],
                }
            except (ValueError, KeyError, TypeError, AttributeError):
                return JSONResponse({"error": "wanted: groups and rules"}, 422)
            self.office.shelf.save()
        return JSONResponse(
            {**(drawer.get("rules") or {"groups": {}, "rules": []}), "streams": sorted(TOPICS)},
            headers={"ETag": _tag(drawer)},
        )

    async def rule_list(self, request: Request) -> Response:
        """The rules on a screen, where somebody may change them manually."""
        env = request.path_params["env"]
        if env not in ENVIRONMENTS:
            return RedirectResponse("/sandbox/register/rules", 303)
        found = self.office.shelf.data[env].get("rules")
        lines = "".join(
            f"<tr><td>{number}<td>{escape(one['effect'])}<td>{escape(one['who'])}"
            f"<td>{escape(one['operation'])}<td>{escape(one['resource'])}"
            f"{'…' if one['match'] == 'prefix' else ''}<td>{escape(' '.join(one['from']))}"
            f"<td><form method=post action='/{env}/register/rules/drop'>"
            f"<input type=hidden name=number value={number}><button>Strike out</button></form>"
            for number, one in enumerate((found or {}).get("rules", []), 1)
        )
        streams = "".join(f"<option>{topic}" for topic in sorted(TOPICS))
        none = "No rules yet: anyone who has a key may read everything." if found is None else ""
        return page(
            f"Who may read and send, {env}",
            self.office.style.colour,
            f"<p>{none}</p><table><tr><th>No.<th>Effect<th>Who<th>May<th>Stream<th>From<th>{lines}"
            f"</table><h2>One more, at the end</h2><form method=post "
            f"action='/{env}/register/rules/add'><p><select "
            f"name=effect><option>allow<option>deny</select> "
            f"<input name=who required> <select "
            f"name=operation><option>read<option>send</select> <select "
            f"name=resource>{streams}</select> <button>Add</button></p></form>",
        )

    async def rule_act(self, request: Request) -> Response:
        """Somebody changes the rules manually."""
        env, form = request.path_params["env"], await form_of(request)
        drawer = self.office.shelf.data[env]
        found = drawer.get("rules") or {"groups": {}, "rules": []}
        if request.path_params["act"] == "add":
            found["rules"].append(
                {
                    "effect": form["effect"],
                    "who": form["who"].strip(),
                    "operation": form["operation"],
                    "resource": form["resource"],
                    "match": "exact",
                    "from": [],
                }
            )
        elif form.get("number", "").isdigit() and 0 < int(form["number"]) <= len(found["rules"]):
            del found["rules"][int(form["number"]) - 1]
        drawer["rules"] = found
        self.office.shelf.save()
        return RedirectResponse(f"/{env}/register/rules", 303)

    async def make(self, request: Request) -> Response:
        """A new account, its password shown once."""
        name = (await form_of(request)).get("name", "").strip()
        password = secrets.token_urlsafe(18)
        self._accounts(request)[name] = {
            "name": name,
            "account": name,
            "role": "reader",
            "made": clock.now(),
            "ends": 0,
            "secret": password,
        }
        self.office.shelf.save()
        return page(
            "Write this down",
            self.office.style.colour,
            (
                f"<table><tr><th>User "
                f"name<td><code>{name}</code><tr><th>Password<td><code>{password}</code></table>"
            ),
        )
