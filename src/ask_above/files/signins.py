"""Read ``signins.csv``: who signed in when, from which address."""

from __future__ import annotations

from datetime import tzinfo
from pathlib import Path

from ask_above.charter.charter import Charter
from ask_above.charter.moments import HOW_TO_WRITE, as_instant, parse, written
from ask_above.charter.names import nearest
from ask_above.charter.where import Where
from ask_above.errors import FaultyFilesError, MissingFileError
from ask_above.files.csv_rows import read_rows
from ask_above.files.writing import contents
from ask_above.people.reading import FileRow, FileRows
from ask_above.people.register import Register
from ask_above.people.signins import SignIn, network_of

SIGNINS = "signins.csv"
COLUMNS = ("member", "when", "address")


def read_signins(path: str | Path, charter: Charter, register: Register) -> list[SignIn]:
    """Return the sign-ins in a community's folder, or in the file that is named.

    ``when`` without an offset is in the charter's time zone; ``address`` is an IPv4 or IPv6 address. Raises
    :class:`MissingFileError` where there is no such file, :class:`FaultyFilesError` with all that is wrong in it.
    """
    file = Path(path)
    if not file.is_file() or file.suffix in (".yaml", ".yml"):
        file = (file if file.is_dir() else file.parent) / SIGNINS
    if not file.exists():
        raise MissingFileError(
            f"There is no {file.name} in the folder '{file.parent}'. Its columns: {','.join(COLUMNS)}"
        )
    return signins_in(file.name, contents(file), charter, register)


def signins_in(name: str, content: bytes, charter: Charter, register: Register) -> list[SignIn]:
    """Return the sign-ins that a file holds; raises :class:`FaultyFilesError` with all that is wrong in it."""
    rows = read_rows(name, content, COLUMNS, COLUMNS)
    found = [_read(rows, row, register, charter.zone) for row in rows.rows]
    if rows.faults:
        raise FaultyFilesError(rows.faults)
    return [sign_in for sign_in in found if sign_in is not None]


def last_signins(path: str | Path, charter: Charter, register: Register) -> dict[str, str]:
    """Return the day of each member's last sign-in, in the charter's time zone; nothing where there is no such file."""
    try:
        given = read_signins(path, charter, register)
    except MissingFileError:
        return {}
    last: dict[str, int] = {}
    for sign_in in given:
        last[sign_in.member] = max(sign_in.at, last.get(sign_in.member, sign_in.at))
    return {key: written(at, charter.zone)[:10] for key, at in last.items()}


def _read(rows: FileRows, row: FileRow, register: Register, zone: tzinfo) -> SignIn | None:
    cells, good = row.cells, len(rows.faults)
    member = cells.get("member", "")
    if member not in register.members:
        message = f"there is no member '{member}'"
        rows.fault(row, "member", "unknown-member", message, "a member's key", nearest(member, register.members))
    at, network = 0, ""
    try:
        at = as_instant(parse(cells.get("when", "")), zone)
    except ValueError:
        rows.fault(row, "when", "bad-moment", f"'{cells.get('when', '')}' is no moment", HOW_TO_WRITE)
    try:
        network = network_of(cells.get("address", ""))
    except ValueError:
        message = f"'{cells.get('address', '')}' is no address"
        rows.fault(row, "address", "bad-address", message, "an IPv4 or IPv6 address, such as 192.0.2.7")
    if len(rows.faults) > good:
        return None
    return SignIn(member, at, network, Where(rows.name, row.line, 1))
