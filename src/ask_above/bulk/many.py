"""Many questions at once, a boolean for each row of a table; and a table of everyone as rows to write (rule 5)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import chain, repeat
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ask_above.charter.catalogue import Catalogue
from ask_above.decide.names import When
from ask_above.errors import QuestionError

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

    from ask_above.bulk.table import Table

NEEDED = ("member", "capability", "place")
ALSO = ("author", "when")
_MOST_KEPT = 16


class RecordBatch(NamedTuple):
    """Some rows: columns of equal length, each a list of text or numbers."""

    columns: dict[str, list[Any]]

    def __len__(self) -> int:
        return len(next(iter(self.columns.values())))


def usable_rows(table: Table, *, members: bool, wanted: Sequence[str] = ()) -> Iterator[RecordBatch]:
    """Yield, place by place, a row for everything that a profile, or with ``members`` a member, can use there.

    ``wanted`` are the capabilities that are asked for, all where there are none.

    Columns: ``profile`` (a number from 0) or ``member`` (a key), ``place`` and ``capability`` (keys).
    """
    some = [n for n, name in enumerate(table.capabilities) if not wanted or name in wanted]
    capabilities = np.array(table.capabilities, dtype=object)[some]
    keys = np.array(table.members, dtype=object)
    rows = int(table.rows.max()) + 1 if len(table.rows) else 0
    for place, words in zip(table.places, table.words, strict=True):
        bits = np.unpackbits(words[some].view(np.uint8), axis=1, bitorder="little")[:, :rows]
        if members:
            bits = bits[:, table.rows]
        which, who = np.nonzero(bits)
        if len(which):
            first = {"member": keys[who].tolist()} if members else {"profile": who.tolist()}
            yield RecordBatch({**first, "place": [place] * len(which), "capability": capabilities[which].tolist()})


def member_rows(table: Table, size: int = 100_000) -> Iterator[RecordBatch]:
    """Yield each member's profile: columns ``member`` (a key) and ``profile`` (a number from 0)."""
    for start in range(0, len(table.members), size):
        end = start + size
        yield RecordBatch({"member": list(table.members[start:end]), "profile": table.rows[start:end].tolist()})


def check_columns(frame: pd.DataFrame) -> None:
    """Raise :class:`QuestionError` where a column is missing or unknown."""
    missing = [column for column in NEEDED if column not in frame.columns]
    unknown = [str(column) for column in frame.columns if column not in (*NEEDED, *ALSO)]
    if missing or unknown:
        said = f"lacks {', '.join(missing)}" if missing else f"has columns that mean nothing here: {', '.join(unknown)}"
        raise QuestionError(f"The table {said}; it takes {', '.join(NEEDED)}, and may have {', '.join(ALSO)}.")


class LookUp:
    """Turns columns of names into numbers. What the categories of a column stand for is kept for the next table."""

    def __init__(self, known: Mapping[str, int], complain: Callable[[str], object]) -> None:
        self.known, self.complain = known, complain
        self._kept: dict[int, tuple[object, NDArray[np.intp]]] = {}

    def __call__(self, column: pd.Series[Any]) -> NDArray[np.intp]:
        """Return each row's number; ``complain`` raises for a name that is used and not known."""
        import pandas as pd

        if isinstance(column.dtype, pd.CategoricalDtype):
            codes = column.cat.codes.to_numpy()
            result: NDArray[np.intp] = self._categories(column.cat.categories)[codes]
        elif isinstance(column.dtype, pd.StringDtype) and column.dtype.storage == "pyarrow":
            # such texts are told apart faster where they lie than made into strings of Python one by one
            codes, uniques = pd.factorize(column)
            result = self._numbers(uniques.tolist())[codes]
        else:
            found = map(self.known.get, column.tolist(), repeat(-1))
            result = np.fromiter(found, dtype=np.intp, count=len(column))
        if len(result) and result.min() < 0:
            first = column.iloc[int(np.flatnonzero(result < 0)[0])]
            self.complain("" if pd.isna(first) else str(first))
        return result

    def _categories(self, categories: pd.Index[Any]) -> NDArray[np.intp]:
        known = self._kept.get(id(categories))
        if known is None or known[0] is not categories:
            numbers = self._numbers(categories.tolist())
            if len(self._kept) >= _MOST_KEPT:
                self._kept.clear()
            known = self._kept[id(categories)] = (categories, numbers)
        return known[1]

    def _numbers(self, names: Sequence[str]) -> NDArray[np.intp]:
        """Return the names' numbers, and at the end what is missing: -1."""
        return np.fromiter(chain(map(self.known.get, names, repeat(-1)), [-1]), dtype=np.intp, count=len(names) + 1)


class LookUps:
    """The look-ups for one community."""

    def __init__(
        self,
        members: Mapping[str, int],
        places: Mapping[str, int],
        catalogue: Catalogue,
        unknown: tuple[Callable[[str], object], Callable[[str], object], Callable[[str], object]],
    ) -> None:
        number = {key: n for n, key in enumerate(catalogue.keys)}
        no_member, no_place, no_capability = unknown
        self.members, self.places = LookUp(members, no_member), LookUp(places, no_place)
        self.everybodys = LookUp(
            number | {bare: number[pair[1]] for bare, pair in catalogue.pairs.items()}, no_capability
        )
        self.own = LookUp(number | {bare: number[pair[0]] for bare, pair in catalogue.pairs.items()}, no_capability)

    def capabilities(self, frame: pd.DataFrame) -> NDArray[np.intp]:
        """Return each row's capability; a bare name is own where the member is the author, else all (rule 2.3)."""
        result = self.everybodys(frame["capability"])
        if "author" not in frame.columns:
            return result
        self.members(frame["author"].dropna())
        same = (frame["author"].astype(object) == frame["member"].astype(object)).to_numpy(dtype=bool)
        return np.where(same, self.own(frame["capability"]), result)


def answers(
    table: Table, members: NDArray[np.intp], capability: NDArray[np.intp], place: NDArray[np.intp]
) -> NDArray[np.bool_]:
    """Return what the table says, row by row."""
    rows = table.rows[members]
    _, capabilities, width = table.words.shape
    words = table.words.reshape(-1).take((table.numbers[place] * capabilities + capability) * width + (rows >> 6))
    found: NDArray[np.bool_] = ((words >> (rows & 63).astype(np.uint64)) & np.uint64(1)).astype(bool)
    return found


def when_of(column: pd.Series[Any]) -> list[When]:
    """Return moments as ``may`` takes them: pandas' timestamps are datetimes, what is missing is now."""
    import pandas as pd

    def plain(value: Any) -> When:
        if pd.isna(value):
            return None
        moment: When = value.to_pydatetime() if hasattr(value, "to_pydatetime") else value
        return moment

    return [plain(value) for value in column]
