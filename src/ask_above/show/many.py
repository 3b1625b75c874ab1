"""Many communities side by side: for whoever hosts them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import NamedTuple

from ask_above.ask.cover import unbounded_members
from ask_above.ask.high_risk import high_risk_holders
from ask_above.charter.names import how_many
from ask_above.community import Community
from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.escalation.overview import rows as climb_rows
from ask_above.show.screen import Screen

COLUMNS = ("community", "title", "faults", "unmet", "unmet_later", "advice", "unbounded", "high_risk", "climbs")


class Hosted(NamedTuple):
    """What one community comes to: ``faults`` where it cannot be read, else the numbers.

    ``unbounded`` and ``high_risk`` count members, ``climbs`` the ranks that can reach something of high risk or come to
    be unbounded.
    """

    community: str
    title: str
    faults: int
    unmet: int | None = None
    unmet_later: int | None = None
    advice: int | None = None
    unbounded: int | None = None
    high_risk: int | None = None
    climbs: int | None = None


def hosted(folders: Iterable[Path], told: Callable[[int, int], None]) -> list[Hosted]:
    """Return what each of some folders comes to, in the order of their names."""
    some = sorted(folders)
    communities = []
    for n, folder in enumerate(some, 1):
        communities.append(_one(folder))
        told(n, len(some))
    return communities


def _one(folder: Path) -> Hosted:
    try:
        community = Community.open(folder)
    except FaultyFilesError as error:
        return Hosted(folder.name, "", len(error.faults))
    except (AskAboveError, OSError):
        return Hosted(folder.name, "", 1)
    decider, at = community.decider, community.names.moment()
    able = {key for keys in high_risk_holders(decider, at).values() for key in keys}
    climbs = sum(bool(free or high) for _, free, high, *_ in climb_rows(decider))
    return Hosted(
        folder.name,
        community.charter.title or community.charter.key,
        0,
        len(community.unmet()),
        len(community.unmet_later()),
        len(community.advice().pieces),
        len(unbounded_members(decider, at)),
        len(able),
        climbs - sum(rank.unbounded for rank in community.charter.ranks.values()),
    )


def show_hosted(screen: Screen, some: list[Hosted]) -> None:
    """Show them as a table."""
    screen.line(how_many(len(some), "community", "communities"), "head")
    screen.line()
    heads = ["Folder", "Title", "Faults", "Unmet", "Will be", "Advice", "Unbounded", "High risk", "Ranks that climb"]
    rows = [["" if cell is None else str(cell) for cell in each] for each in some]
    screen.table(heads, rows, right=range(2, len(heads)))
