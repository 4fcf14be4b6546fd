"""What follows from a change of a profile, or of addresses, in rooms that applications know nothing
of.

Working out what follows may take long, so it is done before the transaction that saves the change.
"""

from __future__ import annotations

from collections.abc import Callable

from neatlatch.core.profiles import Profile
from neatlatch.desk.estate.records.applications.models import Application, Deployment

# Saves what follows, as part of the surrounding transaction.
Save = Callable[[], None]
Follow = Callable[[Application, Profile, Profile], Save]
_FOLLOWERS: list[Follow] = []
# Keeps what has to be known of an application in an environment before its addresses change.
Keep = Callable[[Deployment], None]
_KEEPERS: list[Keep] = []


def follows(work_out: Follow) -> Follow:
    """Have something worked out whenever a profile is about to change from one to another."""
    _FOLLOWERS.append(work_out)
    return work_out


def of_change(application: Application, after: Profile) -> list[Save]:
    """Work out all that follows from giving an application this profile; nothing from the one it
    has.
    """
    before = application.read_profile()
    return (
        [] if after == before else [work_out(application, before, after) for work_out in _FOLLOWERS]
    )


def keeps(keep: Keep) -> Keep:
    """Have something kept whenever an application's addresses are about to change."""
    _KEEPERS.append(keep)
    return keep


def before_addresses(deployment: Deployment) -> None:
    """Keep what has to be known of the addresses that an application has now, as part of the
    surrounding transaction that changes them."""
    for keep in _KEEPERS:
        keep(deployment)
