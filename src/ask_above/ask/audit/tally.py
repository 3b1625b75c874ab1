"""A log brought down to what differs: each thing that was done in one stretch of time, how often, first and last.

Parts of a log are tallied apart and their tallies put together: whatever the order and the cuts, it is the same.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import tzinfo
from typing import TYPE_CHECKING, Any, Final

from ask_above.ask.audit.log import TEXTS, fields_of, read_log
from ask_above.charter.expectations import ACT_WORDS

if TYPE_CHECKING:
    import numpy as np
    import pandas as pd
    from numpy.typing import NDArray

    from ask_above.ask.audit.states import Stretches

KEYS: Final = (*TEXTS, "stretch")
COUNTS: Final = ("times", "first", "last")


def tally(log: pd.DataFrame, stretches: Stretches) -> pd.DataFrame:
    """Return what was done in each stretch of time: the columns of :data:`KEYS` and :data:`COUNTS`.

    ``first`` and ``last`` are microseconds since 1970.
    """
    import numpy as np
    import pandas as pd

    codes, members = pd.factorize(log["member"])
    whole = log["action"].isin(ACT_WORDS).to_numpy()
    stretch = stretches.of(log["when"].to_numpy(), np.asarray(members, dtype=object), codes, whole)
    return _grouped(log.assign(stretch=stretch, times=1, first=log["when"], last=log["when"]))


def together(tallies: Sequence[pd.DataFrame]) -> pd.DataFrame:
    """Return several tallies as one, in an order that does not depend on theirs."""
    import pandas as pd

    return _grouped(pd.concat(tallies, ignore_index=True)) if len(tallies) != 1 else tallies[0]


def _grouped(rows: pd.DataFrame) -> pd.DataFrame:
    grouped: Any = rows.groupby(list(KEYS), sort=True, observed=True)
    return grouped.agg(times=("times", "sum"), first=("first", "min"), last=("last", "max")).reset_index()  # type: ignore[no-any-return]


def tally_part(part: Any, mapping: Mapping[str, str], zone: tzinfo, stretches: Stretches) -> tuple[pd.DataFrame, int]:
    """Return the tally of a part of a log, a data frame or an Arrow table, and how many rows had been refused."""
    if hasattr(part, "schema"):
        return _tally_arrow(part, mapping, zone, stretches)
    done, refused = read_log(part, mapping, zone)
    return tally(done, stretches), refused


def _tally_arrow(
    table: Any, mapping: Mapping[str, str], zone: tzinfo, stretches: Stretches
) -> tuple[pd.DataFrame, int]:
    """Tally an Arrow table without making objects of its rows; what it cannot do goes by way of a data frame."""
    import numpy as np
    import pyarrow as pa

    fields = fields_of(table.column_names, mapping)
    when = table[fields["when"]]
    if "decision" in fields or not pa.types.is_timestamp(when.type) or when.type.tz is None or when.null_count:
        done, refused = read_log(table.to_pandas(), mapping, zone)
        return tally(done, stretches), refused
    moments = when.cast(pa.timestamp("us", when.type.tz)).cast(pa.int64())
    texts = [name for name in TEXTS if name in fields]
    coded = {name: _coded(table[fields[name]], pa) for name in texts}
    acts = np.isin(coded["action"][1].astype(str), ACT_WORDS)[coded["action"][0]]
    codes, members = coded["member"]
    # one number for each thing that was done: numbers are grouped several times as fast as texts
    key = stretches.of(moments.to_numpy(), members, codes, acts)
    for codes, names in coded.values():
        key = key * len(names) + codes
    made = pa.table([pa.array(key), moments], names=["key", "when"])
    grouped = made.group_by("key").aggregate([("when", "count"), ("when", "min"), ("when", "max")]).to_pandas()
    found = grouped.rename(columns=dict(zip(("when_count", "when_min", "when_max"), COUNTS, strict=True)))
    rest = found["key"].to_numpy()
    for name in reversed(texts):
        names = coded[name][1]
        rest, codes = np.divmod(rest, len(names))
        found[name] = names[codes]
    found["stretch"] = rest
    for name in TEXTS:
        if name not in texts:
            found[name] = ""
    found["place"] = found["place"].where(found["place"] != "", "site")
    return _grouped(found[[*KEYS, *COUNTS]]), 0


def _coded(column: Any, pa: Any) -> tuple[NDArray[np.int64], NDArray[Any]]:
    """Return a column of texts as numbers, and the texts; what is missing is the empty text."""
    import numpy as np

    if not pa.types.is_dictionary(column.type):
        column = column.cast(pa.string()).dictionary_encode()
    whole = column.unify_dictionaries().combine_chunks()
    chunk = whole.chunk(0) if hasattr(whole, "chunk") else whole
    names = np.array([*(each or "" for each in chunk.dictionary.cast(pa.string()).to_pylist()), ""], dtype=object)
    return chunk.indices.fill_null(len(names) - 1).to_numpy(zero_copy_only=False).astype(np.int64), names
