"""The form of a charter: every key, what may stand there, and what it is for.

The tables below are the format. Reading is held to them, and the reference of the format repeats them.
"""

from __future__ import annotations

from ask_above.charter.catalogue import RISKS
from ask_above.charter.ladder import HELD_BY, SETTLE
from ask_above.charter.reading.shapes import (
    CapabilityKey,
    Choice,
    Field,
    Key,
    Later,
    ListOf,
    Mapped,
    OneOrMore,
    Record,
    Shape,
    TextField,
    Whole,
    YesNo,
    Zone,
)
from ask_above.charter.rules import DISAGREEMENT, HAND_ON, Over

_WORDS = ListOf(TextField())
_NAMES = ListOf(TextField())
_SOME_NAMES = ListOf(TextField(), 1)
_ENTRY = Record(
    "an override or exception",
    {
        "allow": Field(_WORDS, "capabilities that are allowed here"),
        "deny": Field(_WORDS, "capabilities that are denied here; a nearer place may allow them"),
        "bar": Field(_WORDS, "capabilities that are denied here and below; nothing overrides it"),
    },
)
_OVERRIDES = Mapped(_ENTRY, Key("rank or group"), ranges=True)
_EXCEPTIONS = Mapped(_ENTRY, Key("member"))
_GATE = Record(
    "a gate",
    {
        "any": Field(_SOME_NAMES, "at least one of these groups and ranks"),
        "all": Field(_SOME_NAMES, "all of these"),
        "none": Field(_SOME_NAMES, "not one of these"),
        "teaser": Field(YesNo(), "others may know of the place"),
    },
)
_DIFFERS: dict[str, Field] = {
    "overrides": Field(_OVERRIDES, "what differs here for a rank, rank+ or group"),
    "exceptions": Field(_EXCEPTIONS, "what differs here for one member"),
    "gate": Field(_GATE, "who may enter at all"),
    "like": Field(_NAMES, "override sets that hold here too"),
}


def _place() -> Shape:
    return PLACE


PLACE = Record(
    "a place",
    {
        "key": Field(Key("place"), "its key", required=True),
        "title": Field(TextField(), "what people call it"),
        "about": Field(TextField(), "what it is for"),
        "kind": Field(Key("kind", free=True), "what kind of place it is, such as board", required=True),
        **_DIFFERS,
        "places": Field(ListOf(Later(_place)), "the places in it"),
    },
    partial=True,
)

SITE_FORM = Record("the site", _DIFFERS)

_ACT: dict[str, Field] = {
    "using": Field(TextField(), "the capability it takes"),
    "over": Field(Choice(tuple(Over)), "whom it reaches: those below (where left out), those level too, or anyone"),
}
_HAND_ON = Field(Choice(HAND_ON), "which capabilities may be handed on: held (where left out), or any")

RULES = Record(
    "rules",
    {
        "timezone": Field(Zone(), "the time zone of dates without an offset; UTC where left out"),
        "disagreement": Field(
            Choice(DISAGREEMENT), "whose word stands where a member's ranks disagree; topmost where left out"
        ),
        "seeing": Field(TextField(), "the capability that everything below the site rests on"),
        "authority": Field(
            Record(
                "rules.authority",
                {
                    "moderate": Field(
                        Record("moderate", {**_ACT, "using": Field(OneOrMore(TextField()), "what moderating takes")}),
                        "acting on a member",
                    ),
                    "assign": Field(
                        Record(
                            "assign",
                            {
                                **_ACT,
                                "hand-on": _HAND_ON,
                                "self": Field(YesNo(), "whether members may assign ranks to themselves"),
                            },
                        ),
                        "assigning ranks",
                    ),
                    "manage": Field(Record("manage", {**_ACT, "hand-on": _HAND_ON}), "managing ranks"),
                },
            ),
            "what the acts take",
        ),
        "overrides": Field(
            Record("rules.overrides", {**_ACT, "hand-on": _HAND_ON}), "changing what differs at a place"
        ),
        "accounts": Field(
            Record(
                "rules.accounts",
                {
                    "using": _ACT["using"],
                    "naming": Field(
                        OneOrMore(TextField()), "capabilities of moderating with which a name may be changed as well"
                    ),
                },
            ),
            "changing a member's account",
        ),
        "contacts": Field(TextField(), "the pair of capabilities to see own, or all, contact details"),
        "call": Field(Record("rules.call", {"using": _ACT["using"]}), "calling a closed rank"),
        "advice": Field(
            Record(
                "rules.advice",
                {
                    "most-unbounded": Field(Whole(), "how many may have an unbounded rank; 2 where left out"),
                    "most-high-risk": Field(Whole(), "how many may have a high-risk capability; 5 where left out"),
                    "silent": Field(
                        Mapped(TextField(), Key("piece of advice", free=True)), "advice code: why it may stay"
                    ),
                },
            ),
            "what advice is to say",
        ),
    },
)

