"""What callers of the API give: bodies whose fields are known, and whose texts can be kept."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from ninja import Schema
from pydantic import AfterValidator, AwareDatetime, ConfigDict, model_validator
from pydantic_core import PydanticCustomError

from neatlatch.core import texts

from . import narrowed

# More fields than any body of ours has; where there are more, each need not be looked at, and
# named, for the body to be refused.
MOST_FIELDS = 100
# The longest text of a field, in characters, by the field's name; a field that is not named here
# has the usual length.
USUAL = 2_000
KIB = 1024
LONGEST = {
    "notes": 10_000,
    # Pasted or dropped, and read before anything is kept. The body itself is limited too.
    "text": 36 * KIB * KIB,
    "files": 36 * KIB * KIB,
    "description": 2 * KIB * KIB,
    "base64": 8 * KIB * KIB,
    "trust": 4 * KIB * KIB,
    "pem": KIB * KIB,
    "request": 64 * KIB,
    # A secret may be a private key, a value a certificate with its chain.
    "secret": 64 * KIB,
    "secrets": 64 * KIB,
    "value": 64 * KIB,
    # What a browser answers for a passkey, with what its maker attests.
    "credential": 64 * KIB,
    "values": 256 * KIB,
}
# The most parts of a list or an object, by the field's name.
USUAL_MOST = 500
MOST = {"rules": 20_000, "groups": 20_000, "redirect_uris": 100}


def _near(moment: datetime) -> datetime:
    if not 1970 < moment.year < 2200:  # further off, a change of zone leads out of the calendar
        raise ValueError("Choose a moment between 1971 and 2199.")
    return moment


# A moment that somebody gives, with its zone.
Moment = Annotated[AwareDatetime, AfterValidator(_near)]


class RequestBody(Schema):
    """A body that is sent to us.

    A field that it does not have is refused: a mistyped name would otherwise change nothing and
    look as if it had.
    """

    model_config = ConfigDict(extra="forbid")

    @model_validator(mode="before")
    @classmethod
    def _texts_can_be_kept(cls, data: Any) -> Any:
        """Refuse texts that are too long, or that no database or file can hold."""
        raw = getattr(data, "_obj", data)
        if isinstance(raw, dict):
            if len(raw) > MOST_FIELDS:
                raise PydanticCustomError(
                    "too_many_fields", "There are more than {most} fields.", {"most": MOST_FIELDS}
                )
            for field, value in raw.items():
                check_texts(field if isinstance(field, str) else "", value)
        return data

    def model_post_init(self, context: Any) -> None:
        """Refuse a body that names an environment, a connection of one or an application that is
        beyond the caller's reach. Raises :class:`~.problems.Problem`, where everything else is
        still untouched.
        """
        environment = getattr(self, "environment", None)
        application = getattr(self, "application", None)
        connection = getattr(self, "connection", None)
        narrowed.check(
            environment if isinstance(environment, str) else "",
            application if isinstance(application, str) else "",
        )
        if isinstance(connection, str) and "/" in connection:
            narrowed.check(connection.partition("/")[0])


def check_texts(field: str, value: Any) -> None:
    """Look at every text in a field's value.

    Raises a validation error that says what is wrong with it.
    """
    if wrong := texts.unsound(value, LONGEST.get(field, USUAL), MOST.get(field, USUAL_MOST)):
        raise PydanticCustomError(
            "unsound_text", "{field} {wrong}.", {"field": field, "wrong": wrong}
        )
