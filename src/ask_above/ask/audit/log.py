"""A log of what members did, whatever its form: rows of keys, of instants and of decisions, and how they are counted.

The rule of each column stands in ``docs/scale.md``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import tzinfo
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from ask_above.ask.audit.states import StateAt
from ask_above.charter.moments import as_instant, zone
from ask_above.charter.names import MEMBER_MARK, SITE, listed, nearest
from ask_above.charter.rules import ACT_WORDS
from ask_above.decide.names import Names
from ask_above.errors import LogFaultError, QuestionError
from ask_above.people.directory import folded

if TYPE_CHECKING:
    import numpy as np
    import pandas as pd
    from numpy.typing import NDArray

    from ask_above.ask.audit.states import Stretches


_KIND: Final = {"member": "member", "author": "member", "to": "member", "of": "member", "place": "place"}
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
DONE: Final = (
    "true", "t", "yes", "y", "1", "allow", "allowed", "permit", "permitted", "grant", "granted", "ok", "success",
)  # fmt: skip
REFUSED: Final = (
    "false", "f", "no", "n", "0", "deny", "denied", "refuse", "refused", "forbid", "forbidden", "reject", "rejected",
)  # fmt: skip
_MISSING: Final = ("", "null", "none", "nan", "<na>")
_OFFSET: Final = re.compile(r"[Tt ]\d\d.*?(?:[Zz]|[+-]\d\d(?::?\d\d){0,2})$")
_MICROSECONDS: Final = "datetime64[us]"
KEYS: Final = (*TEXTS, "stretch")
_MOST_KEYS: Final = 1 << 62
"""What the keys of a tally stay below, so that none overflows 64 bits."""


class Called(NamedTuple):
    """Every key there ever was, and what else has one meaning: user names and full names, titles of places.

    A name that several have means none of them. A key is meant before a name, and what has a name now before what had.
    """

    keys_of: Mapping[str, frozenset[str]]
    meant: Mapping[str, Mapping[str, str]]

    def keys(self, field: str, names: NDArray[Any]) -> NDArray[Any]:
        """Return the names in a column as keys; what means nothing, or several, stays as it is."""
        import numpy as np

        kind = _KIND.get(field)
        if kind is None:
            return names
        return np.array([self._key(kind, name) for name in names], dtype=object)

    def _key(self, kind: str, name: str) -> str:
        if not name:
            return SITE if kind == "place" else ""
        if name in self.keys_of[kind]:
            return name
        if kind == "member":
            name = name.removeprefix(MEMBER_MARK)
        return name if name in self.keys_of[kind] else self.meant[kind].get(folded(name), name)


def called_in(states: Sequence[StateAt]) -> Called:
    """Return what names mean in a community that went through these states, the last of them first."""
    keys: dict[str, set[str]] = {"member": set(), "place": set()}
    meant: dict[str, dict[str, str]] = {"member": {}, "place": {}}
    newer: Names | None = None
    for names in (state.names for state in reversed(states)):
        members, places = names.register.members, names.charter.places
        if newer is None or names.register is not newer.register:
            differing = members if newer is None else names.register.differing(newer.register)
            some = [members[key] for key in differing if key in members]
            keys["member"].update(member.key for member in some)
            _add(meant["member"], ((member.key, (member.key, member.name, member.user_name)) for member in some))
        if newer is None or names.charter is not newer.charter:
            keys["place"].update(places)
            _add(meant["place"], ((place.key, (place.key, place.title)) for place in places.values()))
        newer = names
    single = {kind: {name: key for name, key in some.items() if key} for kind, some in meant.items()}
    return Called({kind: frozenset(some) for kind, some in keys.items()}, single)


def _add(meant: dict[str, str], things: Iterable[tuple[str, tuple[str, ...]]]) -> None:
    """Add what one state's names mean where no later state has them; a name of several means none, the empty key."""
    here: dict[str, str] = {}
    for key, names in things:
        for name in {folded(name) for name in names if name}:
            here[name] = key if here.get(name, key) == key else ""
    for name, key in here.items():
        meant.setdefault(name, key)


class Coded(NamedTuple):
    """A column of texts: ``codes`` (``int64``) say for each row which of the ``names`` it has."""

    codes: NDArray[np.int64]
    names: NDArray[Any]


class LogRows(NamedTuple):
    """The rows of what was done: a column for each of :data:`TEXTS`, ``when`` in microseconds since 1970.

    ``refused`` counts the rows of what was asked and not allowed, which are left out.
    """

    texts: dict[str, Coded]
    when: NDArray[np.int64]
    refused: int


