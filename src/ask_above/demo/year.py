"""A year of what the demo's members did, from a seed, with three honest incidents in it.

A host whose time was over went on for an hour; a bot wrote where it should not; a right of one rank was never used.
Made once and shipped as ``actions.csv.gz``: ``python -m ask_above.demo.year``.
"""

from __future__ import annotations

import csv
import gzip
import io
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

from ask_above.community import Community
from ask_above.decide.walk import ranks_at

FILE = "actions.csv.gz"
COLUMNS = ("when", "member", "action", "place", "author", "target", "using")
ROWS = 40_000
_START, _DAYS = datetime(2025, 11, 1, tzinfo=UTC), 365
_OFTEN = {"place.see": 60, "post.write": 14, "photo.upload": 5, "reading.post": 8, "rota.join": 4, "post.edit": 3}
_NEVER_USED = ("host", "place.pin")
Row = tuple[datetime, str, str, str, str, str, str]


def year(community: Community, rows: int = ROWS, seed: int = 1) -> list[Row]:
    """Return what was done, in the order of time."""
    rng = Random(seed)  # noqa: S311 (seeded is meant)
    incidents = [*_after_the_end(community), *_the_bot(rng)]
    needed = [*_what_ranks_are_for(community, rng)]
    usual = [*_usual(community, rng, rows - len(incidents) - len(needed))]
    return sorted([*incidents, *needed, *usual])


def _usual(community: Community, rng: Random, count: int) -> Iterator[Row]:
    """Yield what members do day by day: what they may, mornings and evenings, some of them much and most little."""
    people = [m for m in community.register.members.values() if m.is_active]
    weights = [rng.paretovariate(1.3) for _ in people]
    names, often = list(_OFTEN), list(_OFTEN.values())
    places = [key for key in community.charter.places if key != "site"]
    while count:
        member = rng.choices(people, weights)[0]
        when = _START + timedelta(days=rng.randrange(_DAYS), hours=rng.choice([7, 8, 12, 17, 18, 19, 20, 21]))
        when += timedelta(seconds=rng.randrange(3600))
        if member.joined and member.joined > when.date().isoformat():
            continue
        action, place = rng.choices(names, often)[0], rng.choice(places)
        author = member.key if action == "post.edit" else ""
        if community.may(member.key, action, at=place, author=author or None, when=when):
            count -= 1
            yield when, member.key, action, place, author, "", ""


def _what_ranks_are_for(community: Community, rng: Random) -> Iterator[Row]:
    """Yield some use of all that a rank grants and its holders may, but for the one right that nobody used."""
    compiled = community.decider.compiled
    for rank in compiled.ranks:
        holders = [assignment.member for assignment in community.register.assignments if assignment.rank == rank.key]
        for key in compiled.catalogue.names(compiled.granted(rank)):
            if (rank.key, key) == _NEVER_USED or rank.automatic or rank.unbounded:
                continue
            if compiled.catalogue.capabilities[key].risk == "high" and rank.key != "warden":
                continue
            places = [
                p.key for n, p in enumerate(compiled.places) if compiled.has_meaning(n) & compiled.catalogue.bit[key]
            ]
            for _ in range(300 if holders and places else 0):
                when = _START + timedelta(seconds=rng.randrange(_DAYS * 86_400))
                who, place = rng.choice(holders), rng.choice(places)
                author = who if key.endswith(".own") else ""
                if (
                    community.may(who, key, at=place, when=when)
                    and _through(community, who, place, when, key) == rank.key
                ):
                    yield when, who, key, place, author, "", ""
                    break


def _through(community: Community, who: str, place: str, when: datetime, key: str) -> str:
    """Return the highest rank through which somebody has something somewhere."""
    names = community.names
    compiled, asked = community.decider.compiled, names.asked(who, names.moment(when))
    held = ranks_at(compiled, asked.profile, names.place_number(place)) if asked.profile else []
    carrying = [n for n in held if n in compiled.unbounded or compiled.carried[n] & compiled.catalogue.bit[key]]
    return compiled.ranks[carrying[0]].key if carrying else ""


def _after_the_end(community: Community) -> Iterator[Row]:
    """Yield the evening on which Mira's time as a host was over: the last acts in it, and two after it."""
    host = next(assignment for assignment in community.register.of("mira") if assignment.rank == "host")
    end = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=host.period.end or 0)
    for minutes, action in ((-48, "thread.close"), (-31, "thread.close"), (-4, "member.mute")):
        yield end + timedelta(minutes=minutes), "mira", action, "river-talk", "", "", ""
    for minutes, action in ((7, "thread.close"), (22, "member.mute")):
        yield end + timedelta(minutes=minutes), "mira", action, "river-talk", "", "", ""


def _the_bot(rng: Random) -> Iterator[Row]:
    """Yield what the gauge feed wrote into the notices for two days, after it had been set up in the wrong way."""
    for hour in range(48):
        when = datetime(2026, 2, 14, tzinfo=UTC) + timedelta(hours=hour, seconds=rng.randrange(60))
        yield when, "gauge-feed", "post.write", "notices", "", "", ""


def as_file(rows: list[Row]) -> bytes:
    """Return the rows as a compressed CSV file, the same bytes each time."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows((when.isoformat(timespec="seconds"), *rest) for when, *rest in rows)
    return gzip.compress(text.getvalue().encode("utf-8"), mtime=0)


if __name__ == "__main__":
    (Path(__file__).parent / "wren-valley" / FILE).write_bytes(as_file(year(Community.demo())))
