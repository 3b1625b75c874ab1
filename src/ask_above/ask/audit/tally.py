"""A log brought down to what differs: each thing that was done in one stretch of time, how often, first and last.

Parts of a log are tallied apart and their tallies put together: whatever the order and the cuts, it is the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, Final

from ask_above.ask.audit.log import TEXTS, LogReader
from ask_above.charter.rules import ACT_WORDS

if TYPE_CHECKING:
    import numpy as np
    import pandas as pd
    from numpy.typing import NDArray

    from ask_above.ask.audit.states import Stretches

KEYS: Final = (*TEXTS, "stretch")
_MOST_KEYS: Final = 1 << 62
"""What the keys of a tally stay below, so that none overflows 64 bits."""


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
