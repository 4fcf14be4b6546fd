"""What callers of the API give."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from ninja import Schema
from pydantic import AfterValidator, AwareDatetime, ConfigDict


def _near(moment: datetime) -> datetime:
    if not 1970 < moment.year < 2200:  # further off, a change of zone leads out of the calendar
        raise ValueError("Choose a moment between 1971 and 2199.")
    return moment


# A moment that somebody gives, with its zone.
Moment = Annotated[AwareDatetime, AfterValidator(_near)]


class Given(Schema):
    """A body that is sent to us. A field that it does not have is refused: a mistyped name would otherwise change nothing and look as if it had."""

    model_config = ConfigDict(extra="forbid")
