"""The settings that come from the environment, each with its meaning: what the page of settings
shows, and what ``docs/running.md`` lists.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Setting:
    """A variable of the environment; ``usual`` is what holds where it is not set; of a ``secret``
    only whether it is set may be told.
    """

    name: str
    meaning: str
    usual: str
    secret: bool = False


SETTINGS = (
    Setting("NEATLATCH_HOME", "folder of the database, the queue and the key files", "`var/desk`"),
    Setting(
        "NEATLATCH_URL",
        "the address people open; `/return` below it is where providers send people back. https, "
        "unless it is a loopback address",
        "`http://127.0.0.1:8600`",
    ),
    Setting("NEATLATCH_HOSTS", "more host names to answer to", "none"),
    Setting(
        "NEATLATCH_TRUST",
        "a PEM file of certificate authorities to trust beside the machine's own",
        "none",
    ),
    Setting(
        "NEATLATCH_ALLOWED_RANGES",
        "private ranges that may be called, comma-separated (`10.0.0.0/8`)",
        "none: public addresses only",
    ),
    Setting(
        "NEATLATCH_OUTGOING",
        "the addresses that our calls come from, as providers see them, for their allow-lists",
        "none known",
    ),
    Setting(
        "NEATLATCH_ROUND_MINUTES",
        "minutes between rounds, and between two looks at whether a refresh token lives; 0: no "
        "round begins by schedule",
        "5",
    ),
    Setting(
        "NEATLATCH_BACKUPS",
        "a folder for backups by schedule, best on another disk; each is restored on trial, "
        "without its keys",
        "none: no backups by schedule",
    ),
    Setting("NEATLATCH_BACKUP_HOURS", "hours between backups by schedule", "24"),
    Setting("NEATLATCH_BACKUPS_KEPT", "copies that are kept in that folder", "14"),
    Setting(
        "NEATLATCH_REDIS",
        "a Redis URL, to keep the queue there",
        "the queue is a SQLite file",
        secret=True,  # such an address may hold a password
    ),
    Setting(
        "NEATLATCH_DRAW_THREADS",
        "threads for relayed requests and for draws that are not on the fast path; further "
        "requests queue",
        "16",
    ),
    Setting("NEATLATCH_FIRM", "the organization named in certificates of the house", "`The house`"),
    Setting(
        "NEATLATCH_PROXY",
        "addresses or networks of proxies in front of the desk, whose statements about callers "
        "are trusted",
        "none: nobody's does",
    ),
    Setting(
        "NEATLATCH_PROXY_SECRET",
        "what such a proxy sends as `Neat-Latch-Proxy` where it tells certificates; 32 characters "
        "or more",
        "none",
        secret=True,
    ),
    Setting("NEATLATCH_HEADER_SECONDS", "seconds for a request's header to arrive", "20"),
    Setting("NEATLATCH_BODY_SECONDS", "seconds from there to the end of its body", "60"),
    Setting(
        "NEATLATCH_PROXY_TELLS_CERTIFICATE",
        "`yes`: a proxy in front terminates TLS and passes the client's certificate on in "
        "`Client-Cert` (RFC 9440), after removing what callers sent. Requires the two above",
        "no",
    ),
    Setting("NEATLATCH_LOG", "log level", "INFO"),
)


@dataclass(frozen=True)
class SettingReport:
    """A setting as it holds now; ``value`` of a secret is empty; ``is_set``: it comes from the
    environment, or from an option of the command, which sets it there.
    """

    setting: Setting
    value: str
    is_set: bool


def every_setting(environment: Mapping[str, str] = os.environ) -> list[SettingReport]:
    """Every setting with what holds now."""
    found = []
    for setting in SETTINGS:
        value = environment.get(setting.name, "")
        found.append(
            SettingReport(
                setting, "" if setting.secret else value or _bare(setting.usual), bool(value)
            )
        )
    return found


def _bare(text: str) -> str:
    return text.replace("`", "")
