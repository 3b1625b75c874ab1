"""Columns as the migrations write them, several at a time; what a migration once made it makes for ever."""

from __future__ import annotations

from collections.abc import Iterator

import sqlalchemy as sa


def number() -> sa.Column[int]:
    """Return the number that a table counts its rows by."""
    return sa.Column("number", sa.Integer, primary_key=True, autoincrement=True)


def member() -> sa.Column[str]:
    """Return the member that a row is of."""
    return sa.Column("member", sa.String(200), nullable=False, index=True)


def words(length: int, *names: str) -> Iterator[sa.Column[str]]:
    """Yield columns of short text that is always there."""
    return (sa.Column(name, sa.String(length), nullable=False) for name in names)


def texts(*names: str) -> Iterator[sa.Column[str]]:
    """Yield columns of text of any length that is always there."""
    return (sa.Column(name, sa.Text, nullable=False) for name in names)
