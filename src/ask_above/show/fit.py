"""What fits someone's needs, on the screen."""

from __future__ import annotations

from typing import Any

from ask_above.ask.fit.new_rank import Proposal
from ask_above.ask.fit.search import Fit, Fitting, prevented
from ask_above.charter.names import listed
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.words import in_places
from ask_above.show.data import Table
from ask_above.show.screen import Screen, at_most

_MOST = 6


def show_fit(screen: Screen, fit: Fit) -> None:
    """Show the best rank, the best few, and what is too much in each."""
    screen.paragraph(f"Needed: {'; '.join(_wanted(fit))}", style="head", rest="  ")
    screen.line()
    if fit.single is None:
        screen.line("No single rank grants all of it.", "no")
    else:
        _fitting(screen, fit.compiled, "The best single rank", fit.single)
    if fit.few is None:
        screen.line("No combination of ranks grants all of it.", "no")
    elif fit.few != fit.single:
        _fitting(screen, fit.compiled, "The best combination", fit.few)
    else:
        screen.line("No combination of ranks fits better.", "dim")


def show_new_rank(screen: Screen, fit: Fit, proposal: Proposal | None, limit: int) -> None:
    """Show a new rank, where what fits is too much."""
    screen.line()
    if fit.few is not None:
        screen.paragraph(f"Each grants more than weight {limit} beyond the need. A new rank for it:", style="warn")
    if proposal is None:
        screen.line(f"A new rank cannot grant it either: {prevented(fit)}.", "no")
    else:
        show_proposal(screen, proposal)


def _wanted(fit: Fit) -> list[str]:
    """Say what is needed, and what must not be."""
    places = fit.compiled.places
    wanted = [
        need.capability + ("" if need.place is None else f" in {places[need.place].called}") for need in fit.needs
    ]
    return wanted + [f"never {each.capability}" for each in fit.never]


def _fitting(screen: Screen, compiled: CompiledCharter, said: str, fitting: Fitting) -> None:
    titles = listed(compiled.charter.ranks[key].called for key in fitting.ranks) or "none is needed; every member may"
    screen.line(f"{said}: {titles}", "yes")
    if not fitting.excess:
        screen.line("  grants nothing beyond the need")
        return
    screen.line(f"  beyond the need (weight {fitting.weight}):")
    for excess in screen.some(fitting.excess, _MOST, "    "):
        where = in_places(compiled.named, excess.places, at_most(3))
        risk = f", {excess.risk} risk" if excess.risk != "low" else ""
        said = f"{excess.capability}{risk} {where}"
        screen.paragraph(said, first="    ", rest="      ", style="warn" if excess.risk == "high" else "")


def show_proposal(screen: Screen, proposal: Proposal) -> None:
    """Show the commands that make a new rank."""
    weight = proposal.fitting.weight
    screen.line("It grants nothing beyond the need." if not weight else f"Beyond the need, weight {weight}.")
    for command in proposal.commands:
        screen.line(f"  {command}", "place")


def fit_table(fit: Fit, proposal: Proposal | None) -> Table:
    """Return a row for each capability too much; one without any where nothing is."""
    rows: list[list[object]] = []
    for name, fitting in (("single", fit.single), ("few", fit.few)):
        if fitting is None:
            continue
        for excess in fitting.excess or (None,):
            said = ["", "", ""] if excess is None else [excess.capability, excess.risk, ";".join(excess.places)]
            rows.append([name, ";".join(fitting.ranks), fitting.weight, *said])
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
            "commands": proposal.commands,
            "fitting": plain(proposal.fitting),
        }
    return {"single": plain(fit.single), "few": plain(fit.few), "proposal": made}
