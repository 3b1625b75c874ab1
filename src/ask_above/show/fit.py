"""What fits someone's needs, on the screen."""

from __future__ import annotations

from typing import Any

from ask_above.ask.fit.new_rank import Proposal
from ask_above.ask.fit.search import Fit, Fitting
from ask_above.charter.names import few, listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.show.data import Table
from ask_above.show.screen import Screen


def show_fit(screen: Screen, fit: Fit) -> None:
    """Show the best rank, the best few, and what is too much in each."""
    screen.paragraph(f"Needed: {'; '.join(_wanted(fit))}", style="head", rest="  ")
    screen.line()
    if fit.single is None:
        screen.line("No single rank gives all of it.", "no")
    else:
        _fitting(screen, fit.compiled, "The best single rank", fit.single)
    if fit.few is None:
        screen.line("No few ranks together give all of it.", "no")
    elif fit.few != fit.single:
        _fitting(screen, fit.compiled, "The best few together", fit.few)
    else:
        screen.line("No few ranks together fit better.", "dim")


def show_new_rank(screen: Screen, fit: Fit, proposal: Proposal | None, limit: int) -> None:
    """Show a new rank, where what fits is too much."""
    screen.line()
    if fit.few is not None:
        screen.paragraph(f"All of it weighs more than {limit} beyond the need. A rank made for it:", style="warn")
    if proposal is None:
        screen.line(
            "No new rank can give it either: a bar or a gate stands against it, or it has no meaning there.", "no"
        )
    else:
        show_proposal(screen, proposal)


def _wanted(fit: Fit) -> list[str]:
    """Say what is needed, and what must not be."""
    places = fit.compiled.places
    wanted = [need.capability + ("" if need.place is None else f" in {places[need.place].title}") for need in fit.needs]
    return wanted + [f"never {each.capability}" for each in fit.never]


def _fitting(screen: Screen, compiled: CompiledCharter, said: str, fitting: Fitting) -> None:
    titles = listed(compiled.charter.ranks[key].title for key in fitting.ranks) or "none is needed; every member can"
    screen.line(f"{said}: {titles}", "yes")
    if not fitting.excess:
        screen.line("  brings nothing beyond the need")
        return
    screen.line(f"  too much in it (weight {fitting.weight}):")
    for excess in fitting.excess:
        where = ("the whole site" if k == "site" else compiled.named[k].title for k in excess.places)
        risk = f", {excess.risk} risk" if excess.risk != "low" else ""
        said = f"{excess.capability}{risk}, in {few(where, 3)}"
        screen.paragraph(said, first="    ", rest="      ", style="warn" if excess.risk == "high" else "")


def show_proposal(screen: Screen, proposal: Proposal) -> None:
    """Show a new rank as the lines that make it."""
    charter = proposal.charter
    below = f"directly below {charter.ranks[proposal.below].title}" if proposal.below else "at the top"
    screen.line(f"Under ranks, {below}:")
    for line in proposal.rank.splitlines():
        screen.line(f"  {line}", "place")
    for place, line in proposal.overrides:
        screen.line(f"Under the overrides of {charter.places[place].title} ({place}):")
        screen.line(f"  {line}", "place")
    for place, line in proposal.gates:
        screen.line(f"At {charter.places[place].title} ({place}), the gate:")
        screen.line(f"  {line}", "place")
    weight = proposal.fitting.weight
    said = f"brings nothing beyond the need, weight {weight}" if not weight else f"too much in it weighs {weight}"
    screen.line(f"It {said}." if not weight else f"What is {said}.")


def fit_table(fit: Fit, proposal: Proposal | None) -> Table:
    """Return a row for each capability too much; one without any where nothing is."""
    rows: list[list[object]] = []
    for name, each in (("single", fit.single), ("few", fit.few)):
        if each is None:
            continue
        for excess in each.excess or (None,):
            said = ["", "", ""] if excess is None else [excess.capability, excess.risk, ";".join(excess.places)]
            rows.append([name, ";".join(each.ranks), each.weight, *said])
    return Table(("fit", "ranks", "weight", "capability", "risk", "places"), rows, _plain(fit, proposal))


def _plain(fit: Fit, proposal: Proposal | None) -> dict[str, Any]:
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
