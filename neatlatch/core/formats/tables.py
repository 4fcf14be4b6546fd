"""Tables as CSV (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

MOST, MOST_COLUMNS = 50_000, 200
# A cell that begins so is run as a formula by spreadsheets; an apostrophe before it makes it a text
# there, and is taken off again on reading.
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "'")
# Spreadsheets write a semicolon where the comma is for decimals, and tabs into the clipboard.
_DELIMITERS = (",", ";", "\t")


class BadTable(ValueError):
    """A table cannot be read; the message begins with the line."""


@dataclass(frozen=True)
class Table:
    """The heading and the rows below it, each with its line and a cell for each column."""

    heading: tuple[str, ...]
    rows: tuple[tuple[int, tuple[str, ...]], ...]


def to_csv(heading: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """The rows as CSV with a heading."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(heading)
    for row in rows:
        writer.writerow(["'" + cell if cell.startswith(_FORMULA) else cell for cell in row])
    return out.getvalue()


def read(text: str) -> Table:
    """A table out of CSV with commas, semicolons or tabs. Raises :class:`BadTable`."""
    text = text.removeprefix("\ufeff")
    reader = csv.reader(io.StringIO(text), strict=True, delimiter=_delimiter(text))
    heading: tuple[str, ...] = ()
    rows: list[tuple[int, tuple[str, ...]]] = []
    try:
        for row in reader:
            cells = tuple(cell.strip().removeprefix("'") for cell in row)
            if not any(cells):
                continue
            if not heading:
                heading = _heading(cells, reader.line_num)
                continue
            if any(cells[len(heading) :]):
                raise BadTable(
                    f"line {reader.line_num}: there are {len(cells)} values where the "
                    f"heading has {len(heading)}"
                )
            lacking = len(heading) - len(cells)
            rows.append((reader.line_num, (*cells[: len(heading)], *[""] * lacking)))
            if len(rows) > MOST:
                raise BadTable(f"line {reader.line_num}: more than {MOST:,} rows are not read")
    except csv.Error as error:
        raise BadTable(f"line {reader.line_num}: this is not CSV: {error}") from error
    if not heading:
        raise BadTable("line 1: nothing is in it")
    return Table(heading, tuple(rows))


def _delimiter(text: str) -> str:
    first = next((line for line in text[:10_000].splitlines() if line.strip()), "")
    return max(_DELIMITERS, key=first.count)


def _heading(cells: tuple[str, ...], line: int) -> tuple[str, ...]:
    while cells and not cells[-1]:
        cells = cells[:-1]
    if len(cells) > MOST_COLUMNS:
        raise BadTable(f"line {line}: more than {MOST_COLUMNS} columns are not read")
    seen: set[str] = set()
    for cell in cells:
        if cell and cell.lower() in seen:
            raise BadTable(f"line {line}: two columns are called {cell[:40]!r}")
        seen.add(cell.lower())
    return cells


def mapped(table: Table, columns: Mapping[str, str]) -> list[tuple[int, dict[str, str]]]:
    """The rows with their lines; ``columns`` says by which of our names which column of the
    table's heading goes. Raises :class:`BadTable` for a column that the table does not have.
    """
    places: dict[str, int] = {}
    low = [name.lower() for name in table.heading]
    for ours, theirs in columns.items():
        if not theirs or theirs.lower() not in low:
            raise BadTable(f"line 1: there is no column {theirs[:60]!r}")
        places[ours] = low.index(theirs.lower())
    return [
        (line, {ours: cells[place] for ours, place in places.items()}) for line, cells in table.rows
    ]
