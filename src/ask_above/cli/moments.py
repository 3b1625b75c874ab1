"""Moments as people say them: ``2026-12-01``, ``30d``, ``P2W``, ``in 3 weeks``, ``tomorrow``, ``friday 18:00``.

ISO 8601 is read first; only what is not is given to a library. What could be meant in two ways is refused: bare
numbers, and dates with slashes or dots. Days, weeks and months give a day, hours and minutes a moment.
"""

from __future__ import annotations

import re
from calendar import month_name
from datetime import date, datetime, tzinfo
from typing import Any, Final, NamedTuple, TypeAlias

import click

from ask_above.charter.charter import Charter
from ask_above.charter.moments import HOW_TO_WRITE, parse

_UNCLEAR = re.compile(r"\d+|\d+[/.]\d+([/.]\d+)?")
_SHORT = re.compile(r"(\d+)\s*(hours?|h|days?|d|weeks?|w|months?|mo|years?|y)")
_PERIOD = re.compile(r"P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?)?")
_ONE = re.compile(r"(an?|one)\s+")
_EDGE = re.compile(
    r"(?:the )?(end|beginning|start) of (?:the |this )?(next )?(week|month|year|(?:[a-z]{3,9}))(?: (\d{4}))?"
)
_UNITS: Final = {"h": "hours", "d": "days", "w": "weeks", "mo": "months", "y": "years"}
HOW_LONG = "30d, 2w, 6h, 3 months, or an ISO period such as P30D"


class MomentWords(str):
    """A moment in words, which the charter's time zone and the clock make one."""

    __slots__ = ()


Typed: TypeAlias = date | datetime | MomentWords | None


class Moment(click.ParamType[Any]):
    """A date, or a date and time, in ISO 8601 or in words; without an offset in the charter's time zone."""

    name = "WHEN"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return a date, a datetime, or words."""
        if isinstance(value, date | MomentWords):
            return value
        try:
            return parse(value)
        except ValueError:
            pass
        text = value.strip()
        # 12/11 is a day in November or in December, by where one lives
        if not text or _UNCLEAR.fullmatch(text):
            self.fail(f"'{value}' could be meant in more than one way; write {HOW_TO_WRITE}.", param, ctx)
        return MomentWords(text)


class Lasting(click.ParamType[Any]):
    """How long something lasts."""

    name = "TIME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the text, where it is a stretch of time."""
        if stretch(str(value)) is None:
            self.fail(f"'{value}' is no stretch of time; write {HOW_LONG}.", param, ctx)
        return str(value)


def stretch(text: str) -> dict[str, int] | None:
    """Return a stretch of time by its units; ``None`` where the text is none."""
    short = _SHORT.fullmatch(_ONE.sub("1 ", text.strip().lower()))
    if short:
        unit = short[2] if short[2] in _UNITS else {"m": "mo"}.get(short[2][0], short[2][0])
        return {_UNITS[unit]: int(short[1])}
    match = _PERIOD.fullmatch(text.strip().upper())
    if match is None or not any(match.groups()):
        return None
    units = ("years", "months", "weeks", "days", "hours", "minutes")
    return {unit: int(said) for unit, said in zip(units, match.groups(), strict=True) if said}


def after(start: date | datetime | None, text: str, zone: tzinfo) -> date | datetime:
    """Return the end of a stretch of time: a day where it is of days, through which it lasts; else a moment."""
    from dateutil.relativedelta import relativedelta

    units = stretch(text) or {}
    fine = {"hours", "minutes"} & units.keys()
    if start is None or (fine and not isinstance(start, datetime)):
        now = datetime.now(zone).replace(second=0, microsecond=0)
        start = now if start is None else datetime.combine(start, _MIDNIGHT, zone)
    end = start + relativedelta(**units)
    return end if fine or not isinstance(end, datetime) else end.date()


_MIDNIGHT = datetime.min.time()


