"""The authentication schemes: which values each needs, which of them are secret, and what is asked
of the provider's side.

A *kind* is one of the standards' schemes. A profile's scheme is a kind with the profile's own
words: where a value is found, which header a key travels in, which further endpoints there are.
Forms, checks and tests are made from it; nothing is known of any application.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

CODE, CLIENT, JWT, OAUTH1 = "oauth2_code", "oauth2_client", "oauth2_jwt", "oauth1"
API_KEY, PAIR, STREAM, BASIC, BEARER, CERTIFICATE = (
    "api_key",
    "key_pair",
    "stream",
    "basic",
    "bearer",
    "certificate",
)
# The value by which calls that the application sends to us are checked. It is never sent.
SIGNING_SECRET = "signing_secret"
JWT_GRANT = "urn:ietf:params:oauth:grant-type:jwt-bearer"
# Kinds that get tokens from a token endpoint; those of them that a client is registered for
# (RFC 7591); and what our own authority can issue for.
OAUTH2 = (CODE, CLIENT, JWT)
REGISTERED = (CODE, CLIENT)
HOUSE_ISSUES = (*REGISTERED, BEARER, CERTIFICATE)
ValueType = Literal["address", "text", "secret", "choice", "scopes", "certificate", "key", "host"]


@dataclass(frozen=True)
class Value:
    """One value a caller must give: how it is called, what it is, and where in the application's
    own screens it is found.
    """

    key: str
    label: str
    type: ValueType
    help: str
    where: str = ""
    required: bool = True
    secret: bool = False
    pattern: str = ""
    choices: tuple[str, ...] = ()
    example: str = ""


@dataclass(frozen=True)
class ManualAct:
    """One act in the application's own screens, as a profile words it.

    ``copy`` is what is copied there; ``{name}``, ``{redirect_uri}``, ``{scopes}``, ``{consents}``,
    ``{rights}``, ``{thumbprint}`` and the slots of the profile are filled in.
    """

    says: str
    copy: str = ""


@dataclass(frozen=True)
class Endpoint:
    """A further endpoint of a connection, with a credential of its own.

    Its values have the endpoint's key before theirs: ``register.password``.
    """

    key: str
    label: str
    kind: str
    harmless: str = ""
    values: tuple[Value, ...] = ()
    settings: Mapping[str, str] = field(default_factory=dict)

    def own(self, values: Mapping[str, str]) -> dict[str, str]:
        """Return those of a connection's values that are this endpoint's, by their keys without its
        own.
        """
        start = f"{self.key}."
        return {
            key.removeprefix(start): value for key, value in values.items() if key.startswith(start)
        }


@dataclass(frozen=True)
class Scheme:
    """One authentication scheme. Its key is its kind: an application offers each kind once.

    ``settings`` is what the application fixes: ``placement`` (header, query, cookie) and ``name``
    of an API key, ``id_header`` and ``secret_header`` of a pair, ``signature_method`` (OAuth 1.0a),
    ``renews_with`` (access: the old access token is required to renew). ``switches`` are firm-wide
    ones that must be on before it works. ``further`` are values that belong to the application,
    whichever scheme is taken.
    """

    key: str
    label: str
    grant: str
    values: tuple[Value, ...]
    settings: Mapping[str, str] = field(default_factory=dict)
    switches: tuple[str, ...] = ()
    acts: tuple[ManualAct, ...] = ()
    endpoints: tuple[Endpoint, ...] = ()
    further: tuple[Value, ...] = ()

    @property
    def registers(self) -> bool:
        """Whether a client is registered for it (RFC 7591)."""
        return self.key in REGISTERED

    @property
    def signs_in(self) -> bool:
        """Whether people, or a service account, sign in at the application."""
        return self.key == CODE

    @property
    def grants(self) -> tuple[str, ...]:
        """The grants that a client for it is registered with."""
        return (self.grant, "refresh_token") if self.signs_in else (self.grant,)

    @property
    def house_issues(self) -> bool:
        """Whether the house authority can issue credentials of this scheme."""
        return self.key in HOUSE_ISSUES

    def all_values(self) -> tuple[Value, ...]:
        """The scheme's own values, those of its further endpoints, and the application's."""
        of_endpoints = tuple(
            value for known_endpoint in self.endpoints for value in known_endpoint.values
        )
        return self.values + of_endpoints + self.further

    def value(self, key: str) -> Value | None:
        """A value by its key."""
        return next((value for value in self.all_values() if value.key == key), None)

    def secrets(self) -> tuple[Value, ...]:
        """The values that are secret, in their order; the first is the one people mean by “the
        secret”.
        """
        return tuple(value for value in self.all_values() if value.secret)

    def sent_secrets(self) -> tuple[Value, ...]:
        """The secrets that requests are made with: all but :data:`SIGNING_SECRET`."""
        return tuple(value for value in self.secrets() if value.key != SIGNING_SECRET)

    def identities(self) -> tuple[Value, ...]:
        """The values by which the application knows us, beside an OAuth 2.0 client ID."""
        return tuple(
            value for value in self.all_values() if value.key.rpartition(".")[2] in _IDENTITIES
        )

    def name_of(self, secret: str) -> Value | None:
        """The value by which the application knows a secret: the ID of a pair, the user name of a
        password. A new one may come with another name.
        """
        prefix, _, bare = secret.rpartition(".")
        name = _NAMES_OF.get(bare, "")
        return self.value(f"{prefix}.{name}" if prefix else name) if name else None

    def addresses(self) -> tuple[Value, ...]:
        """The addresses we call or send people to. A redirect URI is ours and not one of them."""
        return tuple(
            value
            for value in self.all_values()
            if value.type in ("address", "host")
            and value.key not in ("redirect_uri", "issuer", "audience")
        )


_NAMES_OF = {
    "key_secret": "key_id",
    "password": "username",
    "token_secret": "token_id",
    "client_secret": "client_key",
}
_IDENTITIES = ("client_key", "token_id", "key_id", "username")
_ISSUER = Value(
    "issuer", "Issuer", "address", "The name of their sign-in server, as its metadata gives it."
)
_TOKEN = Value(
    "token_endpoint",
    "Token endpoint",
    "address",
    "Where codes, secrets and refresh tokens are traded for access tokens.",
)
_AUTHORIZE = Value(
    "authorization_endpoint",
    "Authorization endpoint",
    "address",
    "Where people are sent to sign in.",
)
_API = Value("api_base", "API base address", "address", "What every operation's path is added to.")
_CLIENT_ID = Value(
    "client_id",
    "Client ID",
    "text",
    "The name they gave our client. It is not secret, and not the ID of the secret.",
)
_SECRET = Value(
    "client_secret",
    "Client secret",
    "secret",
    "Shown once when it is made. Its value, not its ID.",
    secret=True,
)
_METHOD = Value(
    "client_sign_in",
    "Client sign-in",
    "choice",
    "How the client proves itself at the token endpoint (RFC 6749 §2.3).",
    choices=("client_secret_basic", "client_secret_post", "none"),
)
_REDIRECT = Value(
    "redirect_uri",
    "Redirect URI",
    "address",
    "Where people come back to. It must be registered there, character by character.",
)
_SCOPES = Value("scopes", "Scopes", "scopes", "What we ask to be allowed to do.", required=False)
_ACCOUNT = Value(
    "account",
    "Expected account",
    "text",
    "The account that must sign in, usually a service account.",
    required=False,
)
_CERTIFICATE = Value(
    "certificate",
    "Certificate",
    "certificate",
    "Ours, with its chain, in PEM. They know us by it; it is not secret.",
)
_PRIVATE_KEY = Value(
    "private_key",
    "Private key",
    "key",
    "The key that belongs to the certificate. It never leaves the safe.",
    secret=True,
)
_KEY_ID = Value("key_id", "Key ID", "text", "Names the key. It is not the key's secret.")
_KEY_SECRET = Value(
    "key_secret", "Key secret", "secret", "Shown once when the key is made.", secret=True
)
_USERNAME = Value("username", "User name", "text", "The account's name there.")
_PASSWORD = Value("password", "Password", "secret", "The account's password.", secret=True)
_BEARER_TOKEN = Value(
    "token", "Token", "secret", "Shown once when it is made; sent with every call.", secret=True
)
_API_KEY_VALUE = Value(
    "api_key", "API key", "secret", "Shown once when it is made; sent with every call.", secret=True
)

KINDS: dict[str, Scheme] = {
    scheme.key: scheme
    for scheme in (
        Scheme(
            CODE,
            "OAuth 2.0, a person or service account signs in",
            "authorization_code",
            (
                _ISSUER,
                _AUTHORIZE,
                _TOKEN,
                _API,
                _CLIENT_ID,
                _SECRET,
                _METHOD,
                _REDIRECT,
                _SCOPES,
                _ACCOUNT,
            ),
        ),
        Scheme(
            CLIENT,
            "OAuth 2.0, the client signs in by itself",
            "client_credentials",
            (_ISSUER, _TOKEN, _API, _CLIENT_ID, _SECRET, _METHOD, _SCOPES),
        ),
        Scheme(
            JWT,
            "OAuth 2.0, the client signs an assertion with its certificate's key",
            JWT_GRANT,
            (
                _ISSUER,
                _TOKEN,
                _API,
                _CLIENT_ID,
                Value(
                    "account",
                    "Account",
                    "text",
                    "Whom the token is for (sub); usually a service account.",
                    required=False,
                ),
                Value(
                    "audience",
                    "Audience",
                    "text",
                    (
                        "Whom the assertion is for (aud): their token endpoint or their issuer, "
                        "as they say."
                    ),
                ),
                _CERTIFICATE,
                _PRIVATE_KEY,
                _SCOPES,
            ),
        ),
        Scheme(
            OAUTH1,
            "OAuth 1.0a, four values",
            "",
            (
                _API,
                Value(
                    "client_key",
                    "Client key",
                    "text",
                    "Names our program there; some call it the consumer key.",
                ),
                Value(
                    "client_secret",
                    "Client secret",
                    "secret",
                    "Belongs to the client key.",
                    secret=True,
                ),
                Value("token_id", "Token", "text", "Names what an account allowed our program."),
                Value(
                    "token_secret", "Token secret", "secret", "Belongs to the token.", secret=True
                ),
            ),
        ),
        Scheme(
            API_KEY,
            "API key",
            "",
            (_API, _API_KEY_VALUE),
            {"placement": "header", "name": "X-Api-Key"},
        ),
        Scheme(
            PAIR,
            "Key and secret",
            "",
            (_API, _KEY_ID, _KEY_SECRET),
            {"id_header": "X-Key-Id", "secret_header": "X-Key-Secret"},
        ),
        Scheme(
            STREAM,
            "Stream, signed in to with key and secret",
            "",
            (
                Value(
                    "stream_address",
                    "Stream address",
                    "host",
                    "Host and port of the stream; it speaks TLS.",
                    example="positions.example:9443",
                ),
                _KEY_ID,
                _KEY_SECRET,
            ),
        ),
        Scheme(BASIC, "User name and password (HTTP Basic)", "", (_API, _USERNAME, _PASSWORD)),
        Scheme(BEARER, "Bearer token that was made manually", "", (_API, _BEARER_TOKEN)),
        Scheme(CERTIFICATE, "Client certificate (TLS)", "", (_API, _CERTIFICATE, _PRIVATE_KEY)),
    )
}
# What a further endpoint may speak, and the values it then wants.
ENDPOINT_KINDS = (API_KEY, PAIR, BASIC, BEARER)


def with_directions(scheme: Scheme, where: Mapping[str, str]) -> Scheme:
    """A scheme whose values say where in the application's own screens they are found."""
    return replace(
        scheme,
        values=tuple(
            replace(value, where=where.get(value.key, value.where)) for value in scheme.values
        ),
    )


