"""What tells one OAuth application from another: its scopes, accounts, operations and
peculiarities.
"""

from __future__ import annotations

from dataclasses import dataclass, field

Alternatives = list[list[str]]
JWT_GRANT = "urn:ietf:params:oauth:grant-type:jwt-bearer"


@dataclass(frozen=True)
class About:
    """An application.

    ``rotates``: each renewal gives a new refresh token; ``wants_old_access``: renewing wants the
    old access token too; ``switch``: a firm-wide switch must be on before people can be sent to
    sign in; ``spread``: seconds until a new secret is known everywhere; ``tenant``: stands in every
    address. ``things`` are what its API keeps: the name of the list, of the number, and of the
    fields that are wanted.
    """

    key: str
    name: str
    short: str
    scopes: dict[str, str]
    admin_scopes: frozenset[str]
    accounts: dict[str, str]
    office: str
    operations: dict[tuple[str, str], tuple[str, Alternatives]]
    things: str
    wanted: tuple[str, ...]
    grants: tuple[str, ...] = ("authorization_code", "refresh_token", "client_credentials")
    methods: tuple[str, ...] = ("client_secret_basic", "client_secret_post", "none")
    rotates: bool = True
    wants_old_access: bool = False
    switch: str = ""
    spread: float = 0.0
    tenant: str = ""
    registers: tuple[str, ...] = ("sandbox", "production")
    rest: dict[str, list[dict[str, str]]] = field(default_factory=dict)
    access_life: int = 900
    style: str = "Georgia,serif"


CARGO = About(
    "cargo",
    "Cargo manifests",
    "cargo",
    {
        "manifest.read": "See manifests",
        "manifest.write": "Enter, change and withdraw manifests",
        "berth.read": "See which berth a ship has",
        "customs.file": "File a manifest with customs",
    },
    frozenset({"manifest.write", "customs.file"}),
    {
        "svc-manifests@gannet.example": "Manifests service account",
        "m.orr@gannet.example": "Morag Orr",
    },
    "harbour.office@cargo.example",
    {
        ("get", "/manifests"): ("List the manifests", [["manifest.read"], ["manifest.write"]]),
        ("put", "/manifests/{number}"): ("Enter or change a manifest", [["manifest.write"]]),
        ("delete", "/manifests/{number}"): ("Withdraw a manifest", [["manifest.write"]]),
        ("get", "/berths"): ("List the berths", [["berth.read"]]),
        ("post", "/manifests/{number}/customs"): (
            "File a manifest with customs",
            [["customs.file", "manifest.read"]],
        ),
    },
    "manifests",
    ("ship", "sailing"),
    rest={
        "berths": [
            {"berth": "North quay 2", "ship": "Gannet Sound"},
            {"berth": "South slip", "ship": "Little Auk"},
        ]
    },
)
RETURNS = About(
    "returns",
    "Harbour returns",
    "returns",
    {"returns.read": "See returns", "returns.file": "File and withdraw returns"},
    frozenset({"returns.file"}),
    {
        "svc-returns@gannet.example": "Returns service account",
        "i.rendall@gannet.example": "Isla Rendall",
    },
    "registrar@returns.example",
    {
        ("get", "/returns"): ("List the returns", [["returns.read"], ["returns.file"]]),
        ("put", "/returns/{number}"): ("File a return", [["returns.file"]]),
        ("delete", "/returns/{number}"): ("Withdraw a return", [["returns.file"]]),
    },
    "returns",
    ("port", "month"),
    rotates=False,
    switch="Programs of other firms may sign people in",
    tenant="4471",
    registers=(),
    style="Verdana,sans-serif",
)
FUEL = About(
    "fuel",
    "Fuel ledger",
    "fuel",
    {"ledger.read": "See the fuel ledger", "ledger.write": "Book and cancel bunkering"},
    frozenset(),
    {
        "svc-fuel@gannet.example": "Fuel service account",
        "r.oake@gannet.example": "Rowan Oake",
        "e.tait@gannet.example": "Ewan Tait",
    },
    "bunkers@fuel.example",
    {
        ("get", "/entries"): ("List the entries", [["ledger.read"], ["ledger.write"]]),
        ("put", "/entries/{number}"): ("Book an entry", [["ledger.write"]]),
        ("delete", "/entries/{number}"): ("Cancel an entry", [["ledger.write"]]),
    },
    "entries",
    ("vessel", "litres"),
    wants_old_access=True,
    style="'Courier New',monospace",
)
BERTHS = About(
    "berths",
    "Berth booking",
    "berth",
    {"berths.read": "See bookings", "berths.book": "Book and cancel berths"},
    frozenset({"berths.book"}),
    {},
    "berth.master@berths.example",
    {
        ("get", "/bookings"): ("List the bookings", [["berths.read"], ["berths.book"]]),
        ("put", "/bookings/{number}"): ("Book a berth", [["berths.book"]]),
        ("delete", "/bookings/{number}"): ("Cancel a booking", [["berths.book"]]),
    },
    "bookings",
    ("ship", "quay"),
    grants=("client_credentials",),
    methods=("client_secret_post",),
    spread=1.5,
    registers=("sandbox", "staging", "production"),
    style="'Trebuchet MS',sans-serif",
)
PAYROLL = About(
    "payroll",
    "Payroll export",
    "pay",
    {"payroll.read": "See what was exported", "payroll.export": "Send and withdraw exports"},
    frozenset(),
    {"svc-payroll@gannet.example": "Payroll service account"},
    "paymaster@payroll.example",
    {
        ("get", "/exports"): ("List the exports", [["payroll.read"], ["payroll.export"]]),
        ("put", "/exports/{number}"): ("Send an export", [["payroll.export"]]),
        ("delete", "/exports/{number}"): ("Withdraw an export", [["payroll.export"]]),
    },
    "exports",
    ("month", "crew"),
    grants=(JWT_GRANT,),
    methods=("none",),
    registers=(),
    style="Palatino,serif",
)
ALL = {item.key: item for item in (CARGO, RETURNS, FUEL, BERTHS, PAYROLL)}
