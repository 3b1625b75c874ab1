"""A log of what members did: its columns, whatever they are called, and its moments."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import tzinfo
from typing import TYPE_CHECKING, Any, Final

from ask_above.charter.names import listed, nearest
from ask_above.errors import QuestionError
from ask_above.people.directory import folded

if TYPE_CHECKING:
    import pandas as pd

TEXTS: Final = ("member", "action", "place", "author", "target", "to", "of", "using")
"""The columns that say what was done; all but the first two may be missing."""
FIELDS: Final = (*TEXTS, "when", "decision")
"""``decision`` is false for what was asked and refused, and so was not done."""

_CALLED: Final = {
    "member": ("member", "user", "actor", "subject", "who", "account", "username", "user name", "member key"),
    "action": ("action", "event", "verb", "capability", "operation", "what", "did"),
    "place": ("place", "where", "channel", "section", "board", "room", "page", "resource", "location"),
    "when": ("when", "time", "timestamp", "at", "date", "datetime", "moment", "created", "created at"),
    "author": ("author", "owner", "by", "written by"),
    "target": ("target", "object", "on", "on whom", "rank"),
    "to": ("to",),
    "of": ("of",),
    "using": ("using", "with"),
    "decision": ("decision", "allowed", "permitted", "outcome"),
}
_NO: Final = frozenset({"false", "no", "0", "deny", "denied"})


def fields_of(columns: Iterable[object], mapping: Mapping[str, str]) -> dict[str, str]:
    """Return which column is which field; ``mapping`` says it for columns, an empty field leaves one out.

    Raises :class:`QuestionError` where a field is none, where two columns are one field, and where nothing says who
    did what when.
    """
    known = [str(each) for each in columns]
    found: dict[str, str] = {}
    for column, field in mapping.items():
        if column not in known:
            raise QuestionError(f"The log has no column '{column}'; it has {listed(known)}.")
        if field and field not in FIELDS:
            near = nearest(field, FIELDS)
            hint = f" Nearest: {listed(near, 'or')}." if near else ""
            raise QuestionError(f"There is no field '{field}'; there are {listed(FIELDS)}.{hint}")
        _take(found, column, field)
    called = {name: field for field, names in _CALLED.items() for name in names}
    for column in known:
        field = called.get(folded(column), "")
        if column not in mapping and field and field not in found:
            found[field] = column
    missing = [field for field in ("member", "action", "when") if field not in found]
    if missing:
        raise QuestionError(
            f"No column says {listed(missing)}; the log has {listed(known)}. Say which: --map COLUMN={missing[0]}"
        )
    return found


def _take(found: dict[str, str], column: str, field: str) -> None:
    if field in found:
        raise QuestionError(f"Both '{found[field]}' and '{column}' are said to be {field}.")
    if field:
        found[field] = column


def read_log(frame: pd.DataFrame, mapping: Mapping[str, str], zone: tzinfo) -> tuple[pd.DataFrame, int]:
    """Return a log with a column of text for each field of :data:`TEXTS` and ``when`` as microseconds since 1970.

    The index is that of the frame; rows of what was refused are left out, and counted in the second value. Times
    without an offset are in ``zone``. Raises :class:`QuestionError` for a moment that is none.
    """
    import numpy as np
    import pandas as pd

    fields = fields_of(frame.columns, mapping)
    refused = 0
    if "decision" in fields:
        said = frame[fields["decision"]].astype(str).str.lower()
        done = ~said.isin(_NO)
        refused = int((~done).sum())
        frame = frame[done]
    texts: dict[str, Any] = {}
    for field in TEXTS:
        if field in fields:
            column = frame[fields[field]]
            texts[field] = column.astype(object).where(column.notna(), "").astype(str)
        else:
            texts[field] = pd.Series("", index=frame.index, dtype=object)
    found = pd.DataFrame(texts, index=frame.index)
    found["place"] = found["place"].where(found["place"] != "", "site")
    found["when"] = np.asarray(_moments(frame[fields["when"]], zone), dtype=np.int64)
    return found, refused


def _moments(column: pd.Series[Any], zone: tzinfo) -> Any:
    """Return moments as microseconds since 1970."""
    import pandas as pd

    if not pd.api.types.is_datetime64_any_dtype(column):
        text = column.astype(str)
        try:
            column = pd.to_datetime(text, format="ISO8601", utc=True)
        except (ValueError, TypeError):
            parsed = pd.to_datetime(text, format="ISO8601", utc=True, errors="coerce")
            wrong = parsed.isna()
            first = wrong.to_numpy().argmax()
            raise QuestionError(
                f"Row {first + 1} of the log: '{text.iloc[first]}' is no moment in ISO 8601, such as "
                "2026-11-26T18:30:00+00:00."
            ) from None
        local = ~text.str.contains(r"(?:Z|[+-]\d\d:?\d\d)$", regex=True)
        if local.any():  # what has no offset was read as if it were UTC
            there = column[local].dt.tz_localize(None).dt.tz_localize(zone, ambiguous=True, nonexistent="shift_forward")
            column = column.copy()
            column[local] = there.dt.tz_convert("UTC")
    elif column.dt.tz is None:
        column = column.dt.tz_localize(zone, ambiguous=True, nonexistent="shift_forward").dt.tz_convert("UTC")
    else:
        column = column.dt.tz_convert("UTC")
    if column.isna().any():
        raise QuestionError(f"Row {int(column.isna().to_numpy().argmax()) + 1} of the log has no moment.")
    return column.dt.tz_localize(None).astype("datetime64[us]").astype("int64")
