"""The inks of figures, on light and on dark ground."""

from __future__ import annotations

from typing import Final

LIGHT: Final = {
    "ground": "#ffffff",
    "ink": "#1b2127",
    "dim": "#5a6570",
    "faint": "#dde3e8",
    "band": "#f3f5f7",
    "yes": "#0b5fa5",
    "gain": "#00704f",
    "loss": "#b23c00",
    "warn": "#855c00",
}
DARK: Final = {
    "ground": "#14191e",
    "ink": "#e9edf0",
    "dim": "#a5afb9",
    "faint": "#343d46",
    "band": "#1c2329",
    "yes": "#74b8f5",
    "gain": "#52cda6",
    "loss": "#ff966b",
    "warn": "#e2b548",
}
"""The inks of a sheet on light and on dark ground: blue, green, red-orange, ochre; all can be told apart."""