class LogReader(NamedTuple):
    """How a log is read: ``mapping`` says which column is which field, times without an offset are in ``zone``."""

    mapping: Mapping[str, str]
    zone: str
    called: Called

    def read(self, part: pd.DataFrame | Any) -> LogRows:
        """Read a part of a log, a data frame or an Arrow table.

        Raises :class:`LogFaultError` for a row whose moment or decision is none, :class:`QuestionError` for columns
        that do not say who did what when.
        """
        import numpy as np

        arrow = hasattr(part, "schema")
        fields = fields_of(part.column_names if arrow else part.columns, self.mapping)
        when = _moments(_series(part[fields["when"]]), zone(self.zone))
        done = np.ones(len(when), dtype=bool)
        if "decision" in fields:
            done = _decisions(_coded(part[fields["decision"]]))
        nothing = Coded(np.zeros(len(when), dtype=np.int64), np.array([""], dtype=object))
        texts = {name: _coded(part[fields[name]]) if name in fields else nothing for name in TEXTS}
        texts = {name: Coded(codes, self.called.keys(name, names)) for name, (codes, names) in texts.items()}
        if not done.all():
            texts = {name: Coded(codes[done], names) for name, (codes, names) in texts.items()}
        return LogRows(texts, when[done], int((~done).sum()))


def fields_of(columns: Iterable[object], mapping: Mapping[str, str]) -> dict[str, str]:
    """Return which column is which field; ``mapping`` says it for columns, an empty field leaves one out.

    Raises :class:`QuestionError` where a field is none, where two columns are one field, and where nothing says who
    did what when.
    """
    known = [str(each) for each in columns]
    fields: dict[str, str] = {}
    for column, field in mapping.items():
        if column not in known:
            raise QuestionError(f"The log has no column '{column}'; it has {listed(known)}.")
        if field and field not in FIELDS:
            near = nearest(field, FIELDS)
            hint = f" Nearest: {listed(near, 'or')}." if near else ""
            raise QuestionError(f"There is no field '{field}'; there are {listed(FIELDS)}.{hint}")
        if field in fields:
            raise QuestionError(f"Both '{fields[field]}' and '{column}' are said to be {field}.")
        if field:
            fields[field] = column
    called = {name: field for field, names in _CALLED.items() for name in names}
    for column in known:
        field = called.get(folded(column), "")
        if column not in mapping and field and field not in fields:
            fields[field] = column
    missing = [field for field in ("member", "action", "when") if field not in fields]
    if missing:
        has = listed(known) or "no columns"
        raise QuestionError(
            f"No column says {listed(missing)}; the log has {has}. Say which: --map COLUMN={missing[0]}"
        )
    return fields


def _series(column: Any) -> pd.Series[Any]:
    """Return a column as pandas has it; dates of Arrow as they are written."""
    if not hasattr(column, "combine_chunks"):
        return column  # type: ignore[no-any-return]
    import pyarrow as pa

    return (column if pa.types.is_timestamp(column.type) else column.cast(pa.string())).to_pandas()  # type: ignore[no-any-return]


def _coded(column: Any) -> Coded:
    """Return a column as texts without the space around them; what is missing is the empty text."""
    import numpy as np
    import pandas as pd

    if hasattr(column, "combine_chunks"):
        import pyarrow as pa

        if not pa.types.is_dictionary(column.type):
            column = column.cast(pa.string()).dictionary_encode()
        whole = column.unify_dictionaries().combine_chunks()
        chunk = whole.chunk(0) if hasattr(whole, "chunk") else whole
        some = chunk.dictionary.to_pylist()
        codes = chunk.indices.fill_null(len(some)).to_numpy(zero_copy_only=False)
    else:
        codes, some = pd.factorize(column)
        codes = np.where(codes < 0, len(some), codes)
    # the last name is that of the rows which have none
    names = np.array([*("" if name is None else str(name).strip() for name in some), ""], dtype=object)
    return Coded(codes.astype(np.int64, copy=False), names)


def _decisions(column: Coded) -> NDArray[np.bool_]:
    """Return which rows were done: all but those that say they were refused. Raises for a word that is neither."""
    import numpy as np

    words = [str(name).casefold().removesuffix(".0") for name in column.names]
    strange = np.array([word not in {*DONE, *REFUSED, *_MISSING} for word in words])[column.codes]
    if strange.any():
        row = int(strange.argmax())
        raise LogFaultError(
            row,
            f"'{column.names[column.codes[row]]}' is no decision. Done: {listed(DONE, 'or')}; refused: "
            f"{listed(REFUSED, 'or')}; or say which column is none: --map COLUMN=",
        )
    return ~np.array([word in REFUSED for word in words])[column.codes]


