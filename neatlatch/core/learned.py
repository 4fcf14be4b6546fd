"""What a test that signed in has proven of the provider's half, where a note says otherwise."""

from __future__ import annotations

from collections.abc import Mapping

from .pins.certificate import plain
from .schemes import OAUTH2, Scheme


def learned(
    scheme: Scheme, sent: Mapping[str, str], thumbprint: str, noted: Mapping[str, str]
) -> dict[str, tuple[str, str]]:
    """Return the names by which the application has just known us and that are noted otherwise:
    (noted, sent) by key.

    ``sent`` are the caller side's values; ``thumbprint`` is that of the certificate that was shown
    (empty: none); ``noted`` are the client's facts, and its client ID. Secrets are none of these.
    Common practice, no source: anyone who was admitted under a name has it there.
    """
    keys = [identity.key for identity in scheme.identities()]
    if scheme.key in OAUTH2:
        keys.append("client_id")
    found = {
        key: (noted.get(key, ""), sent[key])
        for key in keys
        if sent.get(key) and sent[key] != noted.get(key, "")
    }
    held = [plain(part) for part in noted.get("thumbprint", "").split(",") if part.strip()]
    if thumbprint and plain(thumbprint) not in held:
        found["thumbprint"] = (noted.get("thumbprint", ""), thumbprint)
    return found
