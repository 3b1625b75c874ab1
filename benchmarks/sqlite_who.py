"""The question who may do something at a place, put to SQLite as one query with the indexes it wants.

It reads the rules as far as the standard community uses them: automatic, assigned and local ranks, groups, overrides
layer by layer from the root on, what a capability rests on.
"""

from __future__ import annotations

import sqlite3

from ask_above import Community

SCHEMA = """
create table place (id integer primary key, parent integer, depth integer);
create table held (member integer, rank integer, place integer);
create table in_group (member integer, holder integer);
create table word (place integer, capability integer, holder integer, layer integer, allowed integer);
create table carried (rank integer, capability integer);
"""
INDEXES = """
create index held_by on held (rank, place, member);
create index in_group_by on in_group (holder, member);
create index word_by on word (capability, place, holder);
create index carried_by on carried (capability, rank);
analyze;
"""

# layers: 0 automatic ranks, 1 other ranks, 2 groups; in one layer the highest rank's word stands, among groups a deny
WHO = """
with recursive chain(id, depth) as (
    select id, depth from place where id = :place
    union all
    select place.parent, place.depth - 1 from place join chain on place.id = chain.id where place.parent is not null
),
needed(capability) as (select value from json_each(:needed)),
holder(member, holder) as (
    select member, rank from held where place in (select id from chain)
    union select member, holder from in_group
),
said as (
    select holder.member, word.capability, word.allowed,
           row_number() over (
               partition by holder.member, word.capability
               order by chain.depth desc, word.layer desc, case word.layer when 2 then word.allowed else word.holder end
           ) as turn
    from needed
    join word on word.capability = needed.capability
    join chain on chain.id = word.place
    join holder on holder.holder = word.holder
),
last as (select member, capability, allowed from said where turn = 1),
brought as (
    select distinct held.member, carried.capability
    from needed
    join carried on carried.capability = needed.capability
    join held on held.rank = carried.rank and held.place in (select id from chain)
),
has(member, capability) as (
    select member, capability from last where allowed
    union
    select brought.member, brought.capability from brought
    left join last on last.member = brought.member and last.capability = brought.capability
    where last.allowed is null
)
select member from has group by member having count(*) = (select count(*) from needed) order by member
"""


class SqliteWho:
    """The standard community in SQLite."""

    def __init__(self, community: Community) -> None:
        self.compiled = community.decider.compiled
        compiled, register = self.compiled, community.register
        self.number = {key: n for n, key in enumerate(compiled.catalogue.keys)}
        self.holder = {rank.key: rank.position for rank in compiled.ranks}
        self.holder |= {group: 1_000 + n for n, group in enumerate(compiled.charter.groups)}
        self.database = sqlite3.connect(":memory:")
        self.database.executescript(SCHEMA)
        run = self.database.executemany
        run(
            "insert into place values (?, ?, ?)",
            (
                (n, None if place.parent is None else compiled.place_at[place.parent], len(compiled.chains[n]))
                for n, place in enumerate(compiled.places)
            ),
        )
        run("insert into carried values (?, ?)", self._carried())
        run("insert into word values (?, ?, ?, ?, ?)", self._words())
        automatic = [rank.position for rank in compiled.ranks if rank.held_by in ("anyone", "members")]
        now = community.names.moment()
        for n, (key, member) in enumerate(register.members.items()):
            given = [
                (n, compiled.rank_at[a.rank], compiled.place_at[a.place])
                for a in register.of(key)
                if a.period.contains(now)
            ]
            run("insert into held values (?, ?, ?)", [*given, *((n, rank, 0) for rank in automatic)])
            run("insert into in_group values (?, ?)", ((n, self.holder[group]) for group in member.groups))
        self.database.executescript(INDEXES)

    def _carried(self) -> list[tuple[int, int]]:
        names = self.compiled.catalogue.names
        return [(rank, self.number[key]) for rank, mask in enumerate(self.compiled.carried) for key in names(mask)]

    def _words(self) -> list[tuple[int, int, int, int, int]]:
        compiled, rows = self.compiled, []
        for n in range(len(compiled.places)):
            for holder, word in compiled.words_at(n).items():
                rank = compiled.charter.ranks.get(holder)
                layer = 2 if rank is None else 0 if rank.automatic else 1
                for mask, allowed in ((word.allow, 1), (word.deny, 0)):
                    rows += [
                        (n, self.number[key], self.holder[holder], layer, allowed)
                        for key in compiled.catalogue.names(mask)
                    ]
        return rows

    def who(self, capability: str, place: str) -> list[int]:
        """Return the numbers of the members who may use a capability at a place."""
        n = self.compiled.place_at[place]
        if not self.compiled.has_meaning(n) & self.compiled.catalogue.bit[capability]:
            return []
        needed = [self.number[key] for key in self.compiled.catalogue.names(self.compiled.rests(capability, n))]
        found = self.database.execute(WHO, {"place": n, "needed": str(needed)})
        return [row[0] for row in found]