_RELATED = ListOf(CapabilityKey())
CAPABILITY = Record(
    "a capability",
    {
        "about": Field(TextField(), "what it permits: write posts; own | all where it is authored"),
        "kinds": Field(ListOf(Key("kind", free=True), 1), "the kinds of place where it applies"),
        "risk": Field(Choice(RISKS), "how harmful misuse is; low where left out"),
        "authored": Field(YesNo(), "declares two: on own things and on everybody's"),
        "implies": Field(_RELATED, "granted with it"),
        "needs": Field(_RELATED, "it has no effect without these"),
        "leads-to": Field(_RELATED, "what it can be used to obtain"),
    },
    short="about",
)
CAPABILITIES = Mapped(Mapped(CAPABILITY))

_RANK_LIST = Record(
    "a list of ranks",
    {"only": Field(_SOME_NAMES, "these ranks and no others"), "except": Field(_SOME_NAMES, "all ranks but these")},
)

RANK = Record(
    "a rank",
    {
        "key": Field(Key("rank"), "its key", required=True),
        "title": Field(TextField(), "what people call it"),
        "about": Field(TextField(), "what its holders are here for"),
        "held-by": Field(Choice(HELD_BY), "for whom it is automatic"),
        "builds-on": Field(_NAMES, "ranks whose capabilities it takes over"),
        "copied-from": Field(TextField(), "the rank it started from"),
        "grants": Field(_WORDS, "what it grants"),
        "withhold": Field(_WORDS, "what it does not grant of that"),
        "unbounded": Field(YesNo(), "may do everything, whatever else is set"),
        "moderates": Field(_RANK_LIST, "whom it may moderate"),
        "assigns": Field(_RANK_LIST, "which ranks it may assign and unassign"),
        "manages": Field(_RANK_LIST, "which ranks it may manage"),
        "call": Field(Choice(("open", "closed")), "who may call it"),
        "open": Field(YesNo(), "members may join and leave it themselves"),
        "on-joining": Field(YesNo(), "assigned to everyone who becomes active"),
        "entry": Field(YesNo(), "the rank of pending members"),
        "paused": Field(YesNo(), "nobody has it for now; assignments stay"),
        "kept-by": Field(TextField(), "what outside keeps it: nobody here may edit, assign or remove it"),
        "after": Field(_NAMES, "ranks that it requires"),
        "apart-from": Field(_NAMES, "ranks that nobody may have beside it"),
        "limit": Field(Whole(), "how many members may have it"),
        "heading": Field(YesNo(), "whether it is a heading in the list of members"),
        "color": Field(TextField(), "the colour of members' names"),
        "badge": Field(TextField(), "a sign beside the name"),
        "prefix": Field(TextField(), "words before the name"),
        "perks": Field(Mapped(TextField(), Key("perk", free=True)), "what it brings that is no capability"),
    },
)

GROUP = Record(
    "a group",
    {
        "key": Field(Key("group"), "its key", required=True),
        "title": Field(TextField(), "what people call it"),
        "about": Field(TextField(), "who they are"),
        "includes": Field(_NAMES, "groups whose members belong to it too"),
        "confers": Field(
            ListOf(
                Record(
                    "a rank that a group confers",
                    {"rank": Field(TextField(), "the rank", required=True), "place": Field(TextField(), "where")},
                    short="rank",
                )
            ),
            "ranks that its members have",
        ),
    },
)

PERK = Record(
    "a perk",
    {
        "about": Field(TextField(), "what it is"),
        "settle": Field(Choice(SETTLE), "how the values of several ranks become one", required=True),
        "default": Field(TextField(), "the value where no rank says one"),
    },
)

CHARTER = Record(
    "the charter",
    {
        "charter": Field(Choice(("1",)), "the version of this format: 1", required=True),
        "key": Field(Key("community", free=True), "the key of the community", required=True),
        "title": Field(TextField(), "what people call it"),
        "owner": Field(Key("member"), "the member who may do everything"),
        "rules": Field(RULES, "how the charter is read"),
        "capabilities": Field(CAPABILITIES, "heading, capability, its meaning", required=True),
        "nobody": Field(_RELATED, "capabilities that no rank may grant"),
        "add-ons": Field(ListOf(TextField()), "files beside this one that bring more capabilities"),
        "bundles": Field(Mapped(_WORDS, Key("bundle")), "named sets of capabilities"),
        "perks": Field(Mapped(PERK, Key("perk", free=True)), "what ranks may bring that is no capability"),
        "ranks": Field(ListOf(RANK), "the ladder, highest first", required=True),
        "groups": Field(ListOf(GROUP), "sets of members"),
        "override-sets": Field(Mapped(_OVERRIDES, Key("override set", free=True)), "prepared overrides"),
        "site": Field(SITE_FORM, "what differs for the whole site"),
        "kinds": Field(ListOf(Key("kind", free=True), 1), "the kinds of place there are: any other is a fault"),
        "places": Field(ListOf(PLACE), "sections, channels, boards and pages"),
        "expectations": Field(ListOf(TextField()), "what must stay true"),
    },
    partial=True,
)

ADD_ON = Record(
    "an add-on",
    {
        "add-on": Field(Key("add-on", free=True), "its key", required=True),
        "title": Field(TextField(), "what people call it"),
        "capabilities": Field(CAPABILITIES, "heading, capability, its meaning", required=True),
    },
    partial=True,
)
