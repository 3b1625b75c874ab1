"""The charter: everything that an administrator writes, in one frozen object."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, tzinfo
from typing import NamedTuple

from ask_above.charter.catalogue import Catalogue
from ask_above.charter.expectations import Expectation
from ask_above.charter.ladder import Perk, Rank
from ask_above.charter.moments import zone
from ask_above.charter.names import SITE
from ask_above.charter.places import Group, OverrideSet, Place
from ask_above.charter.rules import Rules
from ask_above.charter.where import NOTHING


class Charter(NamedTuple):
    """The arrangement of a community.

    ``ranks`` are highest first. ``places`` start with the site and name every place after its parent. ``kinds`` are
    the kinds of place that there may be; none where any will do.
    """

    key: str
    catalogue: Catalogue
    ranks: Mapping[str, Rank]
    places: Mapping[str, Place]
    title: str = ""
    owner: str | None = None
    rules: Rules = Rules()
    groups: Mapping[str, Group] = NOTHING
    override_sets: Mapping[str, OverrideSet] = NOTHING
    perks: Mapping[str, Perk] = NOTHING
    expectations: tuple[Expectation, ...] = ()
    add_ons: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()

    @property
    def zone(self) -> tzinfo:
        """The time zone that dates without an offset are in."""
        return zone(self.rules.timezone) or UTC

    @property
    def site(self) -> Place:
        """The root place."""
        return self.places[SITE]

    def chain(self, place: str) -> tuple[str, ...]:
        """Return the places from the root to ``place``."""
        chain, here = [place], self.places[place].parent
        while here is not None:
            chain.append(here)
            here = self.places[here].parent
        return tuple(reversed(chain))
