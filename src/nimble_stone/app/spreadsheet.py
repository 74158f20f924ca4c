"""Tables of text in and out of files: CSV (RFC 4180, also with semicolons or tabs) and XLSX
(ISO/IEC 29500).
"""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Sequence

from openpyxl import Workbook, load_workbook
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE, Cell, WriteOnlyCell
from openpyxl.styles import Font
from openpyxl.worksheet._write_only import WriteOnlyWorksheet
from openpyxl.worksheet.worksheet import Worksheet

from nimble_stone.core.errors import FormatError

MAX_BYTES, MAX_UNPACKED, MAX_ROWS, MAX_COLUMNS = 16 << 20, 128 << 20, 20_001, 400
Rows = list[list[str]]
_BEGIN = "=+-@＝＋－＠"
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?")


def read(data: bytes, name: str = "the table") -> Rows:
    """The first sheet's cells as text. Raises FormatError for what is neither, and beyond the
    limits.
    """
    if len(data) > MAX_BYTES:
        raise FormatError(f"{name} is larger than {MAX_BYTES >> 20} MiB", code="table-large")
    return _xlsx(data, name) if data[:4] == b"PK\x03\x04" else _csv(data, name)


def _csv(data: bytes, name: str) -> Rows:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(
            f"{name} is neither XLSX nor text in UTF-8",
            place=f"byte {error.start}",
            code="table-form",
            hint="Save it as XLSX, or as CSV in UTF-8.",
        ) from error
    first = text.partition("\n")[0]
    delimiter = max("\t;,", key=first.count)
    rows = []
    try:
        for row in csv.reader(io.StringIO(text), delimiter=delimiter, strict=True):
            rows.append(
                [
                    cell[1:] if cell[:1] == "'" and is_formula(cell[1:]) else cell
                    for cell in row[:MAX_COLUMNS]
                ]
            )
            if len(rows) > MAX_ROWS:
                raise FormatError(f"{name} has more than {MAX_ROWS - 1} rows", code="table-large")
    except csv.Error as error:
        raise FormatError(
            f"{name} is not valid CSV: {error}", place=f"row {len(rows) + 1}", code="table-form"
        ) from error
    return rows


def _xlsx(data: bytes, name: str) -> Rows:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if sum(item.file_size for item in archive.infolist()) > MAX_UNPACKED:
                raise FormatError(
                    f"{name} unpacks to more than {MAX_UNPACKED >> 20} MiB", code="table-large"
                )
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True, keep_links=False)
        sheet = book.worksheets[0]
        rows = [
            ["" if cell is None else _text(cell) for cell in row]
            for row in sheet.iter_rows(max_row=MAX_ROWS, max_col=MAX_COLUMNS, values_only=True)
        ]
        book.close()
    except FormatError:
        raise
    except Exception as error:  # the library raises whatever a damaged file makes its parts raise
        raise FormatError(
            f"{name} is not a readable XLSX file: {str(error)[:120]}",
            code="table-form",
            hint="Save it again, or as CSV.",
        ) from error
    while rows and not any(rows[-1]):
        rows.pop()
    wide = max((at + 1 for row in rows for at, text in enumerate(row) if text), default=0)
    return [row[:wide] for row in rows]


def _text(cell: object) -> str:
    return str(int(cell)) if isinstance(cell, float) and cell.is_integer() else str(cell)


def csv_of(rows: Sequence[Sequence[str]]) -> bytes:
    """CSV in UTF-8. Texts that a spreadsheet would take for a formula get an apostrophe in
    front.
    """
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows(
        [[_tame(cell) for cell in row] for row in rows]
    )
    return out.getvalue().encode()


def xlsx_of(rows: Sequence[Sequence[str]], title: str) -> bytes:
    """A workbook of one sheet, its header kept in view. All cells are text, so nothing is a
    formula.
    """
    book = Workbook(write_only=True)
    sheet = book.create_sheet()
    sheet.title = "".join(c for c in title if c not in "[]:*?/\\")[:31] or "Sheet"
    sheet.freeze_panes = "C3"
    for number, row in enumerate(rows, 1):
        sheet.append([_cell(sheet, text, number) for text in row])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _cell(sheet: Worksheet | WriteOnlyWorksheet, text: str, number: int) -> Cell:
    cell = WriteOnlyCell(sheet, ILLEGAL_CHARACTERS_RE.sub("", text))
    cell.data_type = "s"
    if number <= 2:
        cell.font = Font(bold=number == 2, color="777777" if number == 1 else None)
    return cell


def is_formula(text: str) -> bool:
    """Whether a spreadsheet might work a text out: it begins, perhaps after blanks, with a sign
    that formulas begin with, and is no plain number.
    """
    bare = text.lstrip(" \t\r\n\v\f\u00a0\ufeff")
    return bare[:1] in _BEGIN and bare != "" and not _NUMBER.fullmatch(text)


def _tame(text: str) -> str:
    return "'" + text if is_formula(text) else text
