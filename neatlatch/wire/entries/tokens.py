"""OAuth 2.0: a token is got, or renewed, or asked about, and sent as a bearer token (RFC 6749,
6750, 7523, 7662).
"""

from __future__ import annotations

from neatlatch.core import oauth2, pkce, replies
from neatlatch.core.evidence import CauseClass, Failure
from neatlatch.core.schemes import CODE

from ..ladder_plan import LadderCalls, RungFailed, RungRemark
from ..oauth import failure_of, would_take
from ..token_source import HeldToken, NoToken

# The probe of the authorization endpoint never leads to a sign-in, so its verifier protects
# nothing.
_PROBE_CHALLENGE = pkce.challenge("a-probe-never-comes-back-so-this-needs-no-secret")


class Tokens:
    """Authorization code, client credentials and JWT bearer."""

    lacks = "was not granted"
    shows_secret = False

    def __init__(self, calls: LadderCalls) -> None:
        self.calls = calls
        self.held: HeldToken | None = None

    def addresses(self) -> tuple[str, ...]:
        """Token endpoint and API base address."""
        return (self.calls.plan.token_endpoint, self.calls.plan.api_base)

    def request(self, method: str, address: str, body: dict[str, object] | None) -> oauth2.Request:
        """A call with the token on."""
        assert self.held is not None
        return oauth2.api_request(method, address, self.held.access_token, body)

    def renew(self) -> bool:
        """A token that somebody's sign-in gave may have ended there before its time; one that was
        just got is wrong for another reason.
        """
        if self.calls.plan.scheme != CODE or self.held is None or self.held.renewed:
            return False
        try:
            self.held, exchanges = self.calls.token_source.token(self.calls.transport, True)
        except NoToken as error:
            self.calls.exchanges.extend(error.exchanges)
            if (
                not error.exchanges
            ):  # nobody was asked, so what the call was answered stays the cause
                return False
            raise RungFailed(error.failure) from error
        self.calls.exchanges.extend(exchanges)
        return True

    def granted(self) -> frozenset[str] | None:
        """The scopes of the token."""
        return self.held.granted if self.held else frozenset()

    def secrets(self) -> tuple[str, ...]:
        """The token, once it is held."""
        return (self.held.access_token,) if self.held else ()

    def allowed(self) -> RungRemark | None:
        """The token alone does not show what it may."""
        return None

    def worked(self) -> RungRemark | None:
        """Nothing of its own."""
        return None

    def sign_in(self) -> str:
        """A person's token is asked about; a client by itself gets a new one each time, because
        that is what proves the secret.
        """
        plan = self.calls.plan
        if plan.scheme == CODE:
            self._ask_sign_in_page()
        self.held = self._token()
        words = ["renewed the token" if self.held.renewed else "token alive"]
        if plan.introspection_endpoint and plan.scheme == CODE:
            words.append(self._introspect())
        if self.held.ends is not None:
            words.append(
                f"{max(0, int((self.held.ends - self.calls.now()).total_seconds() // 60))} min left"
            )
        self.calls.facts["granted"] = sorted(self.held.granted)
        return " · ".join(words)

    def _token(self) -> HeldToken:
        """A token; a refusal of a credential that may not have spread yet is tried again before
        anybody calls it wrong.
        """
        while True:
            try:
                held, exchanges = self.calls.token_source.token(
                    self.calls.transport, self.calls.plan.scheme != CODE
                )
            except NoToken as error:
                self.calls.exchanges.extend(error.exchanges)
                if error.failure.code != "invalid_client" or not self.calls.wait_to_spread():
                    raise RungFailed(error.failure) from error
            else:
                self.calls.exchanges.extend(exchanges)
                return held

    def _ask_sign_in_page(self) -> None:
        plan = self.calls.plan
        url = oauth2.authorization_url(
            plan.authorization_endpoint,
            plan.client.client_id,
            plan.redirect_uri,
            plan.scopes,
            "probe",
            _PROBE_CHALLENGE,
        )
        answer = self.calls.send(oauth2.Request("GET", url, (("Accept", "text/html"),)))
        failure = would_take(answer, "probe", plan.redirect_uri)
        self.calls.facts["sign_in_page"] = answer.status
        if failure is not None:
            raise RungFailed(failure)

    def _introspect(self) -> str:
        """Prove client and token at once without changing anything: ask whose token it is (RFC
        7662).
        """
        plan = self.calls.plan
        assert self.held is not None
        for again in (False, True):
            request = oauth2.introspection_request(
                plan.introspection_endpoint, plan.client, self.held.access_token
            )
            answer = self.calls.send(request, safe=True)
            reading = replies.read(
                "introspection", answer.status, answer.headers, answer.text, self.calls.now()
            )
            if not reading.ok:
                raise RungFailed(failure_of(reading, "token", answer.status))
            if reading.fields.get("active"):
                account = str(reading.fields.get("username") or "")
                if account:
                    self.calls.token_source.report_account(account)
                return f"as {account}" if account else "known there"
            if again:
                break
            try:
                self.held, exchanges = self.calls.token_source.token(self.calls.transport, True)
            except NoToken as error:
                self.calls.exchanges.extend(error.exchanges)
                raise RungFailed(error.failure) from error
            self.calls.exchanges.extend(exchanges)
        raise RungFailed(
            Failure(
                "token",
                "invalid_grant",
                CauseClass.CREDENTIAL,
                "The application says that the token is not active, also after renewing it.",
            )
        )
