"""Sheets that people fill in: CSV, XLSX and ODS, in and out."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import Any, Final, NamedTuple
from xml.parsers.expat import ExpatError
from zipfile import BadZipFile

from ask_above.errors import QuestionError
from ask_above.files.cells import guarded, unguarded
from ask_above.files.writing import contents, write_bytes, write_whole
from ask_above.files.yaml_text import text_of

ENDINGS: Final = (".csv", ".xlsx", ".ods")
_WIDEST, _NARROWEST = 60, 6
_LETTER_CM = 0.22


class Layout(NamedTuple):
    """How a sheet is laid out: lines above the heads, columns before the ranks, and what a cell may say.

    ``hidden`` are lines, counted from 0, that are for programs alone.
    """

    above: int = 0
    before: int = 0
    choices: tuple[str, ...] = ()
    hidden: tuple[int, ...] = ()


def check_ending(file: Path) -> str:
    """Return the form that a file's ending says; raises :class:`QuestionError` for others."""
    ending = file.suffix.lower()
    if ending not in ENDINGS:
        raise QuestionError(f"'{file.name}' is no sheet; let its name end in {', '.join(ENDINGS)}.")
    return ending


def write_sheet(file: Path, lines: Sequence[Sequence[str]], layout: Layout, name: str) -> None:
    """Write lines of text as a sheet, with frozen titles and a list to choose from where the form has them."""
    ending = check_ending(file)
    if ending == ".csv":
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows([guarded(cell) for cell in line] for line in lines)
        write_whole(file, out.getvalue())
    elif ending == ".xlsx":
        write_bytes(file, _xlsx(lines, layout, name))
    else:
        write_bytes(file, _ods(lines, layout, name))


def read_sheet(file: Path) -> list[list[str]]:
    """Return the lines of a sheet as text; of several sheets in one file the first.

    Raises :class:`FaultyFilesError` where a CSV file is no text; :class:`QuestionError` with the address of a cell that
    is merged with others beside filled ones, and of a formula whose value the file does not hold.
    """
    ending = check_ending(file)
    if ending == ".csv":
        text = text_of(file)
        try:
            dialect: Any = csv.Sniffer().sniff(text[:5_000], delimiters=",;\t")
        except csv.Error:
            dialect = csv.excel
        try:
            return [[unguarded(cell) for cell in row] for row in csv.reader(io.StringIO(text), dialect)]
        except csv.Error as error:
            raise QuestionError(f"{file.name} cannot be read as a sheet: {error}") from None
    _package("openpyxl" if ending == ".xlsx" else "odf")
    import pandas as pd

    try:
        table = pd.read_excel(file, header=None, dtype=str, keep_default_na=False, na_filter=False)
        unclear = _unclear_xlsx(file) if ending == ".xlsx" else _unclear_ods(file)
    except (ValueError, KeyError, OSError, BadZipFile, ExpatError) as error:
        raise QuestionError(f"{file.name} cannot be read as a sheet: {error}") from None
    if unclear:
        raise QuestionError(f"{file.name} cannot be taken as it stands. {' '.join(unclear)}")
    return [[unguarded(str(cell)) for cell in row] for row in table.itertuples(index=False)]


def as_csv(file: Path) -> bytes:
    """Return what a file of rows holds: of a spreadsheet as CSV, of any other as it is."""
    if file.suffix.lower() not in ENDINGS[1:]:
        return contents(file)
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(read_sheet(file))
    return out.getvalue().encode("utf-8")


def _unclear_xlsx(file: Path) -> list[str]:
    import openpyxl

    pages = [openpyxl.load_workbook(file, data_only=values).worksheets[0] for values in (True, False)]
    values, written = pages
    unclear = [
        _no_value(cell.coordinate)
        for row in written.iter_rows()
        for cell in row
        if cell.data_type == "f" and values[cell.coordinate].value is None
    ]
    for merged in written.merged_cells.ranges:
        rows = values.iter_rows(merged.min_row, merged.max_row)
        filled = sum(cell.value is not None for row in rows for cell in row)
        unclear += [_merged(merged.coord)] if filled > 1 else []
    return unclear


def _unclear_ods(file: Path) -> list[str]:
    from odf.opendocument import load
    from odf.table import Table, TableRow
    from openpyxl.utils import get_column_letter

    unclear: list[str] = []
    row = 0
    for line in load(str(file)).spreadsheet.getElementsByType(Table)[0].getElementsByType(TableRow):
        column, filled, spans = 0, 0, list[str]()
        for cell in line.childNodes:
            attributes = {name: value for (_, name), value in cell.attributes.items()}
            address, text = f"{get_column_letter(column + 1)}{row + 1}", str(cell)
            filled += bool(text)
            if "formula" in attributes and not text and "value" not in attributes:
                unclear.append(_no_value(address))
            if {"number-columns-spanned", "number-rows-spanned"} & attributes.keys():
                spans.append(address)
            column += int(attributes.get("number-columns-repeated", 1))
        unclear += [_merged(span) for span in spans if filled > 1]
        row += int(next((value for (_, name), value in line.attributes.items() if name == "number-rows-repeated"), 1))
    return unclear


def _no_value(address: str) -> str:
    return f"{address} holds a formula without its value: write what it comes to."


def _merged(address: str) -> str:
    return f"{address} is merged out of several cells: separate them, and fill in each."


def _package(name: str) -> Any:
    try:
        return import_module(name)
    except ImportError:
        raise QuestionError(
            "XLSX and ODS need two more packages: pip install 'ask-above[sheets]'; or use .csv"
        ) from None


