"""Write the demo community to a folder, and show the main steps on it."""

from __future__ import annotations

from pathlib import Path

from ask_above.community import Community
from ask_above.errors import AskAboveError
from ask_above.show.answers import show_answer
from ask_above.show.audit import show_audit
from ask_above.show.check import show_check
from ask_above.show.screen import Screen

COMMUNITY = ("charter.yaml", "gauges.yaml", "members.csv", "assignments.csv", "signins.csv")
FILES = (*COMMUNITY, "actions.csv.gz")
SOURCE = Path(__file__).parent / "wren-valley"


class DemoExistsError(AskAboveError, FileExistsError):
    """Files that the demo would overwrite are there already and are not the demo's."""

    def __str__(self) -> str:
        return str(self.args[0])


def write_demo(folder: Path) -> list[str]:
    """Write the demo's files and return their names; none where they are all there already, unchanged or edited.

    Raises :class:`DemoExistsError` where only some of them are there: nothing of anyone's is overwritten.
    """
    present = [name for name in FILES if (folder / name).exists()]
    if set(COMMUNITY) <= set(present):
        return []
    if present or (folder.exists() and not folder.is_dir()):
        what = f"'{folder}' holds {', '.join(present)} already" if present else f"'{folder}' is a file"
        raise DemoExistsError(f"{what}; nothing was written. Name another folder: ask-above demo DIR")
    folder.mkdir(parents=True, exist_ok=True)
    for name in FILES:
        (folder / name).write_bytes((SOURCE / name).read_bytes())
    return list(FILES)


def walk(screen: Screen, community: Community, folder: str) -> None:
    """Show the main steps on the demo: check, explain the three mistakes found, audit, what to type next."""
    unmet = community.unmet()
    _title(screen, "1. Check the expectations of the charter", f"ask-above check --community {folder}")
    show_check(screen, community.decider, unmet, explain=False)
    _title(
        screen,
        "2. The order is power: a board host may not mute a founding friend",
        f"ask-above may bram moderate otto --at river-talk --using member.mute --community {folder}",
    )
    show_answer(screen, community.may_moderate("bram", "otto", at="river-talk", using="member.mute"))
    _said(
        screen, "Founding friend grants nothing, but it stands above Board host on the ladder, and 30 members have it."
    )
    _title(
        screen,
        "3. The place overrides the rank: a volunteer may not enter a reading at the lower gauges",
        f"ask-above may dara reading.post --at lower-gauges --community {folder}",
    )
    show_answer(screen, community.may("dara", "reading.post", at="lower-gauges"))
    _said(screen, "The rank grants it, but a forgotten override of the place denies it.")
    _title(
        screen,
        "4. Withheld, but granted elsewhere: who may add photos",
        f"ask-above who photo.upload --at photo-wall --community {folder}",
    )
    frame = community.who("photo.upload", at="photo-wall")
    screen.line(f"{len(frame)} of {len(community.register.members)} members may. One of them:")
    show_answer(screen, community.may("dara", "photo.upload", at="photo-wall"))
    _said(screen, "Member withholds it, but Volunteer grants it too.")
    _title(
        screen,
        "5. A year of actions, compared with what was allowed",
        f"ask-above audit {folder}/actions.csv.gz --community {folder}",
    )
    audit = community.audit(SOURCE / "actions.csv.gz")
    show_audit(screen, audit)
    _said(
        screen,
        "A host acted for half an hour after the assignment ended, a feed wrote notices for two days, and a capability "
        "of the hosts was never used. The charter shows none of this.",
    )
    _next(screen, folder)


def _title(screen: Screen, text: str, typed: str) -> None:
    screen.head(text)
    screen.line(f"$ {typed}", "place")


def _said(screen: Screen, text: str) -> None:
    screen.paragraph(f"→ {text}", rest="  ", style="warn")


def _next(screen: Screen, folder: str) -> None:
    screen.head("Next steps")
    for typed in (
        f"cd {folder}",
        "ask-above ladder                 the ranks, and who has each",
        "ask-above grid --at notices      what each rank may use there",
        "ask-above powers moderate        which ranks may moderate which",
        "ask-above tour bram              the site as Bram finds it",
        "ask-above may dara reading.post --at lower-gauges --ways      what would allow it",
        "ask-above check                  after an edit of charter.yaml",
    ):
        screen.line(f"  {typed}")
