"""Why the board host cannot calm a founding friend: the ladder asked, the table read, the reason told.

Run it anywhere: it opens the demo community that ships with the package.
"""

from __future__ import annotations

from ask_above import Community


def main() -> None:
    """Read the table of powers, then ask for the reason of one no."""
    community = Community.demo()
    powers = community.powers("moderate", at="river-talk")
    reached = [key for key, yes in powers.loc["host"].items() if yes]
    print(f"A board host may moderate: {', '.join(map(str, reached))}")
    print()
    print(community.may_moderate("bram", "dara", at="river-talk", using="member.mute"))
    print()
    unmet = community.unmet()
    print(f"{len(unmet)} of {len(community.charter.expectations)} expectations do not hold:")
    for each in unmet:
        print(f"  {each.expectation.text} ({each.expectation.where})")


if __name__ == "__main__":
    main()
