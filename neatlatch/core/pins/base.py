"""The two halves of a connection as plain values, and what a pin answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from ..differ import MarkedPair, mark
from ..schemes import Scheme
from ..scopes import Alternatives


class Fit(StrEnum):
    """How two values of a pin stand to each other."""

    FITS = "fits"
    DIFFERS = "differs"
    MISSING = "missing"
    NOT_PROVEN = "not_proven"
    NOT_ASKED = "not_asked"


@dataclass(frozen=True)
class Act:
    """Something that would mend a pin.

    ``key`` names the act for the service, ``value`` what it is done with.
    """

    key: str
    label: str
    value: str = ""


@dataclass(frozen=True)
class Pin:
    """A pin's answer: both values as they are shown, how they fit, and why in one sentence of both.

    ``unwritten``: it is missing only because nobody has noted the provider's half here, which
    explains no refusal. ``stops`` names the workloads who lack a right by it.
    """

    key: str
    label: str
    fit: Fit
    provider: str
    caller: str
    why: str
    marked: MarkedPair | None = None
    acts: tuple[Act, ...] = ()
    unwritten: bool = False
    stops: tuple[str, ...] = ()


@dataclass(frozen=True)
class SecretFacts:
    """A secret as it may be known: keyed fingerprint (``None``: never seen here), hint, ID, end,
    state. Never its value.

    ``elsewhere`` names another environment in which the very same secret is used.
    """

    fingerprint: str | None
    hint: str
    secret_id: str = ""
    ends: datetime | None = None
    live: bool = True
    put_in: datetime | None = None
    looks_like_id: bool = False
    elsewhere: str = ""


@dataclass(frozen=True)
class CertificateSight:
    """Our certificate as the pins see it: judged, and compared by thumbprint.

    ``key_matches`` is ``None`` while there is no private key.
    """

    subject: str
    sha256: str
    ends: datetime | None
    verdict: str
    says: str
    client_use: bool
    key_matches: bool | None


@dataclass(frozen=True)
class Consent:
    """An administrator's consent to a scope: by whom and when."""

    who: str
    when: datetime | None


@dataclass(frozen=True)
class Need:
    """An operation that a workload of the connection calls, with the scopes that allow it."""

    workload: str
    operation: str
    alternatives: Alternatives


@dataclass(frozen=True)
class PersonalAccount:
    """A person who connects an account of their own: who, which account is expected, which it is,
    since when, and until when it serves.

    ``renews``: they can go on without signing in again. ``left``: the person left the firm.
    """

    person: str
    expected: str = ""
    account: str = ""
    connected_at: datetime | None = None
    ends: datetime | None = None
    renews: bool = False
    left: bool = False


@dataclass(frozen=True)
class ProviderSide:
    """What the application holds.

    ``managed``: read and written by protocol, so what stands here is what stands there.

    ``known`` is false while no client registration is named at all. ``addresses`` and ``facts`` are
    by the keys of the scheme's values; ``held`` are the secrets it may hold, by those keys too.
    ``account_kind`` is service, person, or empty while nobody has said; ``switches`` are the
    firm-wide ones that the scheme wants, and whether they are on; ``allow_list`` networks that it
    admits.
    """

    known: bool
    managed: bool
    environment: str
    issuer: str = ""
    published: bool = False
    client_id: str = ""
    public: bool = False
    redirect_uris: tuple[str, ...] = ()
    scopes: frozenset[str] = frozenset()
    grants: frozenset[str] = frozenset()
    sign_in_methods: frozenset[str] = frozenset()
    secrets: tuple[SecretFacts, ...] = ()
    consents: Mapping[str, Consent] = field(default_factory=dict)
    administrator_scopes: frozenset[str] = frozenset()
    vendor_shared: bool = False
    changed_at: datetime | None = None
    addresses: Mapping[str, str] = field(default_factory=dict)
    facts: Mapping[str, str] = field(default_factory=dict)
    held: Mapping[str, tuple[SecretFacts, ...]] = field(default_factory=dict)
    account: str = ""
    account_kind: str = ""
    rights: frozenset[str] = frozenset()
    rights_changed_at: datetime | None = None
    switches: Mapping[str, bool] = field(default_factory=dict)
    allow_list: tuple[str, ...] = ()


