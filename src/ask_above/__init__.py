"""Ask Above: member ranks, what they may do in every place, and who stands above whom.

>>> from ask_above import VISITOR, Community
>>> community = Community.demo()
>>> bool(community.may(VISITOR, "place.see", at="notices"))
True
"""

from __future__ import annotations

from ask_above.ask.expect import Unmet
from ask_above.charter.charter import Charter
from ask_above.charter.expectations import Expectation
from ask_above.charter.ladder import Rank
from ask_above.charter.places import Place
from ask_above.community import VISITOR, Community
from ask_above.decide.answer import Answer, Step
from ask_above.decide.looks import Looks, PerkHeld
from ask_above.errors import (
    AskAboveError,
    Fault,
    FaultyFilesError,
    MissingFileError,
    MomentError,
    QuestionError,
    UnknownNameError,
)
from ask_above.people.register import Assignment, Member, Register

__all__ = [
    "VISITOR",
    "Answer",
    "AskAboveError",
    "Assignment",
    "Charter",
    "Community",
    "Expectation",
    "Fault",
    "FaultyFilesError",
    "Looks",
    "Member",
    "MissingFileError",
    "MomentError",
    "PerkHeld",
    "Place",
    "QuestionError",
    "Rank",
    "Register",
    "Step",
    "UnknownNameError",
    "Unmet",
]

__version__ = "0.1.0"
