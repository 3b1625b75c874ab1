"""Who may speak to a service: bearer tokens, shown once and kept by their digest alone."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from typing import NamedTuple

from ask_above.change.draft import EditError
from ask_above.charter.moments import as_instant, parse
from ask_above.charter.names import is_key, nearest
from ask_above.store.database import Store
from ask_above.store.entries import Entry
from ask_above.store.keys import TokenRow, delete_token, read_tokens, write_token
from ask_above.workspace.home import Home
from ask_above.workspace.plans import plan
from ask_above.workspace.storage import now, opened

_PREFIX = "aa_"


class TokenMay(StrEnum):
    """What a token may: put questions, or change members too."""

    READ = "read"
    PROVISION = "provision"


class Token(NamedTuple):
    """A token without its secret; ``until`` is empty where it has no end."""

    name: str
    member: str
    may: TokenMay
    made: str
    until: str

    def is_over(self, at: datetime) -> bool:
        """Whether it has ended."""
        return bool(self.until) and datetime.fromisoformat(self.until) <= at


def digest_of(secret: str) -> str:
    """Return what is kept of a token's secret."""
    return hashlib.sha256(secret.encode("utf-8")).hexdigest()


def tokens_of(store: Store) -> dict[str, Token]:
    """Return the tokens by the digest of their secret."""
    return {
        row.digest: Token(row.name, row.member, TokenMay(row.may), row.made, row.until) for row in read_tokens(store)
    }


def add_token(home: Home, name: str, *, member: str = "", may: TokenMay = TokenMay.READ, until: str = "") -> str:
    """Make a token and return its secret, which nothing tells again; the journal notes that it was made.

    ``until`` is a date, through that day in the charter's time zone, or a moment. Raises :class:`EditError`.
    """
    if not is_key(name):
        raise EditError(f"'{name}' cannot be the name of a token; small letters, digits, - and _ can.")
    names = opened(home, home.read())
    who = names.member(member).key if member else ""
    if may is TokenMay.PROVISION and not who:
        raise EditError("A token that may change members acts as one: --as MEMBER.")
    end = _end(until, home)
    if home.location.holds_register() and any(row.name == name for row in read_tokens(home.store)):
        raise EditError(f"There is a token '{name}' already; remove it first: ask-above token remove {name}")
    whose = f" for {names.member(who).called}" if who else ""
    _note(home, f"make the token {name}{whose}, which may {may}")
    secret = _PREFIX + secrets.token_urlsafe(32)
    write_token(home.store, TokenRow(name, digest_of(secret), who, may, now(), end))
    return secret


def remove_token(home: Home, name: str) -> None:
    """Take a token back; raises :class:`EditError` where there is none of that name."""
    known = [row.name for row in read_tokens(home.store)] if home.location.holds_register() else []
    if name not in known:
        near = nearest(name, known)
        hint = f" Nearest: {', '.join(near)}." if near else ""
        raise EditError(f"There is no token '{name}'.{hint}")
    delete_token(home.store, name)
    _note(home, f"take back the token {name}")


def _end(until: str, home: Home) -> str:
    """Return when a token ends: with the day that is named, or at the moment."""
    if not until:
        return ""
    said = parse(until)
    end = said if isinstance(said, datetime) else said + timedelta(days=1)
    moment = as_instant(end, home.read().charter.zone)
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=moment)).isoformat()


def _note(home: Home, what: str) -> None:
    """Write an entry of the journal that changes nothing of the community."""
    with home.locked():
        made = plan(home, [])
        entry = Entry(0, now(), "", "token", what)
        home.change(made.planned(entry))