@dataclass(frozen=True)
class CallerSide:
    """What we send.

    ``parts`` is the scheme as the profile describes it; ``values``, ``slots`` and ``secrets`` are
    by its keys.

    ``individual`` are the people where each connects an account of their own (``None``: the account
    is shared). ``outgoing`` are the addresses that our calls come from, as far as they are known,
    on the route named ``route``.
    """

    scheme: str
    environment: str
    environment_is_production: bool
    environment_wants_service_account: bool
    grant: str
    issuer: str = ""
    client_id: str = ""
    secret: SecretFacts | None = None
    sign_in_method: str = ""
    redirect_uri: str = ""
    scopes: frozenset[str] = frozenset()
    account: str = ""
    pkce: str = "S256"
    parts: Scheme | None = None
    values: Mapping[str, str] = field(default_factory=dict)
    slots: Mapping[str, str] = field(default_factory=dict)
    secrets: Mapping[str, SecretFacts] = field(default_factory=dict)
    certificate: CertificateSight | None = None
    outgoing: tuple[str, ...] = ()
    route: str = "direct"
    granted: frozenset[str] | None = None
    individual: tuple[PersonalAccount, ...] | None = None
    signed_in_as: str = ""
    signed_in_at: datetime | None = None
    changed_at: datetime | None = None


@dataclass(frozen=True)
class Halves:
    """Everything the pins are worked out from.

    ``proven_at``: when a test last passed the Sign in rung. ``secret_taken_at``: when the
    application last took our secret, which a token that is alive already does not show.
    ``other_environments``: addresses of the same application elsewhere, by environment name.
    ``roles`` are the rights an account can have where there are no scopes; ``patterns`` are the
    application's address patterns with their slots open.
    """

    provider: ProviderSide
    caller: CallerSide
    now: datetime
    needs: tuple[Need, ...] = ()
    implies: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    roles: tuple[str, ...] = ()
    roles_label: str = "role"
    patterns: Mapping[str, str] = field(default_factory=dict)
    proven_at: datetime | None = None
    secret_taken_at: datetime | None = None
    other_environments: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def proven(self) -> bool:
        """Whether a test has shown, since the last change on either side, that what we send is
        taken.
        """
        return self._since_the_last_change(self.proven_at)

    @property
    def secret_proven(self) -> bool:
        """Whether the application has taken our secret since the last change on either side."""
        return self._since_the_last_change(self.secret_taken_at)

    def _since_the_last_change(self, moment: datetime | None) -> bool:
        changes = (self.provider.changed_at, self.caller.changed_at)
        return moment is not None and all(
            moment >= change for change in changes if change is not None
        )

    def agreed(
        self, key: str, label: str, provider: str, caller: str, why: str, *, secret: bool = False
    ) -> Pin:
        """A pin whose values agree: it fits, unless the provider's half is a mirror that no test
        has proven.

        ``secret``: it is about a secret.
        """
        if self.provider.managed or (self.secret_proven if secret else self.proven):
            return Pin(key, label, Fit.FITS, provider, caller, why)
        return Pin(
            key,
            label,
            Fit.NOT_PROVEN,
            provider,
            caller,
            (
                "Both say the same, but the provider's half was entered manually and no test has "
                "passed since."
            ),
            acts=(Act("test", "Test it"),),
        )


def missing(key: str, label: str, provider: str, caller: str, why: str, *acts: Act) -> Pin:
    """A pin of which one side, or both, has no value."""
    return Pin(key, label, Fit.MISSING, provider or "—", caller or "—", why, acts=acts)


def unwritten(key: str, label: str, caller: str, why: str, *acts: Act) -> Pin:
    """A pin whose provider's half nobody has noted here."""
    return Pin(key, label, Fit.MISSING, "—", caller or "—", why, acts=acts, unwritten=True)


def differs(
    key: str, label: str, provider: str, caller: str, why: str, *acts: Act, marked: bool = True
) -> Pin:
    """A pin whose sides do not agree, with the difference marked."""
    return Pin(
        key,
        label,
        Fit.DIFFERS,
        provider,
        caller,
        why,
        mark(provider, caller) if marked else None,
        acts,
    )


def not_known(key: str, label: str, caller: str) -> Pin:
    """The pin while no client registration is named."""
    return unwritten(
        key,
        label,
        caller,
        "No client registration is named for this connection yet.",
        Act("choose_client", "Name the client"),
    )