def meant(value: Typed, zone: tzinfo) -> date | datetime | None:
    """Return what was said of a moment: words are made one by the clock, in the charter's time zone."""
    if not isinstance(value, MomentWords):
        return value.replace(tzinfo=zone) if isinstance(value, datetime) and value.tzinfo is None else value
    if stretch(value) is not None:
        return after(None, value, zone)
    edge = _EDGE.fullmatch(value.strip().lower())
    if edge is not None:
        return _edge_of(edge, datetime.now(zone).date())
    from dateparser.date import DateDataParser

    # the library reckons without time zones
    now = datetime.now(zone).replace(tzinfo=None, second=0, microsecond=0)
    settings = {"PREFER_DATES_FROM": "future", "RELATIVE_BASE": now, "RETURN_TIME_AS_PERIOD": True}
    found = DateDataParser(languages=["en"], settings=settings).get_date_data(str(value))
    at: datetime | None = found.date_obj
    period = found.period
    # a month or a year alone, without a number, says no day
    if at is None or (period in ("month", "year") and not re.search(r"\d", value)):
        raise click.UsageError(f"Cannot read '{value}' as a date. Write {HOW_TO_WRITE}.")
    if period == "time":
        return at.replace(tzinfo=at.tzinfo or zone)
    return date(at.year, at.month, at.day)


def _edge_of(said: re.Match[str], today: date) -> date:
    """Return the first or last day of a week, a month or a year, as it is said: ``end of june``."""
    from dateutil.relativedelta import SU, relativedelta

    unit, year = said[3], int(said[4]) if said[4] else None
    months = [name[:3].lower() for name in month_name]
    if unit == "week":
        last, first = relativedelta(weekday=SU), relativedelta(days=-6)
    elif unit == "year":
        last, first = relativedelta(month=12, day=31), relativedelta(month=1, day=1)
    elif unit == "month":
        last, first = relativedelta(day=31), relativedelta(day=1)
    elif unit[:3] in months and month_name[months.index(unit[:3])].lower().startswith(unit):
        month = months.index(unit[:3])
        year = year or today.year + (month < today.month)
        last, first = relativedelta(month=month, day=31), relativedelta(day=1)
    else:
        raise click.UsageError(f"Cannot read '{said[0]}' as a date. Write {HOW_TO_WRITE}.")
    day = today.replace(year=year) if year else today
    if said[2]:
        day += relativedelta(**{f"{unit}s": 1}) if unit in ("week", "month", "year") else relativedelta(years=1)
    end: date = day + last
    begin: date = end + first
    return end if said[1] == "end" else begin


class Span(NamedTuple):
    """From when until when, or for how long."""

    since: Typed = None
    until: Typed = None
    lasting: str | None = None

    def written(self, charter: Charter) -> tuple[str, str]:
        """Return from when until when, as it is written in a register."""
        since, until, lasting = self
        if until is not None and lasting is not None:
            raise click.UsageError("Give --until or --for, not both.")
        start = meant(since, charter.zone)
        end = meant(until, charter.zone) if lasting is None else after(start, lasting, charter.zone)
        return _written(since, start), _written(until, end)


SPAN: Final = {
    "since": click.option("--from", "since", metavar="WHEN", type=Moment(), help="From this day or moment on."),
    "until": click.option(
        "--until", metavar="WHEN", type=Moment(), help="Through this day, or until this moment: 2027-03-31."
    ),
    "lasting": click.option(
        "--for", "lasting", metavar="TIME", type=Lasting(), help="For this long: 30d, 2w, 6h, P3M."
    ),
}
"""The options that say when something begins and ends."""


def _written(typed: Typed, moment: date | datetime | None) -> str:
    """Return a moment as it is written in a register: as it was typed, where that was a moment."""
    # a day that was typed stays a day: it lasts through its end, which a moment would not
    kept = moment if typed is None or isinstance(typed, MomentWords) else typed
    if kept is None:
        return ""
    text = kept.isoformat()
    return text.removesuffix(":00") if text.count(":") == 2 and "+" not in text else text  # noqa: PLR2004