def _xlsx(lines: Sequence[Sequence[str]], layout: Layout, name: str) -> bytes:
    openpyxl = _package("openpyxl")
    from openpyxl.styles import Alignment, Font, PatternFill
    from openpyxl.utils import get_column_letter
    from openpyxl.worksheet.datavalidation import DataValidation

    book = openpyxl.Workbook()
    page = book.active
    page.called = name[:31]
    for line in lines:
        page.append([guarded(cell) for cell in line])
    page.freeze_panes = page.cell(layout.above + 2, layout.before + 1)
    if layout.choices:
        listed = DataValidation(type="list", formula1=f'"{",".join(layout.choices)}"', allow_blank=True)
        listed.showErrorMessage = False
        page.add_data_validation(listed)
        first, last = get_column_letter(layout.before + 1), get_column_letter(page.max_column)
        listed.add(f"{first}{layout.above + 2}:{last}{page.max_row}")
    fills = {"yes": PatternFill("solid", fgColor="DDEFDD"), "no": PatternFill("solid", fgColor="F6DCDC")}
    for row in page.iter_rows(min_row=layout.above + 1):
        for cell in row:
            text = str(cell.value or "")
            if cell.row == layout.above + 1:
                cell.font = Font(bold=True)
                cell.alignment = Alignment(wrap_text=True, vertical="bottom")
            elif cell.column > layout.before:
                cell.alignment = Alignment(horizontal="center")
                if text in fills:
                    cell.fill, cell.font = fills[text], Font(bold=True)
                elif text:
                    cell.font = Font(color="808080", italic=True)
    for n in layout.hidden:
        page.row_dimensions[n + 1].hidden = True
    for n, width in enumerate(_widths(lines, layout), 1):
        page.column_dimensions[get_column_letter(n)].width = width
    # on paper all ranks stand side by side, with the heads on every page
    page.page_setup.orientation, page.page_setup.fitToWidth, page.page_setup.fitToHeight = "landscape", 1, 0
    page.sheet_properties.pageSetUpPr.fitToPage = True
    page.print_title_rows = f"{layout.above + 1}:{layout.above + 1}"
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _widths(lines: Sequence[Sequence[str]], layout: Layout) -> list[int]:
    """Return how wide each column is, in letters."""
    widths = []
    for n in range(max(map(len, lines), default=0)):
        size = max((len(str(line[n])) for line in lines[layout.above + 1 :] if n < len(line)), default=0)
        widths.append(min(_WIDEST, max(12 if n >= layout.before else _NARROWEST, size + 2)))
    return widths


def _ods(lines: Sequence[Sequence[str]], layout: Layout, name: str) -> bytes:
    _package("odf")
    import pandas as pd

    width = max(map(len, lines), default=0)
    table = pd.DataFrame([[guarded(cell) for cell in line] + [""] * (width - len(line)) for line in lines])
    out = io.BytesIO()
    with pd.ExcelWriter(out, engine="odf") as writer:
        table.to_excel(
            writer, sheet_name=name[:31], header=False, index=False, freeze_panes=(layout.above + 1, layout.before)
        )
    return _laid_out(out.getvalue(), layout, _widths(lines, layout))


def _laid_out(content: bytes, layout: Layout, widths: Sequence[int]) -> bytes:
    """Give the columns of an ODS sheet their widths, its heads their weight, and its cells a list to choose from."""
    from odf.opendocument import load
    from odf.style import Style, TableColumnProperties, TextProperties
    from odf.table import Table, TableCell, TableColumn, TableRow

    document = load(io.BytesIO(content))
    table = document.spreadsheet.getElementsByType(Table)[0]
    before = table.firstChild
    for n, width in enumerate(widths):
        style = Style(name=f"column{n}", family="table-column")
        style.addElement(TableColumnProperties(columnwidth=f"{width * _LETTER_CM:.2f}cm"))
        document.automaticstyles.addElement(style)
        table.insertBefore(TableColumn(stylename=style), before)
    head = Style(name="head", family="table-cell")
    head.addElement(TextProperties(fontweight="bold"))
    document.automaticstyles.addElement(head)
    rows = table.getElementsByType(TableRow)
    for cell in rows[layout.above].getElementsByType(TableCell) if len(rows) > layout.above else ():
        cell.setAttribute("stylename", head)
    for n in layout.hidden:
        rows[n].setAttribute("visibility", "collapse")
    if layout.choices:
        _let_choose(document, rows, layout)
    out = io.BytesIO()
    document.write(out)
    return out.getvalue()


def _let_choose(document: Any, rows: Sequence[Any], layout: Layout) -> None:
    """Let each cell have a list to choose from; something else may be typed all the same."""
    from odf.table import ContentValidation, ContentValidations, ErrorMessage, TableCell

    listed = ";".join(f'"{each}"' for each in layout.choices)
    choice = ContentValidation(
        name="choice", condition=f"of:cell-content-is-in-list({listed})", allowemptycell="true", displaylist="unsorted"
    )
    choice.addElement(ErrorMessage(display="false"))
    choices = ContentValidations()
    choices.addElement(choice)
    document.spreadsheet.insertBefore(choices, document.spreadsheet.firstChild)
    for row in rows[layout.above + 1 :]:
        for cell in row.getElementsByType(TableCell)[layout.before :]:
            cell.setAttribute("contentvalidationname", "choice")
