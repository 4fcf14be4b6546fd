"""Log lines: moment, level, what happened and its plain facts.

Secrets never reach here as text (see ``core.secret``).
"""

from __future__ import annotations

from typing import Any

import structlog

# The formatter takes its own traces away before these.
_STEPS = (
    structlog.processors.TimeStamper(fmt="iso", utc=True),
    structlog.stdlib.add_log_level,
    structlog.processors.format_exc_info,
)
_DRAW = structlog.processors.KeyValueRenderer(key_order=["timestamp", "level", "event"])


def render(logger: Any, name: str, event: Any) -> str:
    """One line for one event."""
    for step in _STEPS:
        event = step(logger, name, event)
    return str(_DRAW(logger, name, event))


structlog.configure(
    processors=[structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
    logger_factory=structlog.stdlib.LoggerFactory(),
    wrapper_class=structlog.stdlib.BoundLogger,
    cache_logger_on_first_use=True,
)
