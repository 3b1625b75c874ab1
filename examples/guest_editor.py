"""Who gets what for how long: a guest editor for one section, asked about before, during and after.

Run it anywhere: it opens the demo community that ships with the package.
"""

from __future__ import annotations

from datetime import date

from ask_above import Community


def main() -> None:
    """Ask the same question on three days, then see who may publish now."""
    community = Community.demo()
    for day in (date(2026, 10, 31), date(2026, 11, 1), date(2027, 2, 1)):
        answer = community.may("arne", "post.publish", at="review", when=day)
        print(f"{day:%d %b %Y}: {'yes' if answer else 'no'} - {answer.reason}")
    print()
    print("Who may publish on the front page in the middle of the winter:")
    for row in community.who("post.publish", at="front-page", when=date(2027, 1, 15)).itertuples():
        print(f"  {row.name} ({row.ranks})")


if __name__ == "__main__":
    main()