def lower(label: str) -> str:
    """A label inside a sentence: its first letter small, unless it begins with an abbreviation."""
    return label if label[1:2].isupper() else label[:1].lower() + label[1:]


def endpoint(
    key: str,
    label: str,
    kind: str,
    harmless: str = "",
    where: Mapping[str, str] | None = None,
    settings: Mapping[str, str] | None = None,
) -> Endpoint:
    """A further endpoint of a kind, its values named after it.

    Raises ``KeyError`` for a kind that an endpoint cannot be of.
    """
    if kind not in ENDPOINT_KINDS:
        raise KeyError(kind)
    base = with_directions(KINDS[kind], where or {})
    values = tuple(
        replace(value, key=f"{key}.{value.key}", label=f"{value.label} of the {lower(label)}")
        for value in base.values
    )
    return Endpoint(key, label, kind, harmless, values, {**base.settings, **(settings or {})})


@dataclass(frozen=True)
class IssuableKind:
    """A kind of credential that a caller can be issued: by whom, what it is, and for which kind of
    scheme (empty: the client's grants decide)."""

    by: Literal["house", "application"]
    what: Literal["client", "key", "certificate"]
    kind: str = ""


def issuings(schemes: Iterable[Scheme], house: bool) -> tuple[IssuableKind, ...]:
    """What a caller of an application can be issued, what is usual first; ``house``: the
    application accepts what our own authority issues. What else it wants is prepared with a
    connection.
    """
    kinds = {scheme.key for scheme in schemes}
    takes = any(kind in REGISTERED for kind in kinds)
    own = (
        IssuableKind("house", "client"),
        IssuableKind("house", "key", BEARER),
        IssuableKind("house", "certificate", CERTIFICATE),
    )
    usual = "client" if takes else "certificate" if CERTIFICATE in kinds else "key"
    by_house = sorted(own, key=lambda issuing: issuing.what != usual) if house else []
    return (*by_house, *([IssuableKind("application", "client")] if takes else []))
