"""Figures: each takes axes of Matplotlib and gives them back, or makes a figure as large as it takes.

>>> from ask_above import Community
>>> from ask_above.show import figures
>>> axes = figures.powers(Community.demo(), dark=True)
>>> axes.figure.get_facecolor()[:3] == (1.0, 1.0, 1.0)
False
"""

from __future__ import annotations

from ask_above.show.figures.climb import climb
from ask_above.show.figures.cover import cover
from ask_above.show.figures.files import write
from ask_above.show.figures.grid import grid
from ask_above.show.figures.impact import impact
from ask_above.show.figures.ladder import ladder
from ask_above.show.figures.places import places
from ask_above.show.figures.powers import powers
from ask_above.show.figures.usage import usage

__all__ = ["climb", "cover", "grid", "impact", "ladder", "places", "powers", "usage", "write"]
