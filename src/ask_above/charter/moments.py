"""Moments and periods: from what is written to instants that can be compared (rule 4.6).

An instant is a whole number of microseconds since 1970-01-01 UTC, so that no comparison depends on a time zone.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta, tzinfo
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo

from ask_above.errors import MomentError

Instant = int

_EPOCH = datetime(1970, 1, 1)  # noqa: DTZ001 (differences of local readings, the offset is taken apart)
_MICROSECOND = timedelta(microseconds=1)
_FORM = re.compile(r"(\d{4}-\d\d-\d\d)(?:T(\d\d:\d\d(?::\d\d)?)(Z|[+-]\d\d:\d\d)?)?", re.ASCII)

HOW_TO_WRITE = "2026-12-01 or 2026-12-01T18:30, with an offset if needed"


@lru_cache(maxsize=64)
def zone(name: str) -> tzinfo | None:
    """Return the time zone of that name, ``None`` where there is none."""
    if name == "UTC":
        return UTC
    try:
        return ZoneInfo(name)
    except (OSError, ValueError, LookupError):
        return None


def zone_names() -> set[str]:
    """Return the names of all time zones that are known here; slow, for messages only."""
    from zoneinfo import available_timezones

    return available_timezones()


def instant(moment: datetime) -> Instant:
    """Return the instant of a moment with a time zone.

    A local time that occurs twice means the first, unless the datetime says otherwise; one that does not occur is read
    with the offset before the change.
    """
    # a missing moment of pandas is a datetime too, and has none
    offset = moment.utcoffset() if moment.tzinfo else None
    if offset is None:
        raise MomentError(f"The moment {moment.isoformat()} has no time zone; give a datetime with tzinfo, or a date.")
    # whole numbers: a timestamp as a float loses microseconds after a few decades
    return (moment.replace(tzinfo=None) - _EPOCH - offset) // _MICROSECOND


def start_of(day: date, where: tzinfo) -> Instant:
    """Return the instant at which a day starts in a time zone."""
    return instant(datetime(day.year, day.month, day.day, tzinfo=where))


def parse(text: str) -> date | datetime:
    """Read a date, or a date and time; a time without an offset comes back without a zone.

    Raises ``ValueError`` where the text is neither.
    """
    match = _FORM.fullmatch(text)
    if not match:
        raise ValueError(text)
    day, time, offset = match.groups()
    return date.fromisoformat(day) if time is None else datetime.fromisoformat(f"{day}T{time}{offset or ''}")


def is_date(text: str) -> bool:
    """Whether a text is empty, a date, or a date and time."""
    try:
        return not text or parse(text) is not None
    except ValueError:
        return False


def as_instant(moment: date | datetime, where: tzinfo) -> Instant:
    """Return the instant of something parsed; what has no offset is in the time zone ``where``."""
    if not isinstance(moment, datetime):
        return start_of(moment, where)
    return instant(moment if moment.tzinfo else moment.replace(tzinfo=where))


def written(at: Instant, where: tzinfo) -> str:
    """Write an instant as a date in a time zone, with the time where it is not midnight.

    >>> written(0, UTC)
    '1970-01-01'
    """
    moment = (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at)).astimezone(where)
    if (moment.hour, moment.minute, moment.second) == (0, 0, 0):
        return moment.date().isoformat()
    return moment.replace(tzinfo=None).isoformat(timespec="seconds" if moment.second else "minutes")


def written_end(at: Instant, where: tzinfo) -> str:
    """Write an instant at which something ends as a register does: the last day, or the moment within a day.

    >>> written_end(0, UTC)
    '1969-12-31'
    """
    moment = written(at, where)
    return moment if "T" in moment else (date.fromisoformat(moment) - timedelta(days=1)).isoformat()


class Period(NamedTuple):
    """From one instant, inclusive, until another, exclusive; ``None`` is open. Keeps the words it was written in."""

    start: Instant | None = None
    end: Instant | None = None
    said_from: str = ""
    said_until: str = ""

    def contains(self, at: Instant) -> bool:
        """Whether the instant is within the period."""
        return (self.start is None or self.start <= at) and (self.end is None or at < self.end)

    def comes_after(self, at: Instant) -> bool:
        """Whether the period has yet to begin at the instant, and will."""
        return self.start is not None and self.start > at and (self.end is None or self.start < self.end)


ALWAYS = Period()


@lru_cache(maxsize=4096)
def period(said_from: str, said_until: str, where: tzinfo) -> Period:
    """Return the period that is written; ``until`` a date means through that day. Raises ``ValueError``."""
    start = as_instant(parse(said_from), where) if said_from else None
    end = _end(parse(said_until), where) if said_until else None
    return Period(start, end, said_from, said_until)


def _end(until: date | datetime, where: tzinfo) -> Instant | None:
    if isinstance(until, datetime):
        return as_instant(until, where)
    return None if until == date.max else start_of(until + timedelta(days=1), where)
