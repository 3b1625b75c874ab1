"""What fits someone's needs, on the screen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ask_above.ask.fit.new_rank import Proposal
from ask_above.ask.fit.search import Fit, Fitting
from ask_above.charter.names import listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.screen import Screen

FIT_COLUMNS = ("fit", "ranks", "weight", "capability", "risk", "places")


def show_fit(
    screen: Screen, compiled: CompiledCharter, wanted: Sequence[str], fit: Fit, proposal: Proposal | None, limit: int
) -> None:
    """Show the best rank, the best few, what is too much in each, and a new rank where none fits."""
    screen.paragraph(f"Needed: {'; '.join(wanted)}", style="head", rest="  ")
    screen.line()
    if fit.single is None:
        screen.line("No single rank gives all of it.", "no")
    else:
        _fitting(screen, compiled, "The best single rank", fit.single)
    if fit.few is None:
        screen.line("No few ranks together give all of it.", "no")
    elif fit.few != fit.single:
        _fitting(screen, compiled, "The best few together", fit.few)
    else:
        screen.line("No few ranks together fit better.", "dim")
    best = fit.few
    if best is not None and best.weight <= limit:
        return
    screen.line()
    if best is not None:
        screen.paragraph(f"All of it weighs more than {limit} beyond the need. A rank made for it:", style="warn")
    if proposal is None:
        screen.line(
            "No new rank can give it either: a bar or a gate stands against it, or it has no meaning there.", "no"
        )
        return
    _proposal(screen, compiled, proposal)


def _fitting(screen: Screen, compiled: CompiledCharter, said: str, fitting: Fitting) -> None:
    titles = listed(compiled.charter.ranks[key].title for key in fitting.ranks) or "none is needed; every member can"
    screen.line(f"{said}: {titles}", "yes")
    if not fitting.excess:
        screen.line("  brings nothing beyond the need")
        return
    screen.line(f"  too much in it (weight {fitting.weight}):")
    for each in fitting.excess:
        titles = ", ".join(
            "the whole site" if k == "site" else compiled.charter.places[k].title for k in each.places[:3]
        )
        more = len(each.places) - 3
        risk = f", {each.risk} risk" if each.risk != "low" else ""
        said = f"{each.capability}{risk}, in {titles}{f' and {more} more' if more > 0 else ''}"
        screen.paragraph(said, first="    ", rest="      ", style="warn" if each.risk == "high" else "")


def _proposal(screen: Screen, compiled: CompiledCharter, proposal: Proposal) -> None:
    below = f"directly below {compiled.charter.ranks[proposal.below].title}" if proposal.below else "at the top"
    screen.line(f"Under ranks, {below}:")
    for line in proposal.rank.splitlines():
        screen.line(f"  {line}", "place")
    for place, line in proposal.overrides:
        screen.line(f"Under the overrides of {compiled.charter.places[place].title} ({place}):")
        screen.line(f"  {line}", "place")
    for place, line in proposal.gates:
        screen.line(f"At {compiled.charter.places[place].title} ({place}), the gate:")
        screen.line(f"  {line}", "place")
    weight = proposal.fitting.weight
    said = f"brings nothing beyond the need, weight {weight}" if not weight else f"too much in it weighs {weight}"
    screen.line(f"It {said}." if not weight else f"What is {said}.")


def fit_rows(fit: Fit) -> list[list[object]]:
    """Return a row for each capability too much; one without any where nothing is."""
    rows: list[list[object]] = []
    for name, each in (("single", fit.single), ("few", fit.few)):
        if each is None:
            continue
        for excess in each.excess or (None,):
            said = ["", "", ""] if excess is None else [excess.capability, excess.risk, ";".join(excess.places)]
            rows.append([name, ";".join(each.ranks), each.weight, *said])
    return rows


def fit_data(fit: Fit, proposal: Proposal | None) -> dict[str, Any]:
    """Return what fits as plain data."""

    def plain(each: Fitting | None) -> dict[str, Any] | None:
        if each is None:
            return None
        return {"ranks": each.ranks, "weight": each.weight, "excess": [excess._asdict() for excess in each.excess]}

    made = None
    if proposal is not None:
        made = {
            "key": proposal.key,
            "below": proposal.below,
            "rank": proposal.rank,
            "overrides": dict(proposal.overrides),
            "gates": dict(proposal.gates),
            "fitting": plain(proposal.fitting),
        }
    return {"single": plain(fit.single), "few": plain(fit.few), "proposal": made}
