"""Computations by JSON: one object in, one object out, so that a pipeline can check what it ships.

Each room of operations is a module that names its operations in a table ``OPS``. This module knows
which room has which, and imports a room when an operation of it is first asked for: a line is
answered without waiting for what it does not use.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from functools import cache
from importlib import import_module
from typing import Any

from .op import BadInput, Op, Reader

# Held against the rooms' own tables by a test.
ROOMS: dict[str, tuple[str, ...]] = {
    "pkce_ops": ("pkce_challenge", "pkce_verifier_syntax", "pkce_verify", "base64url_no_padding"),
    "jose_ops": (
        "left_half_hash",
        "dpop_ath",
        "jwk_thumbprint",
        "jwk_thumbprint_uri",
        "jws_verify",
        "jws_sign",
        "jwt_claims",
        "certificate_thumbprints",
        "hmac_sha256",
        "content_digest",
    ),
    "oauth1_ops": (
        "oauth1_sign",
        "oauth1_rsa_sha1",
        "oauth1_base_string_uri",
        "oauth1_percent_encode",
        "oauth1_plaintext",
    ),
    "header_ops": (
        "basic_encode",
        "basic_decode",
        "client_secret_basic",
        "form_urlencode_value",
        "form_urldecode_value",
        "bearer_token_syntax",
        "digest_response",
    ),
    "redirect_ops": (
        "redirect_uri_match",
        "token_request_redirect_uri",
        "private_use_scheme",
        "redirect_uri_lint",
    ),
    "reply_ops": (
        "reply",
        "authorization_reply",
        "www_authenticate",
        "retry_after",
        "problem_details",
        "device_poll_waits",
    ),
    "certificate_ops": (
        "verify_chain",
        "certificate_facts",
        "key_matches_certificate",
        "open_encrypted_key",
        "crl_facts",
        "csr_facts",
        "open_pkcs12",
    ),
    "properties_ops": ("parse_properties",),
    "planning_ops": ("minimum_scopes", "minimise_peak"),
    "otp_ops": ("hotp", "totp", "totp_verify"),
    "strength_ops": ("entropy_bits", "min_length", "password_acceptable", "fact"),
    "lifetime_ops": ("public_tls_lifetime", "access_token_usable", "authorization_code_usable"),
}
_ROOM_OF = {name: room for room, names in ROOMS.items() for name in names}


@cache
def room(name: str) -> dict[str, Op]:
    """The operations of a room, by their names."""
    return {op.name: op for op in import_module(f"{__name__}.{name}").OPS}


def all_ops() -> dict[str, Op]:
    """Every operation, by its name. Imports all rooms."""
    return {key: op for name in ROOMS for key, op in room(name).items()}


def op_of(name: object) -> Op | None:
    """The operation of a name, if there is one."""
    known = _ROOM_OF.get(name) if isinstance(name, str) else None
    return room(known)[str(name)] if known else None


def no_files(name: str) -> bytes:
    """The reader while no folder was named."""
    raise BadInput(f"the input names a file ({name}); say with --files which folder it is in")


def answer(line: str, read: Reader = no_files) -> dict[str, Any]:
    """Answer one JSON line: ``{"answer": ...}`` or ``{"error": "what is wrong"}``.

    Never raises. ``read`` gives the content of a file by its name.
    """
    try:
        given = json.loads(line)
    except (ValueError, RecursionError) as error:
        return {"error": f"not a JSON value: {error}"}
    if not isinstance(given, dict):
        return {"error": 'not a JSON object; one like {"op": "pkce_challenge", ...} is required'}
    name = given.get("op")
    op = op_of(name)
    if op is None:
        return {"error": f"op {name!r} is not known; --list names those that are"}
    if wrong := op.wrong_name_in(given):
        return {"error": f"{name}: {wrong}"}
    try:
        return {"answer": op.run(given, read) if op.reads_files else op.run(given)}
    except (BadInput, ValueError) as error:
        return {"error": f"{name}: {error}"}
    except Exception as error:  # a fault of ours; the lines that follow are answered all the same
        return {
            "error": (
                f"{name}: this input was not foreseen ({type(error).__name__}). Please report it."
            )
        }


def answers(lines: Iterable[str], read: Reader = no_files) -> Iterator[str]:
    """One answer a line, in order. Blank lines are passed over."""
    for line in lines:
        if line.strip():
            yield _written(answer(line, read))


def _written(values: dict[str, Any]) -> str:
    """An answer as one line of JSON that UTF-8 can carry (RFC 8259 §8.1): a lone surrogate is
    escaped, and a number is finite (§6).
    """
    try:
        line = json.dumps(values, ensure_ascii=False, allow_nan=False)
        line.encode()
    except UnicodeEncodeError:
        return json.dumps(values, allow_nan=False)
    except (ValueError, RecursionError) as error:
        return json.dumps({"error": f"the answer cannot be written as JSON: {error}"})
    return line


__all__ = ["OPS", "BadInput", "Op", "Reader", "answer", "answers", "no_files"]
