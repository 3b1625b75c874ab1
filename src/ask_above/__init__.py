"""Ask Above: member ranks, what they may do in every place, and who stands above whom.

>>> from ask_above import VISITOR, Community
>>> community = Community.demo()
>>> bool(community.may(VISITOR, "place.see", at="notices"))
True
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from ask_above.version import __version__ as __version__

if TYPE_CHECKING:
    from ask_above.ask.expect import Unmet
    from ask_above.change.draft import EditError
    from ask_above.charter.charter import Charter
    from ask_above.charter.expectations import Expectation
    from ask_above.charter.ladder import Rank
    from ask_above.charter.places import Place
    from ask_above.community import Community
    from ask_above.decide.answer import Answer, Step
    from ask_above.decide.decider import VISITOR
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
    from ask_above.workspace.home import ChangedMeanwhileError
    from ask_above.workspace.plans import RefusedError

__all__ = [
    "VISITOR",
    "Answer",
    "AskAboveError",
    "Assignment",
    "ChangedMeanwhileError",
    "Charter",
    "Community",
    "EditError",
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
    "RefusedError",
    "Register",
    "Step",
    "UnknownNameError",
    "Unmet",
]


_WHERE = {
    "VISITOR": "decide.decider",
    "Answer": "decide.answer",
    "AskAboveError": "errors",
    "Assignment": "people.register",
    "ChangedMeanwhileError": "workspace.home",
    "Charter": "charter.charter",
    "Community": "community",
    "EditError": "change.draft",
    "Expectation": "charter.expectations",
    "Fault": "errors",
    "FaultyFilesError": "errors",
    "Looks": "decide.looks",
    "Member": "people.register",
    "MissingFileError": "errors",
    "MomentError": "errors",
    "PerkHeld": "decide.looks",
    "Place": "charter.places",
    "QuestionError": "errors",
    "Rank": "charter.ladder",
    "RefusedError": "workspace.plans",
    "Register": "people.register",
    "Step": "decide.answer",
    "UnknownNameError": "errors",
    "Unmet": "ask.expect",
}


if not TYPE_CHECKING:

    def __getattr__(name: str) -> Any:
        """Import a public name when it is first used, so that the command line starts fast."""
        if name not in _WHERE:
            raise AttributeError(f"module 'ask_above' has no attribute '{name}'")
        value = getattr(import_module(f"ask_above.{_WHERE[name]}"), name)
        globals()[name] = value
        return value


def __dir__() -> list[str]:
    """Name what is public."""
    return [*__all__, "__version__"]
