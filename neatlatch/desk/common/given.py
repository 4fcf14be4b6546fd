"""What callers of the API give: bodies whose fields are known, and whose texts can be kept."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Annotated, Any

from ninja import Schema
from pydantic import AfterValidator, AwareDatetime, ConfigDict, model_validator
from pydantic_core import PydanticCustomError

# The longest text of a field, in characters, by the field's name; a field that is not named here has the usual length.
USUAL = 2_000
KIB = 1024
LONGEST = {
    # Pasted or dropped, and read before anything is kept. The body itself is limited too.
    "text": 8 * KIB * KIB,
    "base64": 8 * KIB * KIB,
    "trust": 4 * KIB * KIB,
    "pem": KIB * KIB,
    "request": 64 * KIB,
    # A secret may be a private key, a value a certificate with its chain.
    "secret": 64 * KIB,
    "secrets": 64 * KIB,
    "value": 64 * KIB,
    "values": 256 * KIB,
}
# Texts in one body: of more, nobody could say what is wrong with one.
MOST_TEXTS = 200_000


def _near(moment: datetime) -> datetime:
    if not 1970 < moment.year < 2200:  # further off, a change of zone leads out of the calendar
        raise ValueError("Choose a moment between 1971 and 2199.")
    return moment


# A moment that somebody gives, with its zone.
Moment = Annotated[AwareDatetime, AfterValidator(_near)]


class Given(Schema):
    """A body that is sent to us. A field that it does not have is refused: a mistyped name would otherwise change nothing and look as if it had."""

    model_config = ConfigDict(extra="forbid")

    @model_validator(mode="before")
    @classmethod
    def _texts_can_be_kept(cls, data: Any) -> Any:
        """Refuse texts that are too long, or that no database or file can hold."""
        raw = getattr(data, "_obj", data)
        if isinstance(raw, dict):
            for field, value in raw.items():
                check_texts(field if isinstance(field, str) else "", value)
        return data


def check_texts(field: str, value: Any) -> None:
    """Look at every text in a field's value. Raises a validation error that names the field."""
    longest = LONGEST.get(field, USUAL)
    for text in _texts(value):
        if len(text) > longest:
            raise PydanticCustomError("too_long", "{field}: at most {longest} characters are taken.", {"field": field, "longest": longest})
        if "\0" in text:
            raise PydanticCustomError("has_nul", "{field}: there is a NUL character in it.", {"field": field})
        if not text.isascii() and any("\ud800" <= one <= "\udfff" for one in text):
            raise PydanticCustomError("has_surrogate", "{field}: half of a character is in it (a lone surrogate).", {"field": field})


def _texts(value: Any) -> Iterator[str]:
    waiting, seen = [value], 0
    while waiting:
        one = waiting.pop()
        if isinstance(one, str):
            seen += 1
            if seen > MOST_TEXTS:
                raise PydanticCustomError("too_many", "There are more texts in it than are read.")
            yield one
        elif isinstance(one, dict):
            waiting += [*one.keys(), *one.values()]
        elif isinstance(one, list):
            waiting += one
