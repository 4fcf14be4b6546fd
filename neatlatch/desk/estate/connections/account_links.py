"""Signed links that ask a person to connect an account of their own, and where they go on to."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta

from neatlatch.core.authority.refusing import with_query
from neatlatch.desk.estate.records.connections.models import Account
from neatlatch.desk.ground.common import links
from neatlatch.desk.ground.common.problems import Problem, wrong_fields

_KIND = "connect"
# A link of a program is for a person who is there and waits.
LIFE = timedelta(minutes=15)
# Characters of the address that somebody goes on to.
_LONGEST = 1_000


@dataclass(frozen=True)
class AccountLink:
    """What a link says."""

    # The key of who was asked for which connection.
    account: int
    # Where the person goes on to afterwards; empty: nowhere.
    back: str = ""
    # When it ends, in seconds since 1970; 0: when the person is asked no more.
    ends: int = 0

    def goes_on_to(self, connected: bool) -> str:
        """Return the address with what came of it; empty: there is none."""
        said = {"connected": "yes" if connected else "no"}
        return with_query(self.back, said) if self.back else ""


def address(account: Account) -> str:
    """Return the address to send to somebody who was asked."""
    return links.address(_KIND, account.pk)


def address_with_return(account: Account, back: str, state: str, now: datetime) -> str:
    """Return the address that a program sends somebody to, who goes on to ``back`` with
    ``connected`` and ``state`` in its query. Raises a field error where that is too long.
    """
    on = with_query(back, {"state": state}) if state else back
    if len(on) > _LONGEST:
        raise wrong_fields({"state": "It is too long for an address. Send a short one."})
    link = AccountLink(account.pk, on, int((now + LIFE).timestamp()))
    return links.address(_KIND, json.dumps(asdict(link), separators=(",", ":")))


def opened(token: str, now: datetime) -> AccountLink:
    """Return what a link says. Raises a 404 for one that is not ours, a 410 for one that ended."""
    text = links.opened(_KIND, token)
    link = AccountLink(**json.loads(text)) if text.startswith("{") else AccountLink(int(text))
    if link.ends and now.timestamp() >= link.ends:
        raise Problem(
            410,
            "This link has ended.",
            "It serves for fifteen minutes. Begin again where you came from.",
            code="link-ended",
        )
    return link
