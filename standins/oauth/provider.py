"""An application as an OAuth 2.0 provider: metadata, token, revocation, introspection and
registration (all over TLS).
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import secrets
from collections.abc import Awaitable, Callable
from typing import Any
from urllib.parse import parse_qsl, unquote_plus

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from joserfc import jwk, jwt
from joserfc.errors import JoseError
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .. import clock
from .about import JWT_GRANT
from .faults import Faults
from .store import Store, digest

NO_STORE = {"Cache-Control": "no-store", "Pragma": "no-cache"}


class Refusal(Exception):
    """An error reply as RFC 6749 §5.2 wants it."""

    def __init__(
        self,
        error: str,
        description: str = "",
        status: int = 400,
        headers: dict[str, str] | None = None,
    ) -> None:
        super().__init__(error)
        self.error, self.description, self.status, self.headers = (
            error,
            description,
            status,
            headers or {},
        )

    def reply(self) -> Response:
        body = {"error": self.error} | (
            {"error_description": self.description} if self.description else {}
        )
        return JSONResponse(body, self.status, {**NO_STORE, **self.headers})


class Provider:
    """The token side of one environment."""

    def __init__(
        self, store: Store, faults: Faults, issuer: str, screens: str, registers: bool
    ) -> None:
        self.store, self.faults, self.issuer, self.screens, self.registers = (
            store,
            faults,
            issuer,
            screens,
            registers,
        )

    def routes(self) -> list[Route]:
        """The addresses of RFC 8414, 6749, 7009, 7662, 7591 and 7592."""
        routes = [
            Route("/.well-known/oauth-authorization-server", self.metadata),
            Route("/token", self._guarded("token", self.token), methods=["POST"]),
            Route("/revoke", self._guarded("token", self.revoke), methods=["POST"]),
            Route("/introspect", self._guarded("token", self.introspect), methods=["POST"]),
        ]
        if self.registers:
            routes += [
                Route("/register", self._guarded("register", self.register), methods=["POST"]),
                Route(
                    "/register/{client_id}",
                    self._guarded("register", self.managed),
                    methods=["GET", "PUT", "DELETE"],
                ),
            ]
        return routes

    def _guarded(
        self, place: str, handler: Callable[[Request], Awaitable[Response]]
    ) -> Callable[[Request], Awaitable[Response]]:
        async def run(request: Request) -> Response:
            self.store.count(place)
            instead, hold = await self.faults.before(place)
            if instead is not None:
                return instead
            try:
                answer = await handler(request)
            except Refusal as refusal:
                answer = refusal.reply()
            await self.faults.hold(hold)
            return answer

        return run

    async def metadata(self, request: Request) -> Response:
        """RFC 8414 §2, RFC 9207 §3."""
        told: dict[str, Any] = {
            "issuer": self.issuer,
            "authorization_endpoint": f"{self.screens}/authorize",
            "token_endpoint": f"{self.issuer}/token",
            "revocation_endpoint": f"{self.issuer}/revoke",
            "introspection_endpoint": f"{self.issuer}/introspect",
            "scopes_supported": list(self.store.about.scopes),
            "response_types_supported": ["code"],
            "grant_types_supported": list(self.store.about.grants),
            "token_endpoint_auth_methods_supported": list(self.store.about.methods),
            "code_challenge_methods_supported": ["S256"],
            "authorization_response_iss_parameter_supported": True,
            "service_documentation": f"{self.screens}/office",
        }
        if self.registers:
            told["registration_endpoint"] = f"{self.issuer}/register"
        return JSONResponse(told)

    # Client authentication (RFC 6749 §2.3.1)

    async def _form(self, request: Request) -> dict[str, str]:
        pairs = parse_qsl((await request.body()).decode("utf-8", "replace"), keep_blank_values=True)
        form = dict(pairs)
        if len(form) != len(pairs):
            raise Refusal("invalid_request", "A parameter stands twice")
        return form

    def _authenticate(self, request: Request, form: dict[str, str]) -> dict[str, Any]:
        header = request.headers.get("authorization", "")
        if header.lower().startswith("basic "):
            challenge = {"WWW-Authenticate": 'Basic realm="harbour"'}
            if "client_secret" in form:
                raise Refusal("invalid_request", "The client authenticated in two ways")
            try:
                client_id, _, secret = (
                    base64.b64decode(header[6:], validate=True).decode().partition(":")
                )
            except (binascii.Error, UnicodeDecodeError):
                raise Refusal("invalid_client", "", 401, challenge) from None
            client = self.store.client(unquote_plus(client_id))
            if (
                client is None
                or client["token_endpoint_auth_method"] != "client_secret_basic"
                or not self.store.secret_holds(client, unquote_plus(secret))
            ):
                raise Refusal("invalid_client", "", 401, challenge)
            return client
        client = self.store.client(form.get("client_id"))
        if client is None:
            raise Refusal("invalid_client", "", 401)
        method = client["token_endpoint_auth_method"]
        if "client_secret" in form:
            if method != "client_secret_post" or not self.store.secret_holds(
                client, form["client_secret"]
            ):
                raise Refusal("invalid_client", "", 401)
        elif method != "none":
            raise Refusal("invalid_client", "", 401)
        return client

    # Token endpoint

    async def token(self, request: Request) -> Response:
        """RFC 6749 §4.1.3, §4.4.2 and §6."""
        form = await self._form(request)
        grant = form.get("grant_type")
        client = (
            self._by_assertion(form)
            if grant == JWT_GRANT and JWT_GRANT in self.store.about.grants
            else self._authenticate(request, form)
        )
        if not grant:
            raise Refusal("invalid_request", "Missing parameter: grant_type")
        if grant not in self.store.about.grants:
            raise Refusal("unsupported_grant_type")
        if grant not in client["grant_types"]:
            raise Refusal("unauthorized_client", f"{grant} is not switched on for this client")
        answer = {
            "authorization_code": self._code,
            "refresh_token": self._refresh,
            "client_credentials": self._client,
            JWT_GRANT: self._assertion,
        }[grant](client, form)
        self.store.count(f"issued:{grant}")
        self.store.save()
        return JSONResponse(
            {**answer, "token_type": "Bearer", "expires_in": self.store.about.access_life},
            headers=NO_STORE,
        )

    def _code(self, client: dict[str, Any], form: dict[str, str]) -> dict[str, str]:
        kept = self.store.data["codes"].get(digest(form.get("code", "")))
        if kept is None or kept["client_id"] != client["client_id"]:
            raise Refusal("invalid_grant", "The code is not known")
        if kept["used"]:
            self.store.revoke_family(kept["family"])  # RFC 6749 §4.1.2
            self.store.save()
            raise Refusal("invalid_grant", "The code was used before")
        if kept["ends"] < clock.now():
            raise Refusal("invalid_grant", "The code has ended")
        if form.get("redirect_uri") != kept["redirect_uri"]:
            raise Refusal("invalid_grant", "redirect_uri does not match")
        made = (
            base64.urlsafe_b64encode(
                hashlib.sha256(form.get("code_verifier", "").encode()).digest()
            )
            .rstrip(b"=")
            .decode()
        )
        if not secrets.compare_digest(made, kept["challenge"]):
            raise Refusal("invalid_grant", "code_verifier does not match")
        kept["used"], kept["family"] = True, secrets.token_hex(8)
        answer = {
            "access_token": self.store.new_access(
                client["client_id"], kept["account"], kept["scope"], kept["family"]
            ),
            "scope": kept["scope"],
        }
        if "refresh_token" in client["grant_types"]:
            answer["refresh_token"] = self.store.new_refresh(
                client["client_id"], kept["account"], kept["scope"], kept["family"]
            )
        return answer

    def _refresh(self, client: dict[str, Any], form: dict[str, str]) -> dict[str, str]:
        """Each use gives a new refresh token.

        An old one shown again ends the family (RFC 9700 §4.14.2), with one exception: while nothing
        that came of it has been used, the client plainly never got the answer, and is given
        another.
        """
        presented = digest(form.get("refresh_token", ""))
        kept = self.store.data["refresh"].get(presented)
        if kept is None or kept["client_id"] != client["client_id"]:
            raise Refusal("invalid_grant", "The refresh token is not known")
        if kept["ends"] < clock.now():
            raise Refusal("invalid_grant", "The refresh token has ended")
        if self.store.about.wants_old_access and not self._old_access(
            form.get("access_token", ""), kept
        ):
            raise Refusal("invalid_grant", "The old access token is required to renew")
        scope = form.get("scope", kept["scope"])
        if not set(scope.split()) <= set(kept["scope"].split()):
            raise Refusal("invalid_scope", "More than was granted")
        if not self.store.about.rotates:
            return {
                "access_token": self.store.new_access(
                    client["client_id"], kept["account"], scope, kept["family"]
                ),
                "scope": scope,
            }
        follower = self.store.data["refresh"].get(kept["next"]) if kept["next"] else None
        if kept["next"]:
            if follower is None or follower["used"] or follower["next"]:
                self.store.revoke_family(kept["family"])
                self.store.save()
                raise Refusal(
                    "invalid_grant",
                    "The refresh token was used before; everything that came of it is revoked",
                )
            del self.store.data["refresh"][kept["next"]]
            self.store.count("refresh_repeated")
        if before := self.store.data["refresh"].get(kept["before"]):
            before["used"] = True
        kept["used"] = True
        access = self.store.new_access(client["client_id"], kept["account"], scope, kept["family"])
        refresh = self.store.new_refresh(
            client["client_id"], kept["account"], kept["scope"], kept["family"], presented
        )
        kept["next"] = digest(refresh)
        self.store.data["access"][digest(access)]["refresh"] = digest(refresh)
        return {"access_token": access, "refresh_token": refresh, "scope": scope}

    def _old_access(self, token: str, kept: dict[str, Any]) -> bool:
        """Whether it is an access token of the same sign-in; one that has ended counts, one that
        was cleared away by age does too.
        """
        held = self.store.data["access"].get(digest(token))
        return bool(token) and (held is None or held["family"] == kept["family"])

    # JWT bearer (RFC 7523)

    def _by_assertion(self, form: dict[str, str]) -> dict[str, Any]:
        """The client whose certificate's key signed the assertion.

        Every reason to refuse is invalid_grant (RFC 7523 §3.1).
        """
        token = form.get("assertion", "")
        try:
            claims = json.loads(base64.urlsafe_b64decode(token.split(".")[1] + "=="))
            client = self.store.client(str(claims.get("iss")))
        except (ValueError, IndexError, AttributeError):
            raise Refusal("invalid_grant", "The assertion cannot be read") from None
        if client is None or not client.get("certificate"):
            raise Refusal(
                "invalid_grant",
                "The issuer of the assertion is not known, or has no certificate here",
            )
        certificate = x509.load_pem_x509_certificate(client["certificate"].encode())
        public = certificate.public_key().public_bytes(
            Encoding.PEM, PublicFormat.SubjectPublicKeyInfo
        )
        try:
            key = (
                jwk.RSAKey.import_key(public)
                if isinstance(certificate.public_key(), rsa.RSAPublicKey)
                else jwk.ECKey.import_key(public)
            )
            checked = jwt.decode(token, key, algorithms=["RS256", "ES256", "ES384", "ES512"]).claims
        except (JoseError, ValueError) as error:
            raise Refusal(
                "invalid_grant", f"The assertion's signature does not hold: {type(error).__name__}"
            ) from None
        now = clock.now()
        if checked.get("aud") not in (self.issuer, f"{self.issuer}/token"):
            raise Refusal("invalid_grant", "The assertion is for another audience")
        if (
            not isinstance(checked.get("exp"), int)
            or checked["exp"] <= now
            or checked["exp"] > now + 600
        ):
            raise Refusal("invalid_grant", "The assertion has ended, or lives too long")
        if certificate.not_valid_after_utc.timestamp() < now:
            raise Refusal("invalid_grant", "The certificate has ended")
        if (
            checked.get("sub") not in self.store.about.accounts
            and checked.get("sub") != client["client_id"]
        ):
            raise Refusal("invalid_grant", "The account (sub) is not known here")
        seen = self.store.data["assertions"]
        for old in [key for key, ends in seen.items() if ends < now]:
            del seen[old]
        if not checked.get("jti") or checked["jti"] in seen:
            raise Refusal("invalid_grant", "The assertion was used before, or has no jti")
        seen[checked["jti"]] = checked["exp"]
        return client

    def _assertion(self, client: dict[str, Any], form: dict[str, str]) -> dict[str, str]:
        return self._client({**client, "token_endpoint_auth_method": "assertion"}, form)

    def _client(self, client: dict[str, Any], form: dict[str, str]) -> dict[str, str]:
        if client["token_endpoint_auth_method"] == "none":
            raise Refusal("unauthorized_client", "A public client cannot")
        wanted = form.get(
            "scope", " ".join(sorted(set(client["scope"].split()) - self.store.about.admin_scopes))
        )
        if not set(wanted.split()) <= set(client["scope"].split()):
            raise Refusal("invalid_scope", "Not permitted for this client")
        if without := sorted(
            set(wanted.split()) & self.store.about.admin_scopes - set(client["consents"])
        ):
            raise Refusal(
                "invalid_scope", f"An administrator has not consented to {', '.join(without)}"
            )
        return {
            "access_token": self.store.new_access(
                client["client_id"], client["client_id"], wanted, ""
            ),
            "scope": wanted,
        }

    # Revocation and introspection

    async def revoke(self, request: Request) -> Response:
        """RFC 7009."""
        form = await self._form(request)
        client = self._authenticate(request, form)
        if not form.get("token"):
            raise Refusal("invalid_request", "Missing parameter: token")
        for kind in ("access", "refresh"):
            kept = self.store.data[kind].get(digest(form["token"]))
            if kept and kept["client_id"] == client["client_id"]:
                if kind == "refresh":
                    self.store.revoke_family(kept["family"])
                self.store.data[kind].pop(digest(form["token"]), None)
        self.store.save()
        return Response(status_code=200, headers=NO_STORE)

    async def introspect(self, request: Request) -> Response:
        """RFC 7662."""
        form = await self._form(request)
        client = self._authenticate(request, form)
        shown = digest(form.get("token", ""))
        kept = self.store.data["access"].get(shown)
        if (
            kept is None
            and (refresh := self.store.data["refresh"].get(shown)) is not None
            and refresh["client_id"] == client["client_id"]
        ):
            return JSONResponse({"active": not refresh["next"]}, headers=NO_STORE)
        if kept is None or kept["client_id"] != client["client_id"] or kept["ends"] < clock.now():
            return JSONResponse({"active": False}, headers=NO_STORE)
        return JSONResponse(
            {
                "active": True,
                "client_id": kept["client_id"],
                "username": kept["account"],
                "scope": kept["scope"],
                "exp": int(kept["ends"]),
                "iat": int(kept["made"]),
                "iss": self.issuer,
                "token_type": "Bearer",
            },
            headers=NO_STORE,
        )

    # Registration

    async def _metadata_of(self, request: Request) -> dict[str, Any]:
        try:
            asked = await request.json()
        except ValueError:
            raise Refusal("invalid_client_metadata", "The body is not JSON") from None
        if not isinstance(asked, dict):
            raise Refusal("invalid_client_metadata", "The body is not an object")
        grants = asked.get("grant_types", ["authorization_code"])
        method = asked.get("token_endpoint_auth_method", "client_secret_basic")
        uris = asked.get("redirect_uris", [])
        if not isinstance(grants, list) or not set(grants) <= set(self.store.about.grants):
            raise Refusal("invalid_client_metadata", "A grant type is not known")
        if method not in self.store.about.methods:
            raise Refusal("invalid_client_metadata", "token_endpoint_auth_method is not known")
        if "authorization_code" in grants and not uris:
            raise Refusal("invalid_redirect_uri", "At least one redirect URI is needed")
        for uri in uris:
            local = str(uri).startswith(("http://127.0.0.1", "http://localhost", "http://[::1]"))
            if "#" in str(uri) or "*" in str(uri) or not (str(uri).startswith("https://") or local):
                raise Refusal(
                    "invalid_redirect_uri", f"The redirect URI {uri} is not allowed by this server."
                )
        scope = asked.get("scope", next(iter(self.store.about.scopes)))
        if unknown := sorted(set(str(scope).split()) - set(self.store.about.scopes)):
            raise Refusal("invalid_client_metadata", f"Scope {unknown[0]} is not known")
        return {
            "client_name": str(asked.get("client_name", "")),
            "contacts": asked.get("contacts", []),
            "redirect_uris": uris,
            "grant_types": grants,
            "response_types": ["code"] if "authorization_code" in grants else [],
            "scope": scope,
            "token_endpoint_auth_method": method,
        }

    def _told(self, client: dict[str, Any]) -> dict[str, Any]:
        shown = {
            key: client[key]
            for key in (
                "client_id",
                "client_name",
                "contacts",
                "redirect_uris",
                "grant_types",
                "response_types",
                "scope",
                "token_endpoint_auth_method",
            )
        }
        return {
            **shown,
            "client_id_issued_at": client["issued"],
            "registration_client_uri": f"{self.issuer}/register/{client['client_id']}",
        }

    async def register(self, request: Request) -> Response:
        """RFC 7591 §3."""
        client, secret, token = self.store.new_client(await self._metadata_of(request))
        told = {**self._told(client), "registration_access_token": token}
        if secret:
            told |= {
                "client_secret": secret,
                "client_secret_expires_at": client["secrets"][-1]["ends"],
            }
        return JSONResponse(told, 201, NO_STORE)

    async def managed(self, request: Request) -> Response:
        """RFC 7592 §2."""
        client = self.store.client(request.path_params["client_id"])
        token = request.headers.get("authorization", "").removeprefix("Bearer ")
        if client is None or not secrets.compare_digest(
            client["registration_token"], digest(token)
        ):
            return Response(
                status_code=401,
                headers={
                    "WWW-Authenticate": 'Bearer realm="register", error="invalid_token"',
                    **NO_STORE,
                },
            )
        if request.method == "DELETE":
            del self.store.data["clients"][client["client_id"]]
            for kind in ("access", "refresh", "codes"):
                self.store.data[kind] = {
                    key: one
                    for key, one in self.store.data[kind].items()
                    if one["client_id"] != client["client_id"]
                }
            self.store.save()
            return Response(status_code=204, headers=NO_STORE)
        if request.method == "PUT":
            asked = await request.json()
            if asked.get("client_id") != client["client_id"]:
                raise Refusal("invalid_client_metadata", "client_id must be that of the client")
            if "registration_access_token" in asked or "client_secret_expires_at" in asked:
                raise Refusal(
                    "invalid_client_metadata", "A field may not be sent back (RFC 7592 section 2.2)"
                )
            named, told_new = asked.get("client_secret"), {}
            if named is not None and not any(
                secret["digest"] == digest(named) and secret["ends"] > clock.now()
                for secret in client["secrets"]
            ):
                raise Refusal("invalid_client_metadata", "client_secret is not the present one")
            fields = await self._metadata_of(request)
            if named is not None:
                # The new one takes the old one's place at once: a client must discard its previous
                # secret (RFC 7592 section 2.2).
                client["secrets"] = [
                    secret for secret in client["secrets"] if secret["digest"] != digest(named)
                ]
                _, value = self.store.new_secret(client)
                told_new = {
                    "client_secret": value,
                    "client_secret_expires_at": client["secrets"][-1]["ends"],
                }
            narrowed = set(client["scope"].split()) - set(fields["scope"].split())
            client.update(fields)
            for scope in narrowed:
                client["consents"].pop(scope, None)
            self.store.save()
            return JSONResponse({**self._told(client), **told_new}, 200, NO_STORE)
        return JSONResponse(self._told(client), 200, NO_STORE)
