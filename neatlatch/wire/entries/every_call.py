"""Schemes whose credential is sent with every call: API key, key and secret, Basic, bearer token,
OAuth 1.0a, client certificate.
"""

from __future__ import annotations

from neatlatch.core import oauth2, replies
from neatlatch.core.addresses import joined_path
from neatlatch.core.evidence import CauseClass, Failure
from neatlatch.core.schemes import CERTIFICATE

from ..ladder_plan import LadderCalls, RungFailed, RungRemark, nothing_to_try
from ..oauth import failure_of
from ..transport import HttpReply


class EveryCall:
    """The harmless call, with the credential on, is what proves it: known there, whether or not it
    may do that.
    """

    lacks = "its account may not do"
    shows_secret = True

    def __init__(self, calls: LadderCalls) -> None:
        self.calls = calls
        self.first: HttpReply | None = None
        self.name = ""

    def addresses(self) -> tuple[str, ...]:
        """The API base address."""
        return (self.calls.plan.api_base,)

    def sign_in(self) -> str:
        """A refusal to know us is 401 (RFC 9110 §15.5.2); 403 knows us and forbids (§15.5.4), which
        is a matter of the next rung.
        """
        plan = self.calls.plan
        operation = plan.harmless
        path, self.name = (
            (operation.path, operation.name) if operation else ("", f"GET {plan.api_base}")
        )
        self.first = self.calls.send(self.request("GET", joined_path(plan.api_base, path), None))
        if self.first.status == 401:
            raise RungFailed(self._refused(self.first))
        if self.first.status != 403:
            self.calls.check(self.first, self.name)
        return (
            "the certificate was taken"
            if plan.scheme == CERTIFICATE
            else f"known there: {self.name} answered {self.first.status}"
        )

    def _refused(self, answer: HttpReply) -> Failure:
        reading = replies.read(
            "resource", answer.status, answer.headers, answer.text, self.calls.now()
        )
        failure = failure_of(reading, "resource", answer.status)
        return Failure(
            "resource", failure.code, CauseClass.CREDENTIAL, failure.detail, answer.status
        )

    def request(self, method: str, address: str, body: dict[str, object] | None) -> oauth2.Request:
        """A call with the credential on."""
        return self.calls.with_credential(
            oauth2.api_request(method, address, "", body), self.calls.plan.held
        )

    def renew(self) -> bool:
        """There is no other than the one we hold."""
        return False

    def granted(self) -> frozenset[str] | None:
        """The account's rights, as far as somebody noted them."""
        return self.calls.plan.rights

    def secrets(self) -> tuple[str, ...]:
        """All of them."""
        return tuple(secret for secret in self.calls.plan.held.secrets.values() if secret)

    def allowed(self) -> RungRemark | None:
        """The harmless call was made already."""
        assert self.first is not None
        if self.calls.plan.harmless is None:
            return nothing_to_try("no harmless call is described for this application")
        self.calls.check(self.first, self.name)
        return RungRemark(f"{self.name} answered {self.first.status}")

    def worked(self) -> RungRemark | None:
        """Nothing of its own."""
        return None
