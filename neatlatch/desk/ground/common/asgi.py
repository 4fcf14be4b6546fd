"""What an ASGI server and its application pass each other (ASGI 3.0, HTTP §2.2)."""

from __future__ import annotations

from typing import Any

# What is known of a connection; and something that happened on it, in or out.
Scope = dict[str, Any]
Event = dict[str, Any]