def _moments(column: pd.Series[Any], where: tzinfo | None) -> NDArray[np.int64]:
    """Return moments as microseconds since 1970 (rule 4.6)."""
    import pandas as pd

    if pd.api.types.is_datetime64_any_dtype(column):
        column = column.reset_index(drop=True)
        local = pd.Series(column.dt.tz is None, index=column.index)
        read = column.dt.tz_localize("UTC") if column.dt.tz is None else column.dt.tz_convert("UTC")
        text = column
    else:
        text = column.astype(str).str.strip().reset_index(drop=True)
        read = pd.to_datetime(text, format="ISO8601", utc=True, errors="coerce")
        local = ~text.str.contains(_OFFSET)
    wrong = read.isna().to_numpy()
    if wrong.any():
        row = int(wrong.argmax())
        if str(text.iloc[row]).casefold() in {*_MISSING, "nat"}:
            raise LogFaultError(row, "the row has no moment.")
        raise LogFaultError(row, f"'{text.iloc[row]}' is no moment in ISO 8601, such as 2026-11-26T18:30:00+00:00.")
    return _in_zone(read.dt.tz_localize(None).astype(_MICROSECONDS), local, where)


def _in_zone(read: pd.Series[Any], local: pd.Series[Any], where: tzinfo | None) -> NDArray[np.int64]:
    """Return instants of what was read as if it were UTC, though some are ``local`` times."""
    import numpy as np

    numbers = read.astype("int64").to_numpy(copy=True)
    if where is not None and local.any():
        there = read[local].dt.tz_localize(where, ambiguous="NaT", nonexistent="NaT")
        instants = (
            there.dt.tz_convert("UTC").dt.tz_localize(None).astype(_MICROSECONDS).astype("int64").to_numpy(copy=True)
        )
        for row in np.flatnonzero(there.isna().to_numpy()):  # a local time that occurs twice, or not at all
            instants[row] = as_instant(read[local].iloc[row].to_pydatetime(), where)
        numbers[local.to_numpy()] = instants
    return np.asarray(numbers, dtype=np.int64)


def tally_part(part: Any, reader: LogReader, stretches: Stretches) -> tuple[pd.DataFrame, int]:
    """Return what was done in each stretch of time, by a part of a log, and how many rows had been refused.

    The columns are those of :data:`KEYS` and times, first, last; ``first`` and ``last`` are microseconds since 1970.
    """
    import numpy as np
    import pandas as pd

    rows = reader.read(part)
    members, actions = rows.texts["member"], rows.texts["action"]
    acts = np.isin(actions.names.astype(str), ACT_WORDS)[actions.codes]
    stretch = stretches.of(rows.when, members.names, members.codes, acts)
    columns = [(stretch, len(stretches.edges) + 1), *((codes, len(names)) for codes, names in rows.texts.values())]
    # one number for each thing that was done: numbers are grouped several times as fast as texts
    frame = pd.DataFrame({"when": rows.when, "row": np.arange(len(rows.when))})
    grouped: Any = frame.groupby(_keys(columns), sort=False)
    tallied = grouped.agg(
        times=("when", "count"), first=("when", "min"), last=("when", "max"), row=("row", "min")
    ).reset_index(drop=True)
    example = tallied.pop("row").to_numpy()
    for name, (codes, names) in rows.texts.items():
        tallied[name] = names[codes[example]]
    return _grouped(tallied.assign(stretch=stretch[example])), rows.refused


def _keys(columns: Iterable[tuple[NDArray[np.int64], int]]) -> NDArray[np.int64]:
    """Return a number for each row, the same for rows that agree in every column of codes below a count."""
    import numpy as np
    import pandas as pd

    key, most = np.zeros(1, dtype=np.int64), 1
    for codes, count in columns:
        if most * count >= _MOST_KEYS:
            key, several = pd.factorize(key)
            key, most = key.astype(np.int64), len(several)
        key, most = key * count + codes, most * count
    return key


def together(tallies: Sequence[pd.DataFrame]) -> pd.DataFrame:
    """Return several tallies as one, in an order that does not depend on theirs."""
    import pandas as pd

    return _grouped(pd.concat(tallies, ignore_index=True)) if len(tallies) != 1 else tallies[0]


def _grouped(rows: pd.DataFrame) -> pd.DataFrame:
    grouped: Any = rows.groupby(list(KEYS), sort=True, observed=True)
    return grouped.agg(times=("times", "sum"), first=("first", "min"), last=("last", "max")).reset_index()  # type: ignore[no-any-return]
