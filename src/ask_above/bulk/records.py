"""The table of everyone everywhere as rows that a site can join on: who can use what where."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from ask_above.bulk.table import Table


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
