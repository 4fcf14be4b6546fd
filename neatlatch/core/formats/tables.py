"""Tables as CSV (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

MOST = 50_000
# A cell that begins so is run as a formula by spreadsheets; an apostrophe before it makes it a text
# there, and is taken off again on reading.
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "'")


class BadTable(ValueError):
    """A table cannot be read; the message begins with the line."""


def to_csv(heading: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """The rows as CSV with a heading."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(heading)
    for row in rows:
        writer.writerow(["'" + cell if cell.startswith(_FORMULA) else cell for cell in row])
    return out.getvalue()


def from_csv(
    text: str, wanted: Sequence[str], optional: Sequence[str] = ()
) -> list[tuple[int, dict[str, str]]]:
    """The rows with their lines, by the names of the heading, in any order of columns.

    Raises :class:`BadTable`.
    """
    reader = csv.reader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    found: list[tuple[int, dict[str, str]]] = []
    heading: list[str] = []
    try:
        for row in reader:
            cells = [cell.strip().removeprefix("'") for cell in row]
            if not any(cells):
                continue
            if not heading:
                heading = [cell.lower() for cell in cells]
                if lacking := [text for text in wanted if text not in heading]:
                    raise BadTable(
                        f"line {reader.line_num}: the heading lacks {', '.join(lacking)}"
                    )
                if unknown := [text for text in heading if text not in (*wanted, *optional)]:
                    raise BadTable(
                        f"line {reader.line_num}: {unknown[0]!r} is no column; there are "
                        f"{', '.join((*wanted, *optional))}"
                    )
                continue
            if len(cells) > len(heading):
                raise BadTable(
                    f"line {reader.line_num}: there are {len(cells)} values where the "
                    f"heading has {len(heading)}"
                )
            found.append(
                (
                    reader.line_num,
                    dict(zip(heading, [*cells, *[""] * (len(heading) - len(cells))], strict=True)),
                )
            )
            if len(found) > MOST:
                raise BadTable(f"line {reader.line_num}: more than {MOST:,} rows are not read")
    except csv.Error as error:
        raise BadTable(f"line {reader.line_num}: this is not CSV: {error}") from error
    if not heading:
        raise BadTable("line 1: nothing is in it")
    return found
