"""Account: the one that signed in is the one expected; a service account where the environment
demands it.
"""

from __future__ import annotations

from collections import Counter

from neatlatch.core.names import other_account

from .base import Act, Fit, Halves, PersonalAccount, Pin, differs, not_known

KEY, LABEL = "account", "signed-in account"
_WHOSE = "account"


def pin(halves: Halves) -> Pin:
    """At sign-in people pick the wrong one of their accounts (common practice, no source)."""
    if halves.caller.individual is not None:
        return _individual(halves, halves.caller.individual)
    expected = halves.caller.account
    actual = halves.caller.signed_in_as
    again = Act("sign_in", "Sign in again" if halves.caller.signed_in_at else "Sign in")
    shown = expected or (
        "service account expected"
        if halves.caller.environment_wants_service_account
        else "any account"
    )
    if halves.caller.signed_in_at is None:
        return Pin(
            KEY,
            LABEL,
            Fit.MISSING,
            shown,
            "nobody yet",
            "Nobody has signed in yet, so there is no token.",
            acts=(again,),
        )
    if not actual:
        return Pin(
            KEY,
            LABEL,
            Fit.NOT_PROVEN if expected else Fit.FITS,
            shown,
            "not reported",
            "The application does not say who signed in.",
            acts=(again,) if expected else (),
        )
    if other_account(expected, actual):
        return differs(
            KEY,
            LABEL,
            expected,
            actual,
            (
                f"{actual} signed in; {expected} was expected. Pick that account at their "
                f"sign-in page."
            ),
            again,
            marked=False,
        )
    if (
        not expected
        and halves.caller.environment_wants_service_account
        and not looks_like_service(actual)
    ):
        return differs(
            KEY,
            LABEL,
            shown,
            actual,
            f"{halves.caller.environment} requires a service account, and {actual} looks like "
            f"a person's. "
            "Name the expected account if it is one.",
            again,
            Act("expect_account", f"{actual} is right", actual),
            marked=False,
        )
    return Pin(
        KEY,
        LABEL,
        Fit.FITS,
        shown,
        actual,
        "The expected account signed in." if expected else "Any account may sign in here.",
    )


def _individual(halves: Halves, people: tuple[PersonalAccount, ...]) -> Pin:
    """Each person their own: each with the account that is theirs, and nobody who left still has
    one.
    """
    shown = f"each their own, {len(people)} {'person' if len(people) == 1 else 'people'}"
    have = [person for person in people if person.connected_at is not None]
    ours = f"{len(have)} connected"
    see = Act("see_accounts", "See who has and who has not")
    if not have:
        return Pin(
            KEY,
            LABEL,
            Fit.MISSING,
            shown,
            ours,
            "Nobody has connected an account yet.",
            acts=(see,),
        )
    if gone := [account.person for account in have if account.left]:
        theirs = "their account is" if len(gone) == 1 else "their accounts are"
        return differs(
            KEY,
            LABEL,
            shown,
            ours,
            f"{_joined(gone)} left, and {theirs} still connected.",
            see,
            marked=False,
        )
    for account in have:
        if other_account(account.expected, account.account):
            return differs(
                KEY,
                LABEL,
                account.expected,
                account.account,
                f"{account.person} connected {account.account}; {account.expected} was expected.",
                see,
                marked=False,
            )
    accounts = Counter(account.account.casefold() for account in have if account.account)
    if twice := next(
        (
            account
            for account in have
            if account.account and accounts[account.account.casefold()] > 1
        ),
        None,
    ):
        return differs(
            KEY,
            LABEL,
            shown,
            twice.account,
            f"{twice.account} is connected for more than one person.",
            see,
            marked=False,
        )
    if over := [
        account.person
        for account in have
        if not account.renews and account.ends is not None and account.ends <= halves.now
    ]:
        return differs(
            KEY,
            LABEL,
            shown,
            ours,
            f"The tokens of {_joined(over)} expired and cannot be renewed. They sign in again.",
            see,
            marked=False,
        )
    waiting = len(people) - len(have)
    why = (
        f"{waiting} of {len(people)} have not connected yet; for them it does not work."
        if waiting
        else "Everybody has connected an account of their own."
    )
    return Pin(KEY, LABEL, Fit.FITS, shown, ours, why, acts=(see,) if waiting else ())


def _joined(names: list[str]) -> str:
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else "".join(names)


def pins(halves: Halves) -> tuple[Pin, ...]:
    """The account whose key, token or password it is.

    A personal account is borrowed where a service account belongs, and leaves with the person
    (common practice, no source).
    """
    theirs, kind = halves.provider.account, halves.provider.account_kind
    if not halves.provider.known:
        return (not_known(KEY, _WHOSE, "—"),)
    ours = "a service account" if halves.caller.environment_wants_service_account else "any account"
    if not theirs:
        if not halves.caller.environment_wants_service_account:
            return (
                Pin(
                    KEY,
                    _WHOSE,
                    Fit.NOT_ASKED,
                    "not recorded",
                    ours,
                    "Any account may be used here, and none is recorded.",
                ),
            )
        return (
            Pin(
                KEY,
                _WHOSE,
                Fit.MISSING,
                "—",
                ours,
                "Whose account it is has not been recorded; a service account is required here.",
                acts=(Act("open_client", "Record the account"),),
                unwritten=True,
            ),
        )
    person = kind == "person" or (kind != "service" and not looks_like_service(theirs))
    if person and halves.caller.environment_wants_service_account:
        return (
            Pin(
                KEY,
                _WHOSE,
                Fit.DIFFERS,
                theirs,
                ours,
                (
                    f"{theirs} is a person's, and {halves.caller.environment} requires a service "
                    f"account: a person's account leaves with the person."
                ),
                acts=(Act("open_client", "Name a service account"),),
            ),
        )
    return (
        halves.agreed(
            KEY,
            _WHOSE,
            theirs,
            ours,
            "A service account." if not person else "Any account may be used here.",
        ),
    )


def looks_like_service(account: str) -> bool:
    """Whether an account's name says that it is a service account (common practice, no source)."""
    name = account.split("@")[0].lower()
    return any(
        part in ("svc", "service", "robot", "bot", "job", "system", "app")
        for part in name.replace("_", "-").replace(".", "-").split("-")
    )
