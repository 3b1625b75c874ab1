"""Ask Above: member ranks, what they may do in every place, and who stands above whom.

>>> from ask_above import VISITOR, Community
>>> community = Community.demo()
>>> bool(community.may(VISITOR, "place.see", at="notices"))
True
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above import printing as _printing
from ask_above.lazily import lazily
from ask_above.show import shown as _shown
from ask_above.version import __version__ as __version__

if TYPE_CHECKING:
    from ask_above.ask.advice.accounts import SharedAccount
    from ask_above.ask.advice.piece import Piece
    from ask_above.ask.advice.whole import AdviceGiven
    from ask_above.ask.audit.judge import Deed
    from ask_above.ask.audit.result import Audit, NotAllowed, TurnedSince, UnknownName, Unused, Used
    from ask_above.ask.compare import Compared, Comparison
    from ask_above.ask.cover import Cover, Crowded, Gap
    from ask_above.ask.describe.describer import Described
    from ask_above.ask.expect import Unmet
    from ask_above.ask.fit.new_rank import Proposal
    from ask_above.ask.fit.search import Excess, Fit, Fitting
    from ask_above.ask.impact.whole import Impact, Shift, TurnedExpectation
    from ask_above.ask.roster import Heading, Roster, RosterEntry
    from ask_above.ask.tour import Stop, Tour
    from ask_above.ask.ways.search import Way, Ways
    from ask_above.bulk.table import Table
    from ask_above.change.draft import EditError
    from ask_above.change.refusal import Refusal
    from ask_above.charter.charter import Charter
    from ask_above.charter.expectations import Expectation
    from ask_above.charter.ladder import Rank
    from ask_above.charter.places import Place
    from ask_above.community import Community
    from ask_above.decide.answer import Account, Answer, Step
    from ask_above.decide.decider import VISITOR
    from ask_above.decide.looks import Looks, PerkHeld
    from ask_above.decide.names import Names
    from ask_above.errors import (
        AmbiguousNameError,
        AskAboveError,
        Fault,
        FaultyFilesError,
        MissingFileError,
        MomentError,
        QuestionError,
        StoreError,
        UnknownNameError,
    )
    from ask_above.escalation.paths import Climbed, ClimbPath
    from ask_above.people.register import Assignment, Member, Register
    from ask_above.people.signins import SignIn
    from ask_above.store.entries import Entry
    from ask_above.workspace.journal import Event, History
    from ask_above.workspace.memory import MemoryStorage
    from ask_above.workspace.plans import Plan, RefusedError
    from ask_above.workspace.storage import BusyError, ChangedMeanwhileError, Planned, Remembered, Storage

__all__ = [
    "VISITOR", "Account", "AdviceGiven", "AmbiguousNameError", "Answer", "AskAboveError", "Assignment", "Audit",
    "BusyError", "ChangedMeanwhileError", "Charter", "ClimbPath", "Climbed", "Community", "Compared", "Comparison",
    "Cover", "Crowded", "Deed", "Described", "EditError", "Entry", "Event", "Excess", "Expectation", "Fault",
    "FaultyFilesError", "Fit", "Fitting", "Gap", "Heading", "History", "Impact", "Looks", "Member", "MemoryStorage",
    "MissingFileError", "MomentError", "Names", "NotAllowed", "PerkHeld", "Piece", "Place", "Plan", "Planned",
    "Proposal", "QuestionError", "Rank", "Refusal", "RefusedError", "Register", "Remembered", "Roster", "RosterEntry",
    "SharedAccount", "Shift", "SignIn", "Step", "Stop", "Storage", "StoreError", "Table", "Tour", "TurnedExpectation",
    "TurnedSince", "UnknownName", "UnknownNameError", "Unmet", "Unused", "Used", "Way", "Ways",
]  # fmt: skip

_NAMES = {
    "ask.advice.accounts": ("SharedAccount",),
    "ask.advice.piece": ("Piece",),
    "ask.advice.whole": ("AdviceGiven",),
    "ask.audit.judge": ("Deed",),
    "ask.audit.result": ("Audit", "NotAllowed", "TurnedSince", "UnknownName", "Unused", "Used"),
    "ask.compare": ("Compared", "Comparison"),
    "ask.cover": ("Cover", "Crowded", "Gap"),
    "ask.describe.describer": ("Described",),
    "ask.expect": ("Unmet",),
    "ask.fit.new_rank": ("Proposal",),
    "ask.fit.search": ("Excess", "Fit", "Fitting"),
    "ask.impact.whole": ("Impact", "Shift", "TurnedExpectation"),
    "ask.roster": ("Heading", "Roster", "RosterEntry"),
    "ask.tour": ("Stop", "Tour"),
    "ask.ways.search": ("Way", "Ways"),
    "bulk.table": ("Table",),
    "change.draft": ("EditError",),
    "change.refusal": ("Refusal",),
    "charter.charter": ("Charter",),
    "charter.expectations": ("Expectation",),
    "charter.ladder": ("Rank",),
    "charter.places": ("Place",),
    "community": ("Community",),
    "decide.answer": ("Account", "Answer", "Step"),
    "decide.decider": ("VISITOR",),
    "decide.looks": ("Looks", "PerkHeld"),
    "decide.names": ("Names",),
    "errors": (
        "AmbiguousNameError",
        "AskAboveError",
        "Fault",
        "FaultyFilesError",
        "MissingFileError",
        "MomentError",
        "QuestionError",
        "StoreError",
        "UnknownNameError",
    ),
    "escalation.paths": ("ClimbPath", "Climbed"),
    "people.register": ("Assignment", "Member", "Register"),
    "people.signins": ("SignIn",),
    "store.entries": ("Entry",),
    "workspace.journal": ("Event", "History"),
    "workspace.memory": ("MemoryStorage",),
    "workspace.plans": ("Plan", "RefusedError"),
    "workspace.storage": ("BusyError", "ChangedMeanwhileError", "Planned", "Remembered", "Storage"),
}

# answers are drawn by the room that draws, which none of the rooms below it knows
_printing.draw_with(text=_shown.as_text, html=_shown.as_html, report=_shown.as_report)

if not TYPE_CHECKING:
    __getattr__ = lazily(__name__, _NAMES)


def __dir__() -> list[str]:
    """Name what is public."""
    return [*__all__, "__version__"]
