"""JSON and YAML of any nesting: client downloads, RFC 7591 answers, RFC 8414 metadata, JWKS,
OpenAPI descriptions, settings.
"""

from __future__ import annotations

from typing import Any

from .. import openapi
from ..jose import jwk
from .clean import clean
from .found import IntakeRefused, Item, Recognised

MOST_ITEMS = 2000


def recognise(tree: Any, language: str) -> Recognised:
    """Tell what a tree is, and take its values.

    Raises :class:`IntakeRefused` for a plain value that is no settings.
    """
    if not isinstance(tree, dict | list):
        raise IntakeRefused(f"This {language} is a single value; paste the value by itself.")
    if isinstance(tree, dict) and str(tree.get("openapi", "")).startswith("3."):
        return _description(tree)
    if (
        isinstance(tree, dict)
        and isinstance(tree.get("keys"), list)
        and any(isinstance(key, dict) and "kty" in key for key in tree["keys"])
    ):
        return _key_set(tree["keys"])
    items, left = _flat(tree)
    kind, says = "settings", f"Settings in {language}: {len(items)} values"
    if isinstance(tree, dict) and "issuer" in tree and "token_endpoint" in tree:
        kind, says = "metadata", f"Metadata of the sign-in server {tree['issuer']} (RFC 8414)"
    elif (
        isinstance(tree, dict)
        and "client_id" in tree
        and ("registration_client_uri" in tree or "redirect_uris" in tree or "client_name" in tree)
    ):
        kind, says = "registration", "A client registration (RFC 7591)"
    elif any(item.name.rpartition(".")[2].lower() in ("client_id", "clientid") for item in items):
        kind, says = "client", f"A client's download in {language}: {len(items)} values"
    return Recognised(kind, says, tuple(items), tuple(left))


def _flat(tree: Any) -> tuple[list[Item], list[str]]:
    """Every plain value with its path.

    A list of plain texts is one value, joined by spaces, as scopes are.
    """
    items: list[Item] = []
    left: list[str] = []
    waiting: list[tuple[str, Any]] = [("", tree)]
    while waiting:
        path, node = waiting.pop()
        if len(items) >= MOST_ITEMS:
            left.append(f"everything after the first {MOST_ITEMS} values")
            break
        if isinstance(node, dict):
            waiting.extend(
                (f"{path}.{key}" if path else str(key), value)
                for key, value in reversed(list(node.items()))
            )
        elif isinstance(node, list) and node and all(isinstance(item, str) for item in node):
            items.append(Item(path, node[0] if len(node) == 1 else " ".join(node)))
        elif isinstance(node, list):
            waiting.extend(
                (f"{path}.{place}" if path else str(place), value)
                for place, value in reversed(list(enumerate(node)))
            )
            if not node:
                left.append(f"{path}: empty")
        elif isinstance(node, str):
            cleaned = clean(node) if "-----BEGIN" not in node else None
            items.append(
                Item(path, cleaned.value if cleaned else node, cleaned.notes if cleaned else ())
            )
        elif node is None:
            left.append(f"{path}: nothing in it")
        else:
            items.append(Item(path, str(node).lower() if isinstance(node, bool) else str(node)))
    return items, left


def _description(tree: dict[str, Any]) -> Recognised:
    try:
        told = openapi.read_description(tree)
    except openapi.BadDescription as error:
        raise IntakeRefused(str(error)) from error
    items = [Item("api_base", server) for server in told.servers[:1] if "://" in server] + [
        Item(key, value) for key, value in told.addresses.items()
    ]
    facts = [
        ("Title", told.title),
        (
            "Ways in",
            "; ".join(scheme.label for scheme in told.schemes) or "none that is known here",
        ),
        ("Operations", str(len(told.operations))),
    ]
    if told.scopes:
        facts.append(("Scopes", " ".join(scope.name for scope in told.scopes)))
    return Recognised(
        "description",
        f"An API description (OpenAPI 3) of {told.title or 'an application'}",
        tuple(items),
        told.notes,
        tuple(facts),
    )


def _key_set(keys: list[Any]) -> Recognised:
    facts, left = [], []
    for key in keys[:50]:
        if not isinstance(key, dict):
            left.append("an entry that is no key")
            continue
        try:
            print_of = jwk.thumbprint(key)
        except jwk.BadKey as error:
            left.append(f"a key: {error}")
            continue
        if any(part in key for part in ("d", "k")):
            left.append(
                f"the key {key.get('kid', print_of)} holds its private part; a published "
                f"key set must not"
            )
        facts.append(
            (
                str(key.get("kid", "key")),
                (
                    f"{key.get('kty')} {key.get('crv', '')} {key.get('alg', '')} thumbprint "
                    f"{print_of}"
                ).replace("  ", " "),
            )
        )
    return Recognised(
        "key_set", f"A key set with {len(facts)} keys (RFC 7517)", (), tuple(left), tuple(facts)
    )
