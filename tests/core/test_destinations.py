"""Where a secret goes: origins (RFC 6454 section 4), compared with those of a library."""

from __future__ import annotations

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import destinations
from neatlatch.core.schemes import BASIC, CODE, KINDS, endpoint


@pytest.mark.parametrize(
    ("text", "other", "same"),
    [
        # RFC 6454 section 4, its examples of the same and of different origins
        ("http://example.com/", "http://example.com:80/", True),
        ("http://example.com/", "http://example.com/path/file", True),
        ("http://example.com/", "http://example.com:8080/", False),
        ("http://example.com/", "http://www.example.com/", False),
        ("https://example.com:80/", "http://example.com/", False),
        ("https://example.com/", "https://example.com:443/", True),
        ("HTTPS://Example.COM", "https://example.com", True),
    ],
)
def test_the_examples_of_the_standard(text: str, other: str, same: bool) -> None:
    assert (destinations.origin(text) == destinations.origin(other)) is same


@pytest.mark.parametrize(
    "text",
    [
        "",
        "example.com",
        "ftp://example.com/",
        "https://",
        "https://:443",
        "https://a:port/",
        "https://bücher.example",
        "https://a:999999",
    ],
)
def test_what_cannot_be_called_has_none(text: str) -> None:
    assert destinations.origin(text) == ""


hosts = st.one_of(
    st.from_regex(r"[a-z0-9]([a-z0-9-]{0,8}[a-z0-9])?(\.[a-z]{2,5}){0,2}", fullmatch=True),
    st.ip_addresses(v=4).map(str),
    st.ip_addresses(v=6).map(lambda item: f"[{item}]"),
)


@given(
    st.sampled_from(["http", "https"]),
    hosts,
    st.none() | st.integers(1, 65535),
    st.text("abc/?#@:", max_size=8),
)
def test_as_the_library_that_sends_sees_it(
    scheme: str, host: str, port: int | None, rest: str
) -> None:
    """What is cleared when it is saved is what is looked at when it is sent: two readers of an
    address must not differ.
    """
    address = f"{scheme}://{host}{f':{port}' if port else ''}/{rest}"
    there = httpx.URL(address)
    seen = destinations.origin_of(
        there.scheme,
        there.raw_host.decode("ascii"),
        there.port or {"http": 80, "https": 443}[there.scheme],
    )
    assert destinations.origin(address) == seen


def test_a_secret_of_a_further_endpoint_goes_there_alone() -> None:
    from dataclasses import replace

    scheme = replace(KINDS[CODE], endpoints=(endpoint("register", "Register", BASIC),))
    values = {
        "api_base": "https://api.example",
        "token_endpoint": "https://ids.example/token",
        "authorization_endpoint": "https://people.example",
        "register.api_base": "https://register.example:8443/x",
        "redirect_uri": "https://ours.example",
    }
    assert destinations.of_secret(scheme, "register.password", values) == {
        "https://register.example:8443"
    }
    both = {"https://api.example:443", "https://ids.example:443"}
    assert (
        destinations.of_secret(scheme, "client_secret", values)
        == destinations.of_secret(scheme, "", values)
        == both
    )


def test_an_address_without_a_scheme_is_one_of_a_stream() -> None:
    told = ["https://tide.gannet.example/api", "stream.gannet.example:7443", ""]
    assert destinations.of_application(told) == {
        "https://tide.gannet.example:443",
        "tls://stream.gannet.example:7443",
    }


def test_places_beyond_and_in_words() -> None:
    assert destinations.beyond({"https://a:443", "https://b:1"}, ["https://a:443"]) == (
        "https://b:1",
    )
    assert (
        destinations.origins_in_words(["https://a:443", "http://b:8080"])
        == "http://b:8080, https://a"
    )
    assert destinations.origins_in_words([]) == "nowhere yet"
    assert destinations.origins(["https://{site}.example", "https://a.example/{path}", ""]) == {
        "https://a.example:443"
    }
