"""Which desk a command asks, and by what it says who asks."""

from __future__ import annotations

import argparse
import os

import httpx

from neatlatch.client import NoKey, Settings
from neatlatch.client.settings import DEFAULT_URL

from . import log_ins
from .desk import Desk


class GivenToken:
    """A token that was given."""

    def __init__(self, text: str) -> None:
        self._text = text

    def token(self) -> str:
        """Return it."""
        return self._text


def url_of(arguments: argparse.Namespace) -> str:
    """Return the desk's address."""
    told = getattr(arguments, "desk_url", "") or os.environ.get("NLATCH_URL", "")
    return (told or log_ins.only_url() or DEFAULT_URL).rstrip("/")


def settings_of(arguments: argparse.Namespace) -> Settings:
    """Return how the desk is reached, without who asks."""
    return Settings(
        url=url_of(arguments),
        ca=getattr(arguments, "ca", "") or _env("NLATCH_CA"),
        plain_http=_env("NLATCH_PLAIN_HTTP"),
    )


def _env(name: str) -> str:
    return os.environ.get(name, "")


def _token_of(arguments: argparse.Namespace) -> str:
    """Return the token that was given; empty where none was. Raises :class:`NoKey`."""
    file = str(getattr(arguments, "token_file", "") or "")
    if not file and _env("NLATCH_TOKEN"):
        return _checked(Settings(key=_env("NLATCH_TOKEN").strip()))
    file = file or _env("NLATCH_TOKEN_FILE")
    if not file:
        return ""
    return _checked(Settings(key_file=file))


def _checked(settings: Settings) -> str:
    """Return a token that can be sent. Raises :class:`NoKey`."""
    try:
        return settings.headers()["Authorization"].removeprefix("Bearer ")
    except NoKey as error:
        raise NoKey(error.title, "It should hold a program's token and nothing else.") from error


def is_remote(arguments: argparse.Namespace) -> bool:
    """Whether a command that can do both asks a desk by its API: where an address or a token is
    given, or somebody is logged in.
    """
    if hasattr(arguments, "desk_url") or hasattr(arguments, "token_file"):
        return True
    if any(_env(name) for name in ("NLATCH_TOKEN", "NLATCH_TOKEN_FILE")):
        return True
    return not _env("NEATLATCH_HOME") and log_ins.find(url_of(arguments)) is not None


def desk_of(arguments: argparse.Namespace) -> Desk:
    """Return the desk that a command asks. Raises :class:`NoKey` where nothing says who asks."""
    settings = settings_of(arguments)
    tls, token = settings.tls(), _token_of(arguments)
    if token:
        return Desk(settings.url, GivenToken(token), tls)
    if log_ins.find(settings.url) is None:
        raise NoKey(
            f"Nothing says who asks {settings.url}.",
            "Give --token-file with a program's token, or log in: nlatch login.",
        )
    web = httpx.Client(verify=tls, timeout=30)
    return Desk(settings.url, log_ins.LoggedIn(settings.url, web), tls)
