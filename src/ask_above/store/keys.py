"""What other programs are known by, in the database: tokens, numbers of groups, claims, the secret of pages."""

from __future__ import annotations

import json
import secrets
from collections.abc import Collection
from typing import NamedTuple

import sqlalchemy as sa

from ask_above.store.database import Store
from ask_above.store.entries import Claims
from ask_above.store.tables import group_numbers, state, tokens

_SECRET = "pages"  # noqa: S105 (the name of it)
_CLAIMS = "sync:"


class TokenRow(NamedTuple):
    """One token: its name, the digest of what is shown once, as whom and what it may, from when until when."""

    name: str
    digest: str
    member: str
    may: str
    made: str
    until: str


def read_tokens(store: Store) -> list[TokenRow]:
    """Return the tokens by name."""
    with store.reading() as connection:
        return read_tokens_on(connection)


def read_tokens_on(connection: sa.Connection) -> list[TokenRow]:
    """Return the tokens by name, within a transaction."""
    return [TokenRow(*row) for row in connection.execute(sa.select(tokens).order_by(tokens.c.name))]


def write_token(store: Store, row: TokenRow) -> None:
    """Add a token."""
    with store.writing() as connection:
        connection.execute(tokens.insert().values(**row._asdict()))


def delete_token(store: Store, name: str) -> bool:
    """Take a token out; tell whether there was one."""
    with store.writing() as connection:
        return bool(connection.execute(tokens.delete().where(tokens.c.name == name)).rowcount)


def group_number(store: Store, key: str) -> str:
    """Return what others know a group or a rank by, ``group:KEY`` or ``rank:KEY``; nothing where they did not say."""
    with store.reading() as connection:
        query = sa.select(group_numbers.c.number).where(group_numbers.c.key == key)
        return connection.execute(query).scalar() or ""


def keep_group_numbers(connection: sa.Connection, there: Collection[str]) -> None:
    """Keep the numbers of the groups and ranks that there are: whichever has another's key next is not the same."""
    for key in connection.execute(sa.select(group_numbers.c.key)).scalars().all():
        if key not in there:
            connection.execute(group_numbers.delete().where(group_numbers.c.key == key))


def write_group_number(store: Store, key: str, number: str) -> None:
    """Keep what others know a group by; nothing takes it out."""
    with store.writing() as connection:
        connection.execute(group_numbers.delete().where(group_numbers.c.key == key))
        if number:
            connection.execute(group_numbers.insert().values(key=key, number=number))


def read_claims(store: Store) -> list[Claims]:
    """Return what each directory claims that members were taken over from."""
    with store.reading() as connection:
        return read_claims_on(connection)


def read_claims_on(connection: sa.Connection) -> list[Claims]:
    """Return what each directory claims, within a transaction."""
    rows = connection.execute(sa.select(state).where(state.c.name.startswith(_CLAIMS)).order_by(state.c.name)).all()
    found = [(name.removeprefix(_CLAIMS), json.loads(value)) for name, value in rows]
    return [Claims(name, tuple(said["fields"]), tuple(said["groups"])) for name, said in found]


def write_claims(store: Store, claims: Claims) -> None:
    """Keep what a directory claims; nothing of anything takes it out."""
    name = f"{_CLAIMS}{claims.source}"
    with store.writing() as connection:
        connection.execute(state.delete().where(state.c.name == name))
        if claims.fields or claims.groups:
            said = json.dumps({"fields": claims.fields, "groups": claims.groups})
            connection.execute(state.insert().values(name=name, value=said))


def page_secret(store: Store) -> bytes:
    """Return the secret that pages are signed with; the first who asks makes it, for every worker and machine."""
    with store.reading() as connection:
        secret = connection.execute(sa.select(state.c.value).where(state.c.name == _SECRET)).scalar()
    if secret is None:
        # asked again within the writing: another worker may have made it meanwhile
        with store.writing() as connection:
            known = connection.execute(sa.select(state.c.value).where(state.c.name == _SECRET)).scalar()
            secret = known or secrets.token_hex(32)
            if known is None:
                connection.execute(state.insert().values(name=_SECRET, value=secret))
    return bytes.fromhex(secret)
